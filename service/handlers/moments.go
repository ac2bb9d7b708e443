package handlers

import (
	"context"
	"errors"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/moment"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/rehearsal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/service/planner"
	"velvetrewind/service/problems"
	"velvetrewind/service/shapes"
	"velvetrewind/service/work"
)

// Moments says what moments mean and how they are reached, and changes nothing.
type Moments struct {
	Catalog *catalog.Catalog
	Planner *planner.Planner
	Copies  *copies.Maker
}

// Register registers the operations.
func (h *Moments) Register(api *Surface) {
	question(api, "/clusters/{cluster}/moment", "explain-moment",
		"Resolve a moment and explain what lies on both sides of it, changing nothing", h.explainMoment)
	question(api, "/clusters/{cluster}/plan", "plan-restore", "Resolve a moment and plan a restore, changing nothing",
		h.planRestore)
}

type momentIn struct {
	ClusterPath
	Body api.MomentRequest
}

type planIn struct {
	ClusterPath
	Body api.PlanRequest
}

func (h *Moments) planRestore(ctx context.Context, in *planIn) (*body[api.Restore], error) {
	k, p, _, err := h.Planner.Plan(ctx, in.Cluster, in.Body.Moment, in.Body.Zone)
	if err != nil {
		return nil, err
	}
	v := shapes.Restore(p)
	base, err := h.Catalog.Backup(ctx, p.Base)
	if err != nil {
		return nil, err
	}
	past, err := h.Catalog.Rehearsals(ctx, k.ID, time.Time{})
	if err != nil {
		return nil, err
	}
	if m, ok := rehearsal.Learn(work.Measurements(past)).Estimate(base.BytesHeld, p.Replay); ok {
		v.Estimate = &api.Estimate{LayOut: m.LaidOut.Seconds(), Replay: m.Replayed.Seconds(), Proof: m.Proved.Seconds()}
	}
	v.Site, err = h.site(ctx, k, p, in.Body.Host)
	return answer(v, err)
}

// site looks at where a copy would stand, and whether what it needs is here.
func (h *Moments) site(ctx context.Context, k catalog.Cluster, p plan.Restore, on string) (*api.Site, error) {
	var wish copies.Wish
	if on != "" {
		at, err := h.Catalog.Host(ctx, on)
		if err != nil {
			return nil, err
		}
		wish.Host = at.ID
	}
	s, err := h.Copies.Survey(ctx, k, p, wish)
	if err != nil {
		return nil, err
	}
	v := &api.Site{Host: on, Directory: s.Directory, User: s.User, Bytes: s.Bytes, Free: s.Free, Memory: s.Memory,
		Buffers: s.Buffers}
	v.Stored, v.Spooled, v.Missing, err = h.Planner.Here(ctx, k.Name, p)
	if len(v.Missing) > 0 {
		s.Obstacles = append(s.Obstacles, problem.New(problem.OutOfReach, "See what became of them: velvet store audit",
			"the copy cannot be made",
			"segments that it replays are recorded, and not in the store: %d, from %s on", len(v.Missing), v.Missing[0]))
	}
	v.Obstacles = shapes.Each(s.Obstacles, func(o error) api.Problem {
		if p := (*problem.Problem)(nil); errors.As(o, &p) {
			return *problems.Doc(p)
		}
		return *problems.Doc(problem.Wrap(o, problem.Failed, "the copy cannot be made", "See the service's log."))
	})
	return v, err
}

const usualAround = 8

func (h *Moments) explainMoment(ctx context.Context, in *momentIn) (*body[api.Moment], error) {
	m, err := h.Planner.Parse(ctx, in.Cluster, in.Body.Moment, in.Body.Zone)
	if err != nil {
		return nil, err
	}
	o, err := h.Planner.OpenOn(ctx, in.Cluster, m.Timeline)
	if err != nil {
		return nil, err
	}
	v := api.Moment{Moment: m.String()}
	if m.Kind == moment.AtTime {
		utc := m.Time.UTC()
		v.UTC = &utc
	}
	b, note, err := o.Journal.Resolve(ctx, m)
	if err != nil {
		return nil, err
	}
	v.Boundary, v.Note = shapes.Boundary(b), note
	cost, err := h.Planner.Undone(ctx, o, b)
	if err != nil {
		return nil, err
	}
	v.Cost = shapes.Cost(cost)
	n := in.Body.Around
	if n == 0 {
		n = usualAround
	}
	around, kept, err := o.Journal.Around(ctx, b.Keeps, b.Stop, n)
	if err != nil {
		return nil, err
	}
	v.Kept = kept
	if v.Around, err = transactionsOf(ctx, h.Catalog, o, around, false); err != nil {
		return nil, err
	}
	return answer(v, planOrWhy(&v, o.Archive, m, b))
}

// planOrWhy adds the plan of a restore, or why there can be none.
func planOrWhy(v *api.Moment, a *archive.Archive, m moment.Moment, b moment.Boundary) error {
	p, err := restore.Make(a, m, b)
	var why *problem.Problem
	if errors.As(err, &why) {
		v.Why, v.Next = why.Detail, why.Next
		return nil
	}
	if err != nil {
		return err
	}
	shown := shapes.Restore(p)
	v.Plan = &shown
	return nil
}
