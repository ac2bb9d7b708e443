package changes

import (
	"context"
	"errors"
	"io"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/store"
)

// Where a segment is.
const (
	InStore = "store"
	InSpool = "spool"
	Absent  = "absent"
)

// Located is the segment that holds a moment.
type Located struct {
	Segment pg.Segment
	LSN     pg.LSN
	Where   string
	Record  *RecordText // that begins at the LSN or covers it; nil where it is not here
}

// RecordText is a WAL record in words and figures.
type RecordText struct {
	Start, End pg.LSN
	XID        pg.XID
	Manager    string
	Kind       string
	Length     uint32
	Pages      int      // that it refers to
	Images     int      // of which it carries a full image
	Body       wal.Body // what it says beyond that, nil if nothing is typed
}

// Locate finds the segment that holds a moment, and whether it is here. An LSN need
// not be captured to be located.
func (j *Journal) Locate(ctx context.Context, m moment.Moment) (Located, error) {
	p, _, err := j.locate(ctx, m)
	if err != nil {
		return Located{}, err
	}
	z := j.archive.Cluster.SegmentSize
	l := Located{Segment: j.archive.SegmentOf(z.Number(p.lsn)), LSN: p.lsn, Where: Absent}
	stretch, ok := j.stretchOf(p.lsn)
	switch {
	case !ok || l.Segment.Number > stretch.Last || p.lsn >= stretch.End:
		return l, nil
	case j.archive.Stored(l.Segment):
		l.Where = InStore
	default:
		l.Where = InSpool
	}
	l.Record, err = j.record(ctx, l.Segment.Number, stretch.Last, p.lsn)
	if errors.Is(err, store.ErrNotFound) {
		err = nil // where it is said to be it is no more
	}
	return l, err
}

// record reads the record that begins at an LSN or covers it, from the segment n on.
func (j *Journal) record(ctx context.Context, n, last uint64, at pg.LSN) (*RecordText, error) {
	before, err := j.before(ctx, n)
	if err != nil {
		return nil, err
	}
	src, records := j.records(ctx, n, last, before)
	defer func() { _ = src.Close() }()
	for {
		r, err := records.Next()
		if errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		if r.End > at {
			return describe(r, records.Version())
		}
	}
}

func describe(r *wal.Record, v *pg.Version) (*RecordText, error) {
	d := &RecordText{Start: r.Start, End: r.End, XID: r.XID, Manager: r.Manager.String(), Kind: r.Kind(v), Length: r.Length,
		Pages: len(r.Blocks)}
	for i := range r.Blocks {
		if len(r.Blocks[i].Image) > 0 {
			if _, err := r.Blocks[i].Page(v); err != nil {
				return nil, &wal.Damage{LSN: r.Start, Reason: err.Error()}
			}
			d.Images++
		}
	}
	var err error
	d.Body, err = wal.Decode(r, v)
	return d, err
}

// records reads WAL from a state on, to the end of the segment numbered last.
func (j *Journal) records(ctx context.Context, n, last uint64, before journal.State) (io.Closer, *wal.Reader) {
	k := j.archive.Cluster
	from := before.Next
	if from == 0 {
		from = k.SegmentSize.Start(n)
	}
	src := j.index.Stream(ctx, j.archive.SegmentOf(last), wal.PageOf(from))
	return src, NewReader(k, src, from, before.Prev)
}
