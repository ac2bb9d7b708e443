package tasks

import (
	"context"
	"errors"
	"time"

	"github.com/riverqueue/river/rivertype"

	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/events"
	"velvetrewind/service/problems"
)

// The queue rescues no job that may take as long as it takes. Whether the instance that runs one is alive is known from
// the lock of its number instead, which the catalogue's server frees with the connection.

// Recover puts right, again and again until ctx ends, what dead instances left.
func (q *Queue) Recover(ctx context.Context) {
	tick := time.NewTicker(lookForOrphans)
	defer tick.Stop()
	for {
		if err := q.recoverOnce(ctx); err != nil && ctx.Err() == nil {
			q.Log.Warn("recovering unfinished tasks failed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (q *Queue) recoverOnce(ctx context.Context) error {
	if err := q.keepLease(ctx); err != nil {
		return err
	}
	orphans, err := q.Catalog.Orphans(ctx)
	if err != nil {
		return err
	}
	// A restart of the catalogue takes every instance's lock for a moment: only who still looks dead at the next look is.
	before := q.suspects
	q.suspects = make(map[string]bool, len(orphans))
	for _, o := range orphans {
		q.suspects[o.ID] = true
		if before[o.ID] && o.Owner.Int64 != q.Instance {
			if err := q.putRight(ctx, o); err != nil {
				return err
			}
		}
	}
	if err := q.Catalog.DiscardEnded(ctx, time.Now().Add(-lookForOrphans)); err != nil {
		return err
	}
	return q.requeue(ctx)
}

// keepLease takes the lock of our number again if its connection was lost.
func (q *Queue) keepLease(ctx context.Context) error {
	if q.Lease.Held(ctx) {
		return nil
	}
	lease, err := q.Catalog.HoldInstance(ctx, q.Instance)
	if err != nil {
		return err
	}
	q.Lease.Release()
	q.Lease = lease
	return nil
}

// putRight undoes or finishes what a dead instance left of a task.
func (q *Queue) putRight(ctx context.Context, o catalog.Task) error {
	whole, err := q.kinds[o.Kind].undo(ctx, o)
	if err != nil {
		q.Log.Warn("what an interrupted task left could not be put right yet", "task", o.ID, "kind", o.Kind, "error", err)
		return nil
	}
	q.Log.Info("an interrupted task was put right", "task", o.ID, "kind", o.Kind, "whole", whole)
	if whole {
		err = q.Catalog.EndTask(ctx, o.ID, catalog.TaskDone, nil, nil)
	} else {
		p := problem.New(problem.Interrupted, "Start it again.", "the task was interrupted",
			"the service ended while it ran; what there was of it has been removed")
		err = q.Catalog.EndTask(ctx, o.ID, catalog.TaskFailed, nil, problems.Doc(p))
	}
	if err == nil && o.JobID.Valid {
		err = q.Catalog.DiscardJob(ctx, o.JobID.Int64)
	}
	q.Events.Publish(events.Task, o.ID)
	return err
}

// requeue puts tasks back that were taken from the queue by an instance that died before it began them. One that was
// taken twice is still begun once.
func (q *Queue) requeue(ctx context.Context) error {
	waiting, err := q.Catalog.Tasks(ctx, catalog.TaskFilter{State: catalog.TaskWaiting, Limit: 1000})
	if err != nil {
		return err
	}
	for _, t := range waiting {
		if time.Since(t.CreatedAt) < lookForOrphans || !t.JobID.Valid {
			continue
		}
		j, err := q.client.JobGet(ctx, t.JobID.Int64)
		switch {
		case errors.Is(err, rivertype.ErrNotFound):
		case err != nil:
			return err
		case j.State == rivertype.JobStateRunning && j.AttemptedAt != nil && time.Since(*j.AttemptedAt) > lookForOrphans:
			if err := q.Catalog.FreeJob(ctx, j.ID); err != nil {
				return err
			}
		}
	}
	return nil
}
