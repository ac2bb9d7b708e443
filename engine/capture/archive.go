package capture

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"

	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
)

// archive verifies a spooled file, puts it into the store, records it, and only then removes it.
func (c *capturer) archive(ctx context.Context, seg pg.Segment, path string) error {
	name := seg.Name(c.cluster.SegmentSize)
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	start := c.cluster.SegmentSize.Start(seg.Number)
	end := start + pg.LSN(info.Size())
	if err := c.follower.read(ctx, seg, path, end); err != nil {
		return fmt.Errorf("segment %s: %w", name, err)
	}
	x, err := c.follower.finish(ctx, path, end)
	if err != nil {
		return fmt.Errorf("segment %s: %w", name, err)
	}
	length, stored, err := c.put(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, name), f)
	if err != nil {
		return fmt.Errorf("put segment %s into the store: %w", name, err)
	}
	if err := c.index.Put(ctx, x); err != nil {
		c.log.Warn("the journal of a segment was not kept; it is made again when it is needed", "segment", name, "error", err)
	}
	err = c.catalog.AddSegment(ctx, catalog.Segment{
		ClusterID: c.cluster.ID, Timeline: seg.Timeline, Number: seg.Number, Name: name,
		Start: start, End: start + pg.LSN(length), StoredBytes: stored, Records: x.Records,
		LastCommit: sql.NullTime{Time: x.Latest, Valid: x.Commits > 0},
	})
	if err != nil {
		return err
	}
	return errors.Join(os.Remove(path), syncDir(c.spool.dir))
}

// put writes one object and returns the lengths of its content and as stored.
func (c *capturer) put(ctx context.Context, key string, content io.Reader) (length, stored int64, err error) {
	w, err := c.store.Create(ctx, key, c.codec)
	if err != nil {
		return 0, 0, err
	}
	defer w.Abort()
	if length, err = io.Copy(w, content); err != nil {
		return 0, 0, err
	}
	err = w.Commit()
	return length, w.Size(), err
}
