package changes

import (
	"context"
	"errors"
	"fmt"
	"io"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
)

// chain reads from an address to the end of a segment, which may begin in a segment
// before it: where a record goes over a border.
type chain struct {
	ctx     context.Context
	index   *Indexes
	to      pg.Segment
	at      pg.LSN
	current io.ReadCloser
	segment pg.Segment // that current reads
	end     pg.LSN     // of the current segment
}

func (c *chain) Read(p []byte) (int, error) {
	for {
		if c.current == nil {
			if err := c.open(); err != nil {
				return 0, err
			}
		}
		n, err := c.current.Read(p)
		c.at += pg.LSN(n)
		if n > 0 {
			return n, nil
		}
		if !errors.Is(err, io.EOF) {
			return 0, fmt.Errorf("segment %s: %w", c.segment.Name(c.index.Cluster.SegmentSize), err)
		}
		if err := c.Close(); err != nil {
			return 0, err
		}
		if c.at < c.end {
			return 0, io.EOF // a cut segment is the last
		}
	}
}

func (c *chain) open() error {
	z := c.index.Cluster.SegmentSize
	n := z.Number(c.at)
	if n > c.to.Number {
		return io.EOF
	}
	if err := c.ctx.Err(); err != nil {
		return err
	}
	seg := pg.Segment{Timeline: plan.TimelineOf(z, n, c.to.Timeline, c.index.Histories[c.to.Timeline]), Number: n}
	r, err := c.index.Open(c.ctx, seg)
	if err != nil {
		return fmt.Errorf("segment %s: %w", seg.Name(z), err)
	}
	c.current, c.segment, c.end = r, seg, z.Start(n+1)
	if skip := z.Offset(c.at); skip > 0 {
		if _, err := io.CopyN(io.Discard, r, skip); err != nil {
			return err
		}
	}
	return nil
}

func (c *chain) Close() (err error) {
	if c.current != nil {
		err = c.current.Close()
		c.current = nil
	}
	return err
}
