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
	"velvetrewind/service/planner"
)

// Segments lists the files that hold the WAL of a span, and gives them.
type Segments struct {
	Planner *planner.Planner
	Custody *custody.Custody
	Log     *slog.Logger
}

// Register registers the operations.
func (h *Segments) Register(api *Surface) {
	question(api, "/clusters/{cluster}/segments", "list-segments", "List the WAL segments of a span, and whether each is here", h.list)
	op(api, http.MethodGet, "/clusters/{cluster}/segments/{name}", "read-segment",
		"Give a WAL segment, or a timeline's history, as a file", 0, h.read)
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
