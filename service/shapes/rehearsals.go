package shapes

import (
	"time"

	"velvetrewind/api"
	"velvetrewind/core/rehearsal"
	"velvetrewind/engine/catalog"
)

// Rehearsal shows a rehearsal; names has those of clusters by their ids.
func Rehearsal(r *catalog.Rehearsal, names map[string]string) api.Rehearsal {
	v := api.Rehearsal{
		ID:       r.ID,
		Cluster:  names[r.ClusterID],
		Pick:     r.Pick,
		AskedBy:  r.AskedBy,
		Try:      r.Try,
		Moment:   r.Moment,
		Backup:   r.BackupID,
		Proof:    r.ProofID,
		Outcome:  r.Outcome,
		Cause:    r.Cause,
		LaidOut:  seconds(r.LaidOut),
		Replayed: seconds(r.Replayed),
		Proved:   seconds(r.Proved),
		Bytes:    r.Bytes,
		WAL:      r.WAL,
	}
	if r.BegunAt.Valid {
		at := r.BegunAt.Time.UTC()
		v.BegunAt = &at
	}
	if r.EndedAt.Valid {
		at := r.EndedAt.Time.UTC()
		v.EndedAt = &at
	}
	if r.Lost >= 0 {
		lost := seconds(r.Lost)
		v.Lost = &lost
	}
	if r.Estimate > 0 {
		estimate := seconds(r.Estimate)
		v.Estimate = &estimate
	}
	return v
}

func seconds(microseconds int64) float64 { return float64(microseconds) / 1e6 }

// RehearsalRun is a rehearsal as core/rehearsal has it.
func RehearsalRun(r *catalog.Rehearsal) rehearsal.Run {
	us := func(n int64) time.Duration { return time.Duration(n) * time.Microsecond }
	run := rehearsal.Run{ID: r.ID, At: r.EndedAt.Time, Moment: r.Moment, Outcome: rehearsal.Outcome(r.Outcome), Cause: r.Cause, Try: r.Try,
		Lost: -1, Estimate: us(r.Estimate),
		Measured: rehearsal.Measured{LaidOut: us(r.LaidOut), Replayed: us(r.Replayed), Proved: us(r.Proved), Bytes: r.Bytes, WAL: r.WAL}}
	if r.Lost >= 0 {
		run.Lost = us(r.Lost)
	}
	return run
}

// Digest shows a digest.
func Digest(d *rehearsal.Digest) api.Digest {
	v := api.Digest{From: d.From.UTC(), To: d.To.UTC(), First: d.First(), Lines: make([]api.DigestLine, len(d.Lines))}
	moment := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		t = t.UTC()
		return &t
	}
	for i := range d.Lines {
		l := &d.Lines[i]
		line := api.DigestLine{
			Cluster:     l.Cluster,
			Standing:    string(l.Standing),
			Why:         l.Why,
			Reach:       moment(l.Reach),
			Promised:    moment(l.Promised),
			PromiseKept: l.PromiseKept,
			Runs:        l.Runs,
			Good:        l.Good,
			Back:        l.Back.Seconds(),
			Worst:       l.Worst.Seconds(),
			Kept:        l.Kept,
			Objective:   api.Objective{BackWithin: int(l.Objective.Back.Seconds()), LosingAtMost: int(l.Objective.Lose.Seconds())},
			Trend:       l.Trend,
			Failures:    []api.DigestFailure{},
			Days:        make(map[string]string, len(l.Days)),
		}
		if l.Lost >= 0 {
			lost := l.Lost.Seconds()
			line.Lost = &lost
		}
		if r := l.Last; r != nil {
			at := r.At.UTC()
			line.Last = &api.Rehearsal{
				ID:       r.ID,
				Cluster:  l.Cluster,
				EndedAt:  &at,
				Moment:   r.Moment,
				Outcome:  string(r.Outcome),
				Cause:    r.Cause,
				Try:      r.Try,
				LaidOut:  r.Measured.LaidOut.Seconds(),
				Replayed: r.Measured.Replayed.Seconds(),
				Proved:   r.Measured.Proved.Seconds(),
				Bytes:    r.Measured.Bytes,
				WAL:      r.Measured.WAL,
			}
		}
		for _, f := range l.Failures {
			line.Failures = append(line.Failures, api.DigestFailure{At: f.At.UTC(), Cause: f.Cause, Then: f.Then})
		}
		for day, o := range l.Days {
			line.Days[day] = string(o)
		}
		v.Lines[i] = line
	}
	return v
}
