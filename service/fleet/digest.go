package fleet

import (
	"context"
	"time"

	"velvetrewind/core/rehearsal"
	"velvetrewind/service/shapes"
)

// Digest consolidates the rehearsals of all clusters over so many days.
func (r *Reader) Digest(ctx context.Context, days int) (d rehearsal.Digest, err error) {
	f, err := r.Of(ctx, "")
	if err != nil {
		return d, err
	}
	from := f.Now.AddDate(0, 0, -days)
	list, err := r.Catalog.Rehearsals(ctx, "", from)
	if err != nil {
		return d, err
	}
	runs := make(map[string][]rehearsal.Run)
	for i := range list {
		runs[list[i].ClusterID] = append(runs[list[i].ClusterID], shapes.RehearsalRun(&list[i]))
	}
	var subjects []rehearsal.Subject
	for _, k := range f.Calendar.Clusters {
		v, err := f.View(k)
		if err != nil {
			return d, err
		}
		s := rehearsal.Subject{Name: k.Name, Runs: runs[k.ID],
			Objective: rehearsal.Objective{
				Back: time.Duration(k.BackWithin) * time.Second,
				Lose: time.Duration(k.LosingAtMost) * time.Second,
			}}
		if v.Promise.HeldFrom != nil {
			s.Reach = *v.Promise.HeldFrom
		}
		if s.Promised = v.Promise.Since; s.Promised.Before(k.CreatedAt) {
			s.Promised = k.CreatedAt
		}
		subjects = append(subjects, s)
	}
	return rehearsal.Consolidate(subjects, from, f.Now), nil
}
