package restore

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
)

// Archive is the captured WAL and the base backups of one cluster, as they are now.
type Archive struct {
	Cluster  catalog.Cluster
	Capture  catalog.Capture
	Bases    []reach.Base
	Timeline pg.Timeline // the newest
	// Ancestors are the forks that lead to Timeline, oldest first.
	Ancestors []pg.Fork

	store store.Store
	runs  []catalog.Run // what is in the store
	tails map[pg.Segment]capture.Tail
	forks []reach.Fork
}

// OpenArchive reads what there is of a cluster. spool is the directory of all spools.
func OpenArchive(ctx context.Context, c *catalog.Catalog, s store.Store, spool string, k catalog.Cluster) (*Archive, error) {
	a := &Archive{Cluster: k, store: s, tails: make(map[pg.Segment]capture.Tail)}
	var err error
	if a.Capture, err = c.Capture(ctx, k.ID); err != nil {
		return nil, err
	}
	// The spool first: what moves to the store meanwhile is then seen twice, not missed.
	tails, err := capture.Tails(spool, k.ID, k.SegmentSize)
	if err != nil {
		return nil, err
	}
	for _, t := range tails {
		a.tails[t.Segment] = t
		a.Timeline = max(a.Timeline, t.Segment.Timeline)
	}
	if a.runs, err = c.Runs(ctx, k.ID); err != nil {
		return nil, err
	}
	for _, r := range a.runs {
		a.Timeline = max(a.Timeline, r.Timeline)
	}
	backups, err := c.Backups(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	for _, b := range backups {
		a.Bases = append(a.Bases, reach.Base{ID: b.ID, Timeline: b.Timeline, Start: b.Start, Stop: b.Stop, StopTime: b.StoppedAt})
	}
	return a, a.readTimelines(ctx, c)
}

func (a *Archive) readTimelines(ctx context.Context, c *catalog.Catalog) error {
	timelines, err := c.Timelines(ctx, a.Cluster.ID)
	if err != nil {
		return err
	}
	for _, t := range timelines {
		a.forks = append(a.forks, reach.Fork{Timeline: t.Timeline, Parent: t.Parent, At: t.ForkedAt})
		if t.Timeline == a.Timeline {
			if a.Ancestors, err = pg.ParseHistory([]byte(t.History)); err != nil {
				return err
			}
		}
	}
	return nil
}

// Reach computes the spans and holes of the cluster.
func (a *Archive) Reach() ([]reach.Span, []reach.Hole) {
	return reach.Compute(a.Bases, a.stretches(), a.forks)
}

// stretches is the WAL that is there, in store and spool.
func (a *Archive) stretches() []reach.WAL {
	var stretches []reach.WAL
	for _, r := range a.runs {
		stretches = append(stretches, reach.WAL{Timeline: r.Timeline, Start: r.Start, End: r.End, LastCommit: r.LastCommit.Time})
	}
	for _, t := range a.tails {
		w := reach.WAL{Timeline: t.Segment.Timeline, Start: a.Cluster.SegmentSize.Start(t.Segment.Number), End: t.End}
		if w.Timeline == a.Timeline {
			w.LastCommit = a.Capture.CompleteTo.Time
		}
		stretches = append(stretches, w)
	}
	return stretches
}

// Has tells whether a segment, or the beginning of one, is there.
func (a *Archive) Has(s pg.Segment) bool {
	_, tail := a.tails[s]
	return tail || a.stored(s)
}

func (a *Archive) stored(s pg.Segment) bool {
	for _, r := range a.runs {
		if r.Timeline == s.Timeline && r.First <= s.Number && s.Number <= r.Last {
			return true
		}
	}
	return false
}

// Covers tells whether all WAL of a timeline from one place to another is there.
func (a *Archive) Covers(t pg.Timeline, from, to pg.LSN) bool {
	var stretches []reach.WAL
	for _, w := range a.stretches() {
		if w.Timeline == t {
			stretches = append(stretches, w)
		}
	}
	for _, w := range reach.Join(stretches) {
		if w.Start <= from && to <= w.End {
			return true
		}
	}
	return false
}

// Spooled lists those of the given segments that are not in the store yet.
func (a *Archive) Spooled(segments []pg.Segment) []capture.Tail {
	var list []capture.Tail
	for _, s := range segments {
		if !a.stored(s) {
			if t, ok := a.tails[s]; ok {
				list = append(list, t)
			}
		}
	}
	return list
}

// OpenSegment reads the bytes of a segment that are there; of a cut one only those.
func (a *Archive) OpenSegment(ctx context.Context, s pg.Segment) (io.ReadCloser, error) {
	if t, ok := a.tails[s]; ok {
		f, err := os.Open(t.Path)
		if err == nil {
			start := a.Cluster.SegmentSize.Start(s.Number)
			return limited{io.LimitReader(f, int64(t.End-start)), f}, nil
		}
		if !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		// It has gone to the store since.
	}
	return OpenStored(ctx, a.store, a.Cluster, s)
}

type limited struct {
	io.Reader
	io.Closer
}

// OpenStored reads a segment from the store.
func OpenStored(ctx context.Context, s store.Store, k catalog.Cluster, seg pg.Segment) (io.ReadCloser, error) {
	return OpenObject(ctx, s, store.SegmentKey(k.ID, seg.Timeline, seg.Name(k.SegmentSize)))
}

// OpenObject reads the verified content of an object.
func OpenObject(ctx context.Context, s store.Store, key string) (io.ReadCloser, error) {
	f, err := s.Open(ctx, key, 0)
	if err != nil {
		return nil, err
	}
	content, err := layout.OpenObject(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return limited{content, f}, nil
}

// Forget removes everything of a cluster from store and spool. The caller has made
// sure that its capture has ended.
func Forget(ctx context.Context, s store.Store, spool string, k catalog.Cluster) error {
	if _, err := store.DeleteAll(ctx, s, "clusters/"+k.ID+"/"); err != nil {
		return err
	}
	return os.RemoveAll(filepath.Join(spool, k.ID))
}
