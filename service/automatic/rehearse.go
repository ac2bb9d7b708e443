package automatic

import (
	"context"
	"time"

	"velvetrewind/core/rehearsal"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/work"
)

// Rehearsals says what is rehearsed by itself.
type Rehearsals struct {
	Limits rehearsal.Limits // none at once: nothing is
	Hours  rehearsal.Hours  // by the service's clock
}

const rehearseEvery = 5 * time.Second

// Rehearse begins, again and again until ctx ends, rehearsals that were asked for, the cluster longest unproved first; and asks
// for one of each cluster that has its first base backup.
func (s *Starter) Rehearse(ctx context.Context) {
	s.every(ctx, rehearseEvery, "rehearsals were not begun", s.beginRehearsals)
}

func (s *Starter) beginRehearsals(ctx context.Context) error {
	c := s.Fleet.Catalog
	if err := c.TidyRehearsals(ctx); err != nil {
		return err
	}
	if s.Rehearsals.Limits.AtOnce > 0 {
		first, err := c.Unrehearsed(ctx)
		if err != nil {
			return err
		}
		for _, cluster := range first {
			_, err := c.AskRehearsal(ctx, catalog.Rehearsal{ClusterID: cluster, Pick: catalog.PickLatest, AskedBy: "first base backup",
				NotBefore: time.Now()})
			if err != nil {
				return err
			}
		}
	}
	open, err := c.OpenRehearsals(ctx)
	if err != nil || len(open) == 0 {
		return err
	}
	wishes, running, held, err := s.wishes(ctx, open)
	if err != nil || len(wishes) == 0 {
		return err
	}
	for _, w := range rehearsal.Next(wishes, running, held, s.Rehearsals.Limits) {
		if err := s.beginRehearsal(ctx, w.ID, w.Cluster); err != nil {
			return err
		}
	}
	return nil
}

// wishes are those that may begin now, with what runs.
func (s *Starter) wishes(ctx context.Context, open []catalog.Rehearsal) (list []rehearsal.Wish, running int, held int64, err error) {
	f, err := s.Fleet.Of(ctx, "")
	if err != nil {
		return nil, 0, 0, err
	}
	proved, err := s.Fleet.Catalog.LastProved(ctx)
	if err != nil {
		return nil, 0, 0, err
	}
	clusters := make(map[string]catalog.Cluster)
	for _, k := range f.Calendar.Clusters {
		clusters[k.ID] = k
	}
	now := time.Now()
	for _, r := range open {
		bytes := f.Standings.Newest[r.ClusterID].BytesHeld
		switch {
		case r.BegunAt.Valid:
			running, held = running+1, held+bytes
		case !r.NotBefore.After(now):
			k := clusters[r.ClusterID]
			list = append(
				list,
				rehearsal.Wish{ID: r.ID, Cluster: r.ClusterID, AskedAt: r.AskedAt, Proved: proved[r.ClusterID], Bytes: bytes,
					Quiet: !s.Rehearsals.Hours.Allow(now) || f.Calendar.Forbids(k, catalog.WorkRehearsal, f.Now)},
			)
		}
	}
	return list, running, held, nil
}

func (s *Starter) beginRehearsal(ctx context.Context, id, cluster string) error {
	begun, err := s.Fleet.Catalog.BeginRehearsal(ctx, id)
	if err != nil || !begun {
		return err
	}
	_, err = s.Tasks.SubmitAs(ctx, id, cluster, id, work.Rehearse{})
	return err
}
