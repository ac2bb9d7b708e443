package capture

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
)

// archive reads a spooled file, puts it into the store whether or not that went well, records it,
// and only then removes it.
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
	if is, err := c.beside(ctx, seg, f); err != nil {
		return err
	} else if is != goesFurther {
		c.follower.forget() // it goes on with what the store has
		return c.keepStored(ctx, seg, path, is)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	x, err := c.readWhole(ctx, seg, path, end)
	var unreadable *wal.Damage
	if errors.As(err, &unreadable) && info.Size() == int64(c.cluster.SegmentSize) {
		// It is stored as it came: what cannot be read is a hole, and must hold nothing up.
		c.follower.forget()
		c.log.Error("a segment cannot be read; it is stored as it came, and is a hole", "segment", name, "error", err)
	} else if err != nil {
		return fmt.Errorf("segment %s: %w", name, err)
	}
	length, stored, err := c.put(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, name), f)
	if err != nil {
		return fmt.Errorf("put segment %s into the store: %w", name, err)
	}
	record := catalog.Segment{
		ClusterID: c.cluster.ID, Timeline: seg.Timeline, Number: seg.Number, Name: name,
		Start: start, End: start + pg.LSN(length), StoredBytes: stored,
	}
	if unreadable != nil {
		record.Unreadable = unreadable.Error()
		c.noteHole(ctx, position{seg.Timeline, start}, "segment "+name+" was stored as it came and cannot be read: "+record.Unreadable)
	} else {
		record.Records, record.LastCommit = x.Records, sql.NullTime{Time: x.Latest, Valid: x.Commits > 0}
		if err := c.index.Put(ctx, x); err != nil {
			c.log.Warn("the journal of a segment was not kept; it is made again when it is needed", "segment", name, "error", err)
		}
	}
	if err := c.catalog.AddSegment(ctx, record); err != nil {
		return err
	}
	return errors.Join(os.Remove(path), syncDir(c.spool.dir))
}

// readWhole reads a segment to its end, and gives its journal.
func (c *capturer) readWhole(ctx context.Context, seg pg.Segment, path string, end pg.LSN) (*journal.Segment, error) {
	if err := c.follower.read(ctx, seg, path, end); err != nil {
		return nil, err
	}
	return c.follower.finish(ctx, path, end)
}

// keepStored leaves a segment as the store has it, makes sure that it is recorded, and takes the
// spooled one out of the way.
func (c *capturer) keepStored(ctx context.Context, seg pg.Segment, path string, is verdict) error {
	known, err := c.catalog.HasSegment(ctx, c.cluster.ID, seg)
	if err != nil {
		return err
	}
	if !known { // put and not recorded, when a service was killed
		if err := c.recordStored(ctx, seg); err != nil {
			return err
		}
	}
	if is == contained {
		return errors.Join(os.Remove(path), syncDir(c.spool.dir))
	}
	c.log.Warn("the store has another segment of that name, which stays; the spooled one is set aside", "segment", seg.Name(c.cluster.SegmentSize))
	return c.spool.setAside(path)
}

// recordStored records a segment by its journal in the store.
func (c *capturer) recordStored(ctx context.Context, seg pg.Segment) error {
	name := seg.Name(c.cluster.SegmentSize)
	info, err := c.store.Stat(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, name))
	if err != nil {
		return err
	}
	return c.index.Heads(ctx, seg.Timeline, seg.Number, seg.Number, func(h *journal.Head) (bool, error) {
		return true, c.catalog.AddSegment(ctx, catalog.Segment{
			ClusterID: c.cluster.ID, Timeline: seg.Timeline, Number: seg.Number, Name: name,
			Start: c.cluster.SegmentSize.Start(seg.Number), End: h.End, StoredBytes: info.Size, Records: h.Records,
			LastCommit: sql.NullTime{Time: h.Latest, Valid: h.Commits > 0},
		})
	})
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
