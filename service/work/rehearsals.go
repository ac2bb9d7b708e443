package work

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/rehearsal"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/schedule"
	"velvetrewind/service/events"
)

// rehearse makes a copy, proves it, records what that took, and discards it. A copy that cannot be made, or that is not right,
// is the outcome of the rehearsal; the task has done what it was to do.
func (w *Worker) rehearse(ctx context.Context, t catalog.Task, _ Rehearse, report task.Report) (any, error) {
	r, err := w.Catalog.Rehearsal(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	cluster, err := w.Catalog.Cluster(ctx, r.ClusterID)
	if err != nil {
		return nil, err
	}
	r.Lost = -1
	err = w.attempt(ctx, t, cluster, &r, report)
	if e := w.removeAside(context.WithoutCancel(ctx), t); e != nil {
		report.Warn("the copy could not be removed: %v", e)
	}
	switch {
	case ctx.Err() != nil:
		r.Outcome = string(rehearsal.Cancelled)
	case err != nil:
		r.Outcome, r.Cause = string(rehearsal.NoCopy), reason(err)
		report.Warn("no copy: %v", err)
	}
	if err := w.Catalog.EndRehearsal(context.WithoutCancel(ctx), r); err != nil {
		return nil, err
	}
	w.Events.Publish(events.Cluster, cluster.ID)
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if rehearsal.TryAgain(rehearsal.Outcome(r.Outcome), r.Try) {
		report.Log("it is tried again in %s", rehearsal.AgainAfter)
		_, err := w.Catalog.AskRehearsal(ctx, catalog.Rehearsal{ClusterID: cluster.ID, Pick: r.Pick, AskedBy: "tried again",
			NotBefore: time.Now().Add(rehearsal.AgainAfter), Try: r.Try + 1})
		if err != nil {
			return nil, err
		}
	}
	return map[string]any{"rehearsal": r.ID, "outcome": r.Outcome, "proof": r.ProofID}, nil
}

// reason is a problem in one sentence.
func reason(err error) string {
	var p *problem.Problem
	if errors.As(err, &p) && p.Detail != "" {
		return p.Title + ": " + p.Detail
	}
	return err.Error()
}

// attempt fills in the outcome; an error is that there was no copy to prove.
func (w *Worker) attempt(ctx context.Context, t catalog.Task, cluster catalog.Cluster, r *catalog.Rehearsal, report task.Report) error {
	text, err := w.pick(ctx, cluster, r)
	if err != nil {
		return err
	}
	r.Moment = text
	report.Log("rehearsing a restore of %s to %s (%s)", cluster.Name, text, r.Pick)
	if r.Pick == catalog.PickLatest {
		capture, err := w.Catalog.Capture(ctx, cluster.ID)
		if err != nil {
			return err
		}
		if age, known := capture.CompleteAge(w.Now()); known {
			r.Lost = max(age, 0).Microseconds()
		}
	}
	k, restore, err := w.beginRehearsal(ctx, t, cluster, r, text)
	if err != nil {
		return err
	}
	if err := w.Copies.Make(ctx, cluster, k, restore, report); err != nil {
		return err
	}
	if k, err = w.Catalog.Copy(ctx, k.ID); err != nil {
		return err
	}
	r.LaidOut, r.Replayed = k.LaidOutAt.Time.Sub(k.BegunAt.Time).Microseconds(), k.ArrivedAt.Time.Sub(k.LaidOutAt.Time).Microseconds()
	began := time.Now()
	p, checks, err := w.prove(ctx, t, cluster, k, "rehearsal, "+r.AskedBy, report)
	r.Proved = time.Since(began).Microseconds()
	if err != nil {
		return err
	}
	r.ProofID, r.Outcome = p.ID, p.Verdict
	for _, v := range []proof.Verdict{proof.Failed, proof.CouldNotRun} {
		for _, c := range checks {
			if c.Verdict == v && r.Cause == "" {
				r.Cause = c.Name + ": " + c.Summary
			}
		}
	}
	return nil
}

// beginRehearsal plans the restore, records the copy, which nobody is shown, and says how long it should take.
func (w *Worker) beginRehearsal(ctx context.Context, t catalog.Task, cluster catalog.Cluster, r *catalog.Rehearsal, text string) (
	k catalog.Copy, p plan.Restore, err error) {
	_, p, replays, err := w.Planner.Plan(ctx, cluster.Name, text, "UTC")
	if err != nil {
		return k, p, err
	}
	base, err := w.Catalog.Backup(ctx, p.Base)
	if err != nil {
		return k, p, err
	}
	r.BackupID, r.Bytes, r.WAL = base.ID, base.BytesHeld, p.Replay
	past, err := w.Catalog.Rehearsals(ctx, cluster.ID, time.Time{})
	if err != nil {
		return k, p, err
	}
	if m, ok := rehearsal.Learn(Measurements(past)).Estimate(base.BytesHeld, p.Replay); ok {
		r.Estimate = m.Total().Microseconds()
	}
	if k, err = w.Copies.Prepare(ctx, cluster, p, copies.Wish{Name: "rehearsal-" + t.ID}); err != nil {
		return k, p, err
	}
	k.Beside, k.TaskID = r.ID, t.ID
	return k, p, w.Catalog.AddCopy(ctx, k, replays)
}

// Measurements are what rehearsals took whose copy came to stand, in their order.
func Measurements(list []catalog.Rehearsal) (all []rehearsal.Measured) {
	for i := range list {
		if m := measured(&list[i]); list[i].ProofID != "" {
			all = append(all, m)
		}
	}
	return all
}

func measured(r *catalog.Rehearsal) rehearsal.Measured {
	return rehearsal.Measured{LaidOut: time.Duration(r.LaidOut) * time.Microsecond, Replayed: time.Duration(r.Replayed) * time.Microsecond,
		Proved: time.Duration(r.Proved) * time.Microsecond, Bytes: r.Bytes, WAL: r.WAL}
}

// pick says in the moment language what is rehearsed.
func (w *Worker) pick(ctx context.Context, cluster catalog.Cluster, r *catalog.Rehearsal) (string, error) {
	if r.Pick != catalog.PickRandom && r.Pick != catalog.PickOldest {
		return r.Pick, nil
	}
	o, err := w.Planner.Open(ctx, cluster.Name)
	if err != nil {
		return "", err
	}
	rule, _, err := schedule.EffectiveRule(ctx, w.Catalog, cluster)
	if err != nil {
		return "", err
	}
	promised, complete := w.Now().Add(-rule.Span()), o.Archive.Capture.CompleteTo
	var spans [][2]time.Time
	list, _ := o.Archive.Reach()
	for _, s := range list {
		from, to := s.FromTime, s.ToTime
		if s.Timeline != o.Archive.Timeline {
			continue
		}
		if sure := complete.Time.Add(-changes.Settle); complete.Valid && sure.Before(to) { // what is after it is not surely all here
			to = sure
		}
		if promised.After(from) {
			from = promised
		}
		if to.After(from) {
			spans = append(spans, [2]time.Time{from, to})
		}
	}
	if len(spans) == 0 {
		return catalog.PickLatest, nil // nothing was committed since the base backup
	}
	at := spans[0][0]
	if r.Pick == catalog.PickRandom {
		at, _ = rehearsal.Random(spans, rand.New(rand.NewPCG(rand.Uint64(), rand.Uint64()))) // no secret
	}
	for _, s := range spans {
		if r.Pick == catalog.PickOldest && s[0].Before(at) {
			at = s[0]
		}
	}
	return at.UTC().Format("2006-01-02 15:04:05.000000 UTC"), nil
}

// undoRehearsal removes what a rehearsal made whose instance died, and asks for it again.
func (w *Worker) undoRehearsal(ctx context.Context, t catalog.Task) (bool, error) {
	if err := w.removeAside(ctx, t); err != nil {
		return false, err
	}
	r, err := w.Catalog.Rehearsal(ctx, t.Subject)
	if err != nil {
		return false, err
	}
	if r.EndedAt.Valid {
		return true, nil
	}
	r.Outcome, r.Cause = string(rehearsal.Cancelled), "the service ended while it ran"
	if err := w.Catalog.EndRehearsal(ctx, r); err != nil {
		return false, err
	}
	_, err = w.Catalog.AskRehearsal(ctx, catalog.Rehearsal{ClusterID: r.ClusterID, Pick: r.Pick, AskedBy: r.AskedBy, NotBefore: time.Now(),
		Try: r.Try})
	return false, err
}

// forgetRehearsal ends one that was cancelled before it began.
func (w *Worker) forgetRehearsal(ctx context.Context, t catalog.Task) (bool, error) {
	r, err := w.Catalog.Rehearsal(ctx, t.Subject)
	if err != nil {
		return false, err
	}
	r.Outcome = string(rehearsal.Cancelled)
	return false, w.Catalog.EndRehearsal(ctx, r)
}
