package service

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/moment"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/restore"
)

func (s *Service) momentAPI(api huma.API) {
	op(s, api, http.MethodPost, "/clusters/{cluster}/moment", "explain-moment",
		"Resolve a moment and explain what lies on both sides of it, changing nothing", 0, s.explainMoment)
	op(s, api, http.MethodPost, "/clusters/{cluster}/plan", "plan-restore", "Resolve a moment and plan a restore, changing nothing", 0,
		s.planRestore)
	op(s, api, http.MethodPost, "/clusters/{cluster}/locate", "locate-segment", "Find the WAL segment that holds a moment", 0,
		s.locateSegment)
}

type momentIn struct {
	ClusterPath
	Body api.MomentRequest
}

// parseMoment reads a moment for a caller whose zone is given, or not known when it is "". The
// present is that of the cluster's server, by whose clock commits are timed.
func (s *Service) parseMoment(ctx context.Context, cluster, text, zone string) (moment.Moment, error) {
	k, err := s.catalog.Cluster(ctx, cluster)
	if err != nil {
		return moment.Moment{}, err
	}
	state, err := s.catalog.Capture(ctx, k.ID)
	if err != nil {
		return moment.Moment{}, err
	}
	caller := moment.Caller{Now: time.Now().Add(state.ServerAhead()).UTC()}
	if zone != "" {
		loc, err := time.LoadLocation(zone)
		if err != nil || zone == "Local" {
			return moment.Moment{}, problem.New(problem.Invalid, "Give a name such as Europe/Lisbon.", "the moment cannot be read",
				"%q is no zone", zone)
		}
		caller.Zone, caller.Now = loc, caller.Now.In(loc)
	}
	return moment.Parse(text, caller)
}

// opened is a cluster with its archive and journal, as they are now.
type opened struct {
	cluster catalog.Cluster
	archive *archive.Archive
	journal *changes.Journal
}

func (s *Service) openJournal(ctx context.Context, cluster string) (o opened, err error) {
	if o.cluster, err = s.catalog.Cluster(ctx, cluster); err != nil {
		return o, err
	}
	if o.archive, err = archive.Open(ctx, s.catalog, s.store, s.cfg.spool(), o.cluster); err != nil {
		return o, err
	}
	book, err := s.books.Of(ctx, o.cluster.ID)
	if err != nil {
		return o, err
	}
	o.journal, err = changes.Open(ctx, o.archive, s.codec, book)
	return o, err
}

// plan plans a restore, and lists the WAL that it replays.
func (s *Service) plan(ctx context.Context, cluster, text, zone string) (k catalog.Cluster, p plan.Restore,
	replays []catalog.Stretch, err error) {
	m, err := s.parseMoment(ctx, cluster, text, zone)
	if err != nil {
		return k, p, nil, err
	}
	if k, err = s.catalog.Cluster(ctx, cluster); err == nil {
		err = s.haveStored(ctx, k)
	}
	if err != nil {
		return k, p, nil, err
	}
	o, err := s.openJournal(ctx, cluster)
	if err != nil {
		return o.cluster, p, nil, err
	}
	if p, _, err = restore.Plan(ctx, o.archive, o.journal, m); err != nil {
		return o.cluster, p, nil, err
	}
	for _, seg := range p.Segments(o.archive.Ancestors, o.cluster.SegmentSize) {
		if n := len(replays); n > 0 && replays[n-1].Timeline == seg.Timeline && replays[n-1].Last+1 == seg.Number {
			replays[n-1].Last = seg.Number
			continue
		}
		replays = append(replays, catalog.Stretch{Timeline: seg.Timeline, First: seg.Number, Last: seg.Number})
	}
	return o.cluster, p, replays, nil
}

// storedWithin is how long another instance is given to put what it has received into the store.
const storedWithin = 10 * time.Second

// haveStored has an instance that captures a cluster on another host put what it has received into
// the store, where this one can read it. If it does not, what is in the store must do.
func (s *Service) haveStored(ctx context.Context, k catalog.Cluster) error {
	state, err := s.catalog.Capture(ctx, k.ID)
	if err != nil || state.Holder == 0 || state.Holder == s.captures.Instance || !state.Receives() || state.FlushedLSN == 0 {
		return err
	}
	for asked := time.Now(); time.Since(asked) < storedWithin; {
		if is, err := s.catalog.StoredTo(ctx, k, state.Timeline, state.FlushedLSN); err != nil || is {
			return err
		}
		if err := s.catalog.AskStored(ctx, k.ID, state.FlushedLSN); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	s.log.Warn("the instance that captures a cluster does not share what it has received", "cluster", k.Name, "instance", state.Holder)
	return nil
}

func (s *Service) planRestore(ctx context.Context, in *momentIn) (*body[api.Restore], error) {
	_, p, _, err := s.plan(ctx, in.Cluster, in.Body.Moment, in.Body.Zone)
	return answer(asRestore(p), err)
}

const usualAround = 8

func (s *Service) explainMoment(ctx context.Context, in *momentIn) (*body[api.Moment], error) {
	m, err := s.parseMoment(ctx, in.Cluster, in.Body.Moment, in.Body.Zone)
	if err != nil {
		return nil, err
	}
	o, err := s.openJournal(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	v := api.Moment{Moment: m.String()}
	if m.Kind == moment.AtTime {
		utc := m.Time.UTC()
		v.UTC = &utc
	}
	b, note, err := o.journal.Resolve(ctx, m)
	if err != nil {
		return nil, err
	}
	v.Boundary, v.Note = asBoundary(b), note
	cost, err := o.journal.Cost(ctx, b)
	if err != nil {
		return nil, err
	}
	v.Cost = costView(cost)
	n := in.Body.Around
	if n == 0 {
		n = usualAround
	}
	around, kept, err := o.journal.Around(ctx, b.Keeps, b.Stop, n)
	if err != nil {
		return nil, err
	}
	v.Kept = kept
	if v.Around, err = s.transactionViews(ctx, o.cluster, around, false); err != nil {
		return nil, err
	}
	return answer(v, planOrWhy(&v, o.archive, m, b))
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
	shown := asRestore(p)
	v.Plan = &shown
	return nil
}

func (s *Service) locateSegment(ctx context.Context, in *momentIn) (*body[api.Located], error) {
	m, err := s.parseMoment(ctx, in.Cluster, in.Body.Moment, in.Body.Zone)
	if err != nil {
		return nil, err
	}
	o, err := s.openJournal(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	l, err := o.journal.Locate(ctx, m)
	if err != nil {
		return nil, err
	}
	v := api.Located{Moment: m.String(), LSN: l.LSN, Segment: l.Segment.Name(o.cluster.SegmentSize), Timeline: uint32(l.Segment.Timeline),
		Where: l.Where}
	if r := l.Record; r != nil {
		v.Record = &api.WALRecord{Start: r.Start, End: r.End, XID: r.XID, Manager: r.Manager, Kind: r.Kind, Length: r.Length,
			Pages:  r.Pages,
			Images: r.Images, Fields: r.Body}
	}
	return answer(v, nil)
}
