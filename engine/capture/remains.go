package capture

import (
	"context"
	"errors"
	"fmt"
	"io"

	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/server/remains"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/spool"
)

// takeRemains takes in what a server wrote last and could not send any more, where it is down and its directory lies on a host of ours.
// What was taken is not looked for again before it has been started.
func (c *capturer) takeRemains(ctx context.Context) error {
	if c.machineOf == nil || c.cluster.DataDirectory == "" {
		return nil
	}
	machine, err := c.machineOf(ctx, c.cluster)
	if err != nil {
		return nil // it is out of reach
	}
	left, err := remains.Open(machine, c.cluster.DataDirectory, c.cluster.SystemID, c.cluster.SegmentSize)
	if err != nil {
		return nil // it runs, is lost, elsewhere, or of somebody else
	}
	defer func() { _ = left.Close() }()
	if c.searched == left.Control {
		return nil
	}
	from, err := c.continueAt(ctx, replication.Slot{}, replication.System{Timeline: left.Control.Timeline})
	if err != nil || from.LSN == 0 || from.Timeline != left.Control.Timeline {
		return err // nothing was captured that it could go on from
	}
	captured, err := c.capturedBefore(ctx, from)
	if err != nil {
		return err
	}
	end, err := left.End(ctx, from.Timeline, from.LSN, captured)
	if err := errors.Join(err, captured.Close()); err != nil {
		return err
	}
	c.spool.Resume(from.Timeline, from.LSN)
	c.anew.Store(true)
	defer c.spool.Close()
	err = left.Take(ctx, from.Timeline, from.LSN, end, func(at pg.LSN, b []byte) error {
		finished, err := c.spool.Write(at, b)
		if finished {
			c.wake()
		}
		return err
	})
	if errors.Is(err, remains.ErrRuns) {
		return nil // it tells of its WAL itself
	}
	if err := errors.Join(err, c.spool.Flush()); err != nil {
		return err
	}
	c.set(func(k *catalog.Capture) {
		k.Timeline, k.ReceivedLSN, k.FlushedLSN = from.Timeline, c.spool.Written(), c.spool.Flushed()
		k.ServerLSN = max(k.ServerLSN, k.FlushedLSN)
	})
	c.searched = left.Control
	c.wake()
	if end > from.LSN {
		c.log.Info("the server is down; what it wrote last was taken from its directory", "from", from.LSN.String(), "to", end.String())
	}
	return nil
}

// capturedBefore opens what was captured of the segment in which the byte before a place lies.
func (c *capturer) capturedBefore(ctx context.Context, at spool.Position) (io.ReadCloser, error) {
	z := c.cluster.SegmentSize
	seg := pg.Segment{Timeline: at.Timeline, Number: z.Number(at.LSN - 1)}
	path := c.spool.PartialPath(seg)
	if z.Offset(at.LSN) == 0 {
		path = c.spool.Path(seg)
	}
	f, err := disk.Open(c.spool.Disk, path)
	if err == nil {
		return struct {
			io.Reader
			io.Closer
		}{io.LimitReader(f, int64(at.LSN-z.Start(seg.Number))), f}, nil
	}
	stored, storeErr := c.store.Segment(ctx, c.cluster.ID, seg, z)
	if storeErr != nil {
		return nil, fmt.Errorf("what was captured before %s cannot be read: %w", at.LSN, errors.Join(err, storeErr))
	}
	return stored, nil
}
