package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/prove"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/store"
	"velvetrewind/service/events"
	"velvetrewind/service/shapes"
)

func (w *Worker) proveCopy(ctx context.Context, t catalog.Task, _ Prove, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	p, _, err := w.prove(ctx, t, cluster, k, "", report)
	if err != nil {
		return nil, err
	}
	w.Events.Publish(events.Copy, k.ID)
	return map[string]any{"proof": p.ID, "verdict": p.Verdict}, nil
}

// prove proves a copy, keeps the report, and records the proof.
func (w *Worker) prove(ctx context.Context, t catalog.Task, cluster catalog.Cluster, k catalog.Copy, askedBy string, report task.Report) (
	p catalog.Proof, checks []proof.Check, err error) {
	prover, err := w.prover(ctx, t, cluster, k)
	if err != nil {
		return p, nil, err
	}
	started := time.Now()
	if checks, err = prover.Run(ctx, k, report); err != nil {
		return p, nil, err
	}
	encoded, err := json.Marshal(checks)
	if err != nil {
		return p, nil, err
	}
	p = catalog.Proof{
		ID: catalog.NewID(), CopyID: k.ID, ClusterID: cluster.ID, BackupID: k.BackupID, Moment: k.Moment, Plan: &k.Plan,
		Verdict: string(proof.Overall(checks)), AskedBy: askedBy,
		Checks: encoded, StartedAt: started, FinishedAt: time.Now(), TaskID: t.ID, Moves: k.Moves,
	}
	if err := w.keepReport(ctx, &p, cluster); err != nil {
		report.Warn("the report is not in the store: %v", err)
	}
	if err := w.Catalog.AddProof(ctx, p); err != nil {
		return p, nil, fmt.Errorf("record the proof: %w", err)
	}
	report.Log("verdict: %s", p.Verdict)
	return p, checks, nil
}

// earlierProofs is how many of the newest proofs a new one is compared with.
const earlierProofs = 5

// prover has what a proof of a cluster's copy needs.
func (w *Worker) prover(ctx context.Context, t catalog.Task, cluster catalog.Cluster, k catalog.Copy) (*prove.Prover, error) {
	p := &prove.Prover{Cluster: cluster, Store: w.Custody.Store}
	var err error
	if p.Host, err = w.Copies.Machine(k); err != nil {
		return nil, err
	}
	if p.Access, err = w.Logins.Access(cluster); err != nil {
		return nil, err
	}
	if p.Own, err = w.Catalog.OwnChecks(ctx, cluster.ID, ""); err != nil {
		return nil, err
	}
	proofs, err := w.Catalog.Proofs(ctx, cluster.ID, earlierProofs)
	if err != nil {
		return nil, err
	}
	for _, old := range proofs {
		if old.Plan == nil { // of an earlier version of this program
			continue
		}
		e := prove.Earlier{At: old.FinishedAt}
		if err := errors.Join(json.Unmarshal(*old.Plan, &e.Plan), json.Unmarshal(old.Checks, &e.Checks)); err != nil {
			return nil, err
		}
		p.Earlier = append(p.Earlier, e)
	}
	p.Open = func(ctx context.Context, t pg.Timeline) (*archive.Archive, *changes.Journal, error) {
		o, err := w.Planner.OpenOn(ctx, cluster.Name, t)
		return o.Archive, o.Journal, err
	}
	p.Aside = func(ctx context.Context, k catalog.Copy, report task.Report) (catalog.Copy, func(), error) {
		return w.copyAside(ctx, t, cluster, k, report)
	}
	return p, nil
}

// copyAside makes a second copy where one stands, and opens it. Nobody is shown it, and it goes with the task.
func (w *Worker) copyAside(ctx context.Context, t catalog.Task, cluster catalog.Cluster, of catalog.Copy, report task.Report) (
	k catalog.Copy, remove func(), err error) {
	var r plan.Restore
	if err := json.Unmarshal(of.Plan, &r); err != nil {
		return k, nil, err
	}
	o, err := w.Planner.OpenOn(ctx, cluster.Name, r.Boundary.Timeline)
	if err != nil {
		return k, nil, err
	}
	id := catalog.NewID()
	if k, err = w.Copies.Prepare(ctx, cluster, r, copies.Wish{Host: of.Host, Name: "proof-" + id}); err != nil {
		return k, nil, err
	}
	k.Beside, k.TaskID = of.ID, t.ID
	if err := w.Catalog.AddCopy(ctx, k, o.Replays(r)); err != nil {
		return k, nil, err
	}
	remove = func() {
		if e := w.removeAside(context.WithoutCancel(ctx), t); e != nil {
			report.Warn("the second copy could not be removed: %v", e)
		}
	}
	if err = w.Copies.Make(ctx, cluster, k, r, report); err == nil {
		if k, err = w.Catalog.Copy(ctx, k.ID); err == nil {
			err = w.Copies.Open(ctx, cluster, k, report)
		}
	}
	if err != nil {
		remove()
		return k, nil, err
	}
	k, err = w.Catalog.Copy(ctx, k.ID)
	return k, remove, err
}

// removeAside removes what a proof made for itself.
func (w *Worker) removeAside(ctx context.Context, t catalog.Task) error {
	list, err := w.Catalog.CopiesOfTask(ctx, t.ID)
	for _, k := range list {
		cluster, e := w.Catalog.Cluster(ctx, k.ClusterID)
		if e == nil {
			e = w.Copies.Remove(ctx, cluster, k)
		}
		err = errors.Join(err, e)
	}
	return err
}

// undoProof removes what a proof that did not end made for itself.
func (w *Worker) undoProof(ctx context.Context, t catalog.Task) (bool, error) {
	return false, w.removeAside(ctx, t)
}

// keepReport puts the report of a proof into the store, with the base backup that it is about, and its hash into the record.
func (w *Worker) keepReport(ctx context.Context, p *catalog.Proof, cluster catalog.Cluster) error {
	r, err := shapes.Report(ctx, w.Catalog, *p, cluster, w.Version)
	if err != nil {
		return err
	}
	page, err := r.HTML()
	if err != nil {
		return err
	}
	sum := sha256.Sum256(page)
	p.ReportHash = hex.EncodeToString(sum[:])
	if _, err := w.Catalog.Backup(ctx, p.BackupID); err != nil {
		return fmt.Errorf("the base backup has been dropped, and its reports with it")
	}
	key := store.ReportKey(cluster.ID, p.BackupID, p.ID)
	if _, err := w.Custody.Store.Put(ctx, key, w.Codec, page); err != nil {
		return err
	}
	if _, err := w.Catalog.Backup(ctx, p.BackupID); err != nil { // dropped meanwhile: nobody would look for it again
		return w.Custody.Store.Delete(ctx, key)
	}
	return nil
}
