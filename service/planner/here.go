package planner

import (
	"context"
	"path"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/engine/store"
)

// Here tells how many of the segments that a plan replays are in the store now, how many only in the spool, and which are in neither,
// whatever is recorded of them.
func (p *Planner) Here(ctx context.Context, cluster string, r plan.Restore) (stored, spooled int, missing []string, err error) {
	o, err := p.OpenOn(ctx, cluster, r.Boundary.Timeline)
	if err != nil {
		return 0, 0, nil, err
	}
	segments := r.Segments(o.Archive.Ancestors, o.Cluster.SegmentSize)
	there := make(map[string]bool)
	for t := range timelines(segments) {
		prefix := store.SegmentKey(o.Cluster.ID, t, "")
		err := p.Store.List(ctx, prefix, func(i store.Info) error {
			there[path.Base(i.Key)] = true
			return nil
		})
		if err != nil {
			return 0, 0, nil, err
		}
	}
	tails := o.Archive.Spooled(segments)
	for _, s := range segments {
		name := s.Name(o.Cluster.SegmentSize)
		inSpool := false
		for _, tail := range tails {
			inSpool = inSpool || tail.Segment == s
		}
		switch {
		case there[name]:
			stored++
		case inSpool:
			spooled++
		default:
			missing = append(missing, name)
		}
	}
	return stored, spooled, missing, nil
}

func timelines(segments []pg.Segment) map[pg.Timeline]bool {
	set := make(map[pg.Timeline]bool)
	for _, s := range segments {
		set[s.Timeline] = true
	}
	return set
}
