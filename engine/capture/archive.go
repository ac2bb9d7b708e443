package capture

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
)

// examined is what a look at every record of a segment found.
type examined struct {
	records    int64
	lastCommit time.Time
}

// examine verifies a segment: its page headers, its cluster, and every record
// that is whole in it.
func examine(src io.Reader, start pg.LSN, size pg.SegmentSize, systemID uint64) (examined, error) {
	var x examined
	r := wal.NewReader(src, wal.Options{Start: start, SegmentSize: size, SystemID: systemID})
	for {
		rec, err := r.Next()
		if errors.Is(err, io.EOF) {
			return x, nil
		}
		if errors.Is(err, wal.ErrUnwritten) {
			return x, &wal.Damage{LSN: r.Position(), Reason: "zeroes where a finished segment must go on"}
		}
		if err != nil {
			return x, err
		}
		x.records++
		end, ok, err := wal.EndOf(rec, r.Version())
		if err != nil {
			return x, err
		}
		if ok && end.Committed && end.Time.After(x.lastCommit) {
			x.lastCommit = end.Time
		}
	}
}

// archive verifies a spooled file, puts it into the store, records it, and only then removes it.
func (c *capturer) archive(ctx context.Context, seg pg.Segment, path string) error {
	name := seg.Name(c.cluster.SegmentSize)
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	start := c.cluster.SegmentSize.Start(seg.Number)
	x, err := examine(f, start, c.cluster.SegmentSize, c.cluster.SystemID)
	if err != nil {
		return fmt.Errorf("segment %s: %w", name, err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	length, stored, err := c.put(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, name), f)
	if err != nil {
		return fmt.Errorf("put segment %s into the store: %w", name, err)
	}
	err = c.catalog.AddSegment(ctx, catalog.Segment{
		ClusterID: c.cluster.ID, Timeline: seg.Timeline, Number: seg.Number, Name: name,
		Start: start, End: start + pg.LSN(length), StoredBytes: stored, Records: x.records,
		LastCommit: sql.NullTime{Time: x.lastCommit, Valid: !x.lastCommit.IsZero()},
	})
	if err != nil {
		return err
	}
	return errors.Join(os.Remove(path), syncDir(c.spool.dir))
}

// put writes one object and returns the lengths of its content and as stored.
func (c *capturer) put(ctx context.Context, key string, content io.Reader) (length, stored int64, err error) {
	w, err := c.store.Create(ctx, key)
	if err != nil {
		return 0, 0, err
	}
	defer w.Abort()
	counted := &counter{Writer: w}
	s := layout.NewStream(counted, c.codec)
	if length, err = io.Copy(s, content); err != nil {
		return 0, 0, err
	}
	if err := s.Close(); err != nil {
		return 0, 0, err
	}
	return length, counted.n, w.Commit()
}

type counter struct {
	io.Writer
	n int64
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.n += int64(n)
	return n, err
}
