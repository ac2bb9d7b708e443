package changes

import (
	"bytes"
	"context"
	"errors"
	"io"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Indexes are the index objects of one cluster: one beside each WAL segment, and chapters that gather the heads of many.
// One that is absent or damaged is made again from its segment and the state that the index before it left; what a
// chapter lacks is read from the indexes themselves.
type Indexes struct {
	Store   *vault.Vault
	Codec   layout.Codec
	Cluster catalog.Cluster
	// Histories are the forks that lead to each timeline above 1, oldest first.
	Histories map[pg.Timeline][]pg.Fork
	Names     journal.Lookup
	// Open reads a captured segment; store.ErrNotFound where there is none.
	Open func(context.Context, pg.Segment) (io.ReadCloser, error)
}

// longestRebuild is how many segments are read at most to make the state before a
// segment again; after that the journal begins anew and says so.
const longestRebuild = 64

// Put writes a segment's index, and the chapter that it completes.
func (x *Indexes) Put(ctx context.Context, s *journal.Segment) error {
	if err := x.write(ctx, store.IndexKey(x.Cluster.ID, s.Segment.Timeline, x.name(s.Segment)), s.Encode()); err != nil {
		return err
	}
	if (s.Segment.Number+1)%journal.ChapterSize == 0 {
		return x.putChapter(ctx, s.Segment)
	}
	return nil
}

func (x *Indexes) name(s pg.Segment) string { return s.Name(x.Cluster.SegmentSize) }

func (x *Indexes) write(ctx context.Context, key string, parts ...[]byte) error {
	_, err := x.Store.Put(ctx, key, x.Codec, parts...)
	return err
}

// putChapter gathers the heads of the indexes that are there.
func (x *Indexes) putChapter(ctx context.Context, last pg.Segment) error {
	var heads []journal.Head
	for n := last.Number / journal.ChapterSize * journal.ChapterSize; n <= last.Number; n++ {
		h, err := x.readHead(ctx, pg.Segment{Timeline: last.Timeline, Number: n})
		if err == nil {
			heads = append(heads, h)
		} else if !lacking(err) {
			return err
		}
	}
	chapter, toSum := journal.EncodeChapter(heads)
	return x.write(ctx, store.ChapterKey(x.Cluster.ID, last.Timeline, last.Number/journal.ChapterSize), chapter[:toSum], chapter[toSum:])
}

// lacking tells whether an object is absent or damaged, and so to be made again.
func lacking(err error) bool {
	return errors.Is(err, store.ErrNotFound) || errors.Is(err, layout.ErrCorrupt) || errors.Is(err, journal.ErrFormat)
}

func (x *Indexes) read(ctx context.Context, key string) ([]byte, error) {
	return x.Store.Get(ctx, key)
}

// readHead reads no more of an index than its head.
func (x *Indexes) readHead(ctx context.Context, seg pg.Segment) (journal.Head, error) {
	f, err := x.Store.Open(ctx, store.IndexKey(x.Cluster.ID, seg.Timeline, x.name(seg)))
	if err != nil {
		return journal.Head{}, err
	}
	defer func() { _ = f.Close() }()
	var content io.Reader = f
	for size := 16 << 10; ; size *= 8 {
		part := make([]byte, size)
		n, err := io.ReadFull(content, part)
		whole := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !whole {
			return journal.Head{}, err
		}
		h, err := journal.DecodeHead(part[:n])
		if err == nil || whole {
			return h, err
		}
		content = io.MultiReader(bytes.NewReader(part[:n]), content)
	}
}

// Get reads the index of a segment, and makes it again if it is absent or damaged.
func (x *Indexes) Get(ctx context.Context, seg pg.Segment) (*journal.Segment, error) {
	s, err := x.stored(ctx, seg)
	if !lacking(err) {
		return s, err
	}
	return x.rebuild(ctx, seg, longestRebuild)
}

func (x *Indexes) stored(ctx context.Context, seg pg.Segment) (*journal.Segment, error) {
	b, err := x.read(ctx, store.IndexKey(x.Cluster.ID, seg.Timeline, x.name(seg)))
	if err != nil {
		return nil, err
	}
	return journal.DecodeIndex(b)
}

// rebuild makes an index from its segment, and those before it that it follows from, at most depth.
func (x *Indexes) rebuild(ctx context.Context, seg pg.Segment, depth int) (*journal.Segment, error) {
	state, err := x.before(ctx, seg, depth)
	if err != nil {
		return nil, err
	}
	r := journal.NewRecorder(seg, x.Cluster.SegmentSize, state)
	end, err := x.Record(ctx, r, seg, nil)
	if err != nil {
		return nil, err
	}
	s, err := r.Segment(end, x.Names)
	if err != nil {
		return nil, err
	}
	if x.Cluster.SegmentSize.Offset(end) == 0 { // else it may still become longer
		// A store that is full or read-only must not keep the answer back.
		_ = x.Put(ctx, s)
	}
	return s, nil
}

// Before gives the state in which the journal stands at a segment's beginning. Where
// nothing before it was captured, that is the zero State.
func (x *Indexes) Before(ctx context.Context, seg pg.Segment) (journal.State, error) {
	return x.before(ctx, seg, longestRebuild)
}

func (x *Indexes) before(ctx context.Context, seg pg.Segment, depth int) (journal.State, error) {
	if seg.Number == 0 || depth == 0 {
		return journal.State{}, nil
	}
	prev := x.Predecessor(seg)
	s, err := x.stored(ctx, prev)
	if lacking(err) {
		s, err = x.rebuild(ctx, prev, depth-1)
	}
	if damage := (*wal.Damage)(nil); errors.Is(err, store.ErrNotFound) || errors.As(err, &damage) {
		return journal.State{}, nil // what cannot be read is a gap in the journal, too
	}
	if err != nil {
		return journal.State{}, err
	}
	if s.End < x.Cluster.SegmentSize.Start(seg.Number) { // a hole lies between
		return journal.State{}, nil
	}
	return s.State, nil
}

// Predecessor is the segment that leads to one: on its timeline, or where that forked
// off within it, on the timeline that it came from.
func (x *Indexes) Predecessor(seg pg.Segment) pg.Segment {
	n := seg.Number - 1
	return pg.Segment{Timeline: plan.TimelineOf(x.Cluster.SegmentSize, n, seg.Timeline, x.Histories[seg.Timeline]), Number: n}
}

// Record shows a recorder the records that end in a captured segment, and says where
// the segment's bytes end. seen, if not nil, is told each transaction that ends.
func (x *Indexes) Record(ctx context.Context, r *journal.Recorder, seg pg.Segment,
	seen func(*journal.Transaction) error) (end pg.LSN, err error) {
	z := x.Cluster.SegmentSize
	next, prev := r.Next()
	if next == 0 {
		next = z.Start(seg.Number)
	}
	src := &chain{ctx: ctx, index: x, to: seg, at: wal.PageOf(next)}
	defer func() { _ = src.Close() }()
	if err := ReadInto(r, src, x.Cluster, next, prev, seen); err != nil {
		return 0, err
	}
	return src.at, nil
}

// Stream reads what is captured from an LSN to the end of a segment.
func (x *Indexes) Stream(ctx context.Context, to pg.Segment, from pg.LSN) io.ReadCloser {
	return &chain{ctx: ctx, index: x, to: to, at: from}
}

// ReadInto shows a recorder the whole records of src, which begins with the page of
// next, to its end. seen, if not nil, is told each transaction that ends.
func ReadInto(r *journal.Recorder, src io.Reader, k catalog.Cluster, next, prev pg.LSN, seen func(*journal.Transaction) error) error {
	return ReadRecords(r, NewReader(k, src, next, prev), seen)
}

// NewReader reads the records of a cluster from next on; src begins with the page that it is on.
func NewReader(k catalog.Cluster, src io.Reader, next, prev pg.LSN) *wal.Reader {
	return wal.NewReader(src, wal.Options{Start: wal.PageOf(next), SegmentSize: k.SegmentSize, SystemID: k.SystemID,
		From: next, Prev: prev})
}

// ReadRecords shows a recorder the records of a reader, to the end of its source.
func ReadRecords(r *journal.Recorder, records *wal.Reader, seen func(*journal.Transaction) error) error {
	for {
		rec, err := records.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if errors.Is(err, wal.ErrUnwritten) {
			return &wal.Damage{LSN: records.Position(), Reason: "zeroes where captured WAL must go on"}
		}
		if err != nil {
			return err
		}
		t, err := r.See(rec, records.Version())
		if err != nil {
			return err
		}
		if t != nil && seen != nil {
			if err := seen(t); err != nil {
				return err
			}
		}
	}
}
