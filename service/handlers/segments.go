package handlers

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/engine/store"
	"velvetrewind/service/custody"
	"velvetrewind/service/fleet"
	"velvetrewind/service/planner"
)

// Segments lists the files that hold the WAL of a span, and gives them.
type Segments struct {
	Planner *planner.Planner
	Custody *custody.Custody
	Fleet   *fleet.Reader
	Log     *slog.Logger
}

// Register registers the operations.
func (h *Segments) Register(api *Surface) {
	question(api, "/clusters/{cluster}/locate", "locate-segment", "Find the WAL segment that holds a moment, and where it is", h.locate)
	question(api, "/clusters/{cluster}/segments", "list-segments", "List the WAL segments of a span, and whether each is here", h.list)
	op(api, http.MethodGet, "/clusters/{cluster}/segments/{name}", "read-segment",
		"Give a WAL segment, or a timeline's history, as a file", 0, h.read)
}

func (h *Segments) locate(ctx context.Context, in *momentIn) (*body[api.Located], error) {
	m, err := h.Planner.Parse(ctx, in.Cluster, in.Body.Moment, in.Body.Zone)
	if err != nil {
		return nil, err
	}
	o, err := h.Planner.OpenOn(ctx, in.Cluster, m.Timeline)
	if err != nil {
		return nil, err
	}
	l, err := o.Journal.Locate(ctx, m)
	if err != nil {
		return nil, err
	}
	v := api.Located{Moment: m.String(), LSN: l.LSN, Segment: l.Segment.Name(o.Cluster.SegmentSize), Timeline: uint32(l.Segment.Timeline),
		Where: l.Where}
	if r := l.Record; r != nil {
		v.Record = &api.WALRecord{Start: r.Start, End: r.End, XID: r.XID, Manager: r.Manager, Kind: r.Kind, Length: r.Length,
			Pages: r.Pages, Images: r.Images, Fields: r.Body}
	}
	switch l.Where {
	case changes.InStore:
		err = h.inStores(ctx, store.SegmentKey(o.Cluster.ID, l.Segment.Timeline, v.Segment), &v)
	case changes.Absent:
		v.Hole, err = h.holeAt(ctx, o, l)
	}
	if err == nil && v.Hole != nil {
		v.Where = inHole
	}
	if err != nil {
		return nil, err
	}
	return answer(v, nil)
}

// Where else a segment may be than where package changes says.
const (
	inSecond = "second" // store alone
	inHole   = "hole"
	isLost   = "lost" // recorded, and in no store that can be asked
)

// inStores says which of the stores has a segment that is recorded to be in the store.
func (h *Segments) inStores(ctx context.Context, key string, v *api.Located) error {
	_, err := h.Custody.Store.Stat(ctx, key)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	first := err == nil
	if s := h.Custody.Store.Second(); s != nil {
		_, err := s.Stat(ctx, key)
		if has := err == nil; has || errors.Is(err, store.ErrNotFound) {
			v.InSecond = &has
		}
	}
	switch {
	case first:
	case v.InSecond != nil && *v.InSecond:
		v.Where = inSecond
	default:
		v.Where = isLost
	}
	return nil
}

// holeAt is the hole in which a place lies that is not here; nil where capture began later or has not come so far.
func (h *Segments) holeAt(ctx context.Context, o planner.Opened, l changes.Located) (*api.Hole, error) {
	f, err := h.Fleet.Of(ctx, o.Cluster.ID)
	if err != nil {
		return nil, err
	}
	spans, holes := o.Archive.Reach()
	for _, hole := range f.Holes(o.Cluster, spans, holes) {
		if hole.Timeline == l.Segment.Timeline && hole.From <= l.LSN && l.LSN < hole.To {
			return &hole, nil
		}
	}
	return nil, nil
}

type listSegments struct {
	ClusterPath
	Body api.SpanRequest
}

// mostSegments bounds a span.
const mostSegments = 1_000_000

func (h *Segments) list(ctx context.Context, in *listSegments) (*body[api.Segments], error) {
	to, err := h.Planner.Parse(ctx, in.Cluster, in.Body.To, "")
	if err != nil {
		return nil, err
	}
	from, err := h.Planner.Parse(ctx, in.Cluster, in.Body.From, "")
	if err != nil {
		return nil, err
	}
	o, err := h.Planner.OpenOn(ctx, in.Cluster, to.Timeline)
	if err != nil {
		return nil, err
	}
	first, err := o.Journal.Locate(ctx, from)
	if err != nil {
		return nil, err
	}
	last, err := o.Journal.Locate(ctx, to)
	if err != nil {
		return nil, err
	}
	const title = "nothing was read"
	if last.LSN < first.LSN {
		return nil, problem.New(problem.Invalid, "Name the earlier moment first.", title, "%s is before %s", last.LSN, first.LSN)
	}
	if last.Segment.Number-first.Segment.Number >= mostSegments {
		return nil, problem.New(problem.Invalid, "Ask for a shorter span.", title, "that is more than %d segments", mostSegments)
	}
	z := o.Cluster.SegmentSize
	list := api.Segments{Size: int64(z), Segments: []api.SegmentFile{}, Histories: []string{}}
	for n := first.Segment.Number; n <= last.Segment.Number; n++ {
		s := o.Archive.SegmentOf(n)
		f := api.SegmentFile{Name: s.Name(z), Start: z.Start(n), Where: changes.Absent}
		switch {
		case o.Archive.Stored(s) && o.Archive.Has(s):
			f.Where, f.Whole = changes.InStore, o.Archive.Covers(s.Timeline, z.Start(n), z.Start(n+1))
		case o.Archive.Has(s):
			f.Where = changes.InSpool
		}
		list.Segments = append(list.Segments, f)
		if history := pg.HistoryName(s.Timeline); s.Timeline > 1 && (len(list.Histories) == 0 ||
			list.Histories[len(list.Histories)-1] != history) {
			list.Histories = append(list.Histories, history)
		}
	}
	return answer(list, nil)
}

type readSegment struct {
	ClusterPath
	Name string `path:"name" doc:"as the server calls the file"`
}

// read gives what is there of a segment; what comes after the last byte of one that was cut or is not finished is left out.
func (h *Segments) read(ctx context.Context, in *readSegment) (*huma.StreamResponse, error) {
	o, err := h.Planner.Open(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	var content io.ReadCloser
	if s, failed := pg.ParseSegmentName(in.Name, o.Cluster.SegmentSize); failed == nil {
		content, err = o.Archive.OpenSegment(ctx, s)
	} else if _, is := pg.ParseHistoryName(in.Name); is {
		content, err = feed.Open(ctx, h.Custody.Store, o.Cluster, in.Name)
	} else {
		return nil, problem.New(problem.Invalid, "Find it with: velvet segment locate --cluster "+o.Cluster.Name+" MOMENT",
			"nothing was read", "%q is neither the name of a WAL segment nor of a timeline's history", in.Name)
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil, problem.New(problem.NotFound, "See what there is with: velvet reach "+o.Cluster.Name, "nothing was read",
			"%s is not here", in.Name)
	}
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer func() { _ = content.Close() }()
		out.SetHeader("Content-Type", "application/octet-stream")
		if _, err := io.Copy(out.BodyWriter(), content); err != nil {
			h.Log.Error("a segment could not be given", "cluster", o.Cluster.Name, "segment", in.Name, "error", err)
			panic(http.ErrAbortHandler) // so that the other end does not take it for whole
		}
	}}, nil
}
