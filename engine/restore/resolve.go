package restore

import (
	"context"
	"errors"

	"velvetrewind/core/moment"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/changes"
)

// Plan resolves a moment and works out the restore. note is as Journal.Resolve says.
func Plan(ctx context.Context, a *archive.Archive, j *changes.Journal, m moment.Moment) (p plan.Restore, note string, err error) {
	if len(a.Bases) == 0 && len(a.Lost.Backups) > 0 {
		return p, "", problem.New(problem.OutOfReach,
			"Take one with: velvet backup take "+a.Cluster.Name+"\nor fix the store, and have it read again: velvet store audit --full",
			"the moment is out of reach", "an audit found that no base backup of %s can be read", a.Cluster.Name)
	}
	if len(a.Bases) == 0 {
		return p, "", problem.New(problem.OutOfReach, "Take one with: velvet backup take "+a.Cluster.Name,
			"the moment is out of reach", "%s has no base backup yet", a.Cluster.Name)
	}
	b, note, err := j.Resolve(ctx, m)
	if err != nil {
		return p, "", err
	}
	p, err = Make(a, m, b)
	return p, note, err
}

// Make works out the restore to a boundary.
func Make(a *archive.Archive, m moment.Moment, b moment.Boundary) (plan.Restore, error) {
	p, err := plan.Make(b, a.Bases, a.Ancestors, a.Cluster.SegmentSize, a.Has)
	var impossible *plan.Impossible
	if errors.As(err, &impossible) {
		return p, a.OutOfReach(m, impossible.Reason)
	}
	return p, err
}
