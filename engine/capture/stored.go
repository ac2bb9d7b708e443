package capture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/store"
)

// verdict is what becomes of a spooled segment.
type verdict int

const (
	goesFurther verdict = iota // it is put: the store has nothing of it, less, or cannot read what it has
	contained                  // the store has all of it
	contradicts                // the store has something else
)

// beside compares a spooled segment with what the store has under its name. Nothing stored is
// replaced by less: only a segment that holds all of it, byte for byte, and goes further.
func (c *capturer) beside(ctx context.Context, seg pg.Segment, spooled io.Reader) (verdict, error) {
	name := seg.Name(c.cluster.SegmentSize)
	if _, err := c.store.Stat(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, name)); errors.Is(err, store.ErrNotFound) {
		return goesFurther, nil
	} else if err != nil {
		return 0, err
	}
	stored, err := c.store.Segment(ctx, c.cluster.ID, seg, c.cluster.SegmentSize)
	var is verdict
	if err == nil {
		is, err = compare(stored, spooled)
		_ = stored.Close()
	}
	if errors.Is(err, layout.ErrCorrupt) || errors.Is(err, store.ErrNotFound) {
		return goesFurther, nil
	}
	if err != nil {
		return 0, fmt.Errorf("compare segment %s with what the store has of it: %w", name, err)
	}
	return is, nil
}

// compare reads a stored and a spooled segment side by side.
func compare(stored, spooled io.Reader) (verdict, error) {
	a, b := make([]byte, 1<<18), make([]byte, 1<<18)
	for {
		n, errA := io.ReadFull(stored, a)
		m, errB := io.ReadFull(spooled, b)
		if err := errors.Join(unlessEnd(errA), unlessEnd(errB)); err != nil {
			return 0, err
		}
		both := min(n, m)
		switch {
		case !bytes.Equal(a[:both], b[:both]):
			return contradicts, nil
		case m > n:
			return goesFurther, nil
		case m < len(b):
			return contained, nil
		}
	}
}

func unlessEnd(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil
	}
	return err
}

// dropOutdated sets partial segments aside that the store has gone beyond: another service has
// captured meanwhile, or this home is of an earlier day.
func (c *capturer) dropOutdated(last pg.Segment) error {
	partials, err := c.spool.Partials()
	if err != nil {
		return err
	}
	for _, seg := range partials {
		if seg.Timeline > last.Timeline || seg.Timeline == last.Timeline && seg.Number > last.Number {
			continue
		}
		c.log.Warn("the spool's cut segment is set aside: the store has more", "segment", seg.Name(c.cluster.SegmentSize), "stored_to",
			last.Name(c.cluster.SegmentSize))
		if err := c.spool.SetAside(seg, c.spool.PartialPath(seg)); err != nil {
			return err
		}
	}
	return nil
}
