package capture

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store"
)

// locate finds where to go on, making the slot if there is none. next is set
// instead where the server has left our timeline before the place that we have come to.
func (c *capturer) locate(ctx context.Context, s *replication.Session) (at spool.Position, next replication.Next, err error) {
	sys, err := s.Identify(ctx)
	if err != nil {
		return at, next, err
	}
	if sys.ID != c.cluster.SystemID {
		return at, next, fmt.Errorf("the server has system identifier %d, but %s was registered with %d: it is another cluster: %w; "+
			"point the connection at the right server, or register this one under another name", sys.ID, c.cluster.Name,
			c.cluster.SystemID, errForGood)
	}
	if state, err := c.catalog.Capture(ctx, c.cluster.ID); err != nil {
		return at, next, err
	} else if state.Diverged != "" {
		return at, next, fmt.Errorf("%s: %w", state.Diverged, errForGood)
	}
	slot, ok, err := s.ReadSlot(ctx, c.cluster.Slot)
	if err != nil {
		return at, next, err
	}
	if !ok || slot.Restart == 0 {
		if slot, err = c.newSlot(ctx, s, ok); err != nil {
			return at, next, err
		}
	}
	if at, err = c.continueAt(ctx, slot, sys); err != nil {
		return at, next, err
	}
	switch {
	case at.Timeline != sys.Timeline:
		next, err = c.overtaken(ctx, s, at, sys.Timeline)
	case at.LSN > sys.Flushed:
		err = c.judgeRewound(ctx, at, sys)
	}
	return at, next, err
}

// judgeRewound tells what it means that a server's WAL ends before what was captured of it. A
// standby comes as far again; a primary goes on with other WAL under the same places, of which
// nothing must ever be put beside what was captured.
func (c *capturer) judgeRewound(ctx context.Context, at spool.Position, sys replication.System) error {
	conn, err := c.access.SQL(ctx, "")
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	var standby bool
	if err := conn.QueryRow(ctx, `select pg_catalog.pg_is_in_recovery()`).Scan(&standby); err != nil {
		return err
	}
	if standby {
		return fmt.Errorf("the standby has WAL up to %s, and it was captured up to %s: capture goes on when it has come as far",
			sys.Flushed, at.LSN)
	}
	why := fmt.Sprintf("the server's WAL ended at %s when it had been captured up to %s: it was restored in place to an earlier state, "+
		"or has lost what it had written. "+
		"What comes now is another history: register the server anew, under another name; moments of before are still reached under "+
		"this one", sys.Flushed, at.LSN)
	if err := c.catalog.SetDiverged(ctx, c.cluster.ID, why); err != nil {
		return err
	}
	return fmt.Errorf("%s: %w", why, errForGood)
}

// newSlot makes our slot. One that is there but holds nothing back any more was
// invalidated by the server, and is made anew.
func (c *capturer) newSlot(ctx context.Context, s *replication.Session, invalidated bool) (replication.Slot, error) {
	if invalidated {
		c.log.Warn("the server has invalidated the slot; it is made anew", "slot", c.cluster.Slot)
		if err := s.DropSlot(ctx, c.cluster.Slot); err != nil {
			return replication.Slot{}, err
		}
	}
	if err := s.CreateSlot(ctx, c.cluster.Slot); err != nil {
		return replication.Slot{}, err
	}
	slot, _, err := s.ReadSlot(ctx, c.cluster.Slot)
	if err == nil && slot.Restart == 0 {
		err = fmt.Errorf("the new slot %s retains no WAL", c.cluster.Slot)
	}
	return slot, err
}

// acceptHole puts what there is of a cut segment into the store, because the server
// no longer has its rest. The next try goes on where the slot begins; what lies
// between is a hole, which the cluster's reach shows.
func (c *capturer) acceptHole(ctx context.Context, at spool.Position, cause error) error {
	c.refused = at.LSN
	c.log.Error("the server no longer has WAL that was not captured: a hole", "from", at.LSN.String(), "error", cause)
	c.noteHole(ctx, at, "the replication slot was dropped or invalidated, and the server had removed the WAL before it was captured")
	if err := c.archivePartials(ctx, func(pg.Segment) bool { return true }); err != nil {
		return err
	}
	return fmt.Errorf("the server no longer has the WAL from %s on: there is a hole, and capture goes on after it; to reach later "+
		"moments take a base backup: velvet backup take %s", at.LSN, c.cluster.Name)
}

// noteHole records why WAL is missing, for those who ask later.
func (c *capturer) noteHole(ctx context.Context, at spool.Position, cause string) {
	err := c.catalog.AddHoleCause(ctx, catalog.HoleCause{ClusterID: c.cluster.ID, Timeline: at.Timeline, From: at.LSN, Cause: cause})
	if err != nil {
		c.log.Warn("the cause of a hole was not recorded", "error", err)
	}
}

// continueAt prefers the partial segment, as far as the slot vouches for it; then
// the end of what was finished; then, for a new capture, the slot's segment.
func (c *capturer) continueAt(ctx context.Context, slot replication.Slot, sys replication.System) (spool.Position, error) {
	z := c.cluster.SegmentSize
	last, ok, err := c.lastFinished(ctx)
	if err != nil {
		return spool.Position{}, err
	}
	if ok {
		if err := c.dropOutdated(last); err != nil {
			return spool.Position{}, err
		}
	}
	if at, end, ok, err := c.spool.Vouched(slot.Restart); err != nil || ok {
		if err == nil && at.LSN < end {
			// At most to before its last byte: with that the segment is finished.
			last := z.Start(z.Number(at.LSN)+1) - 1
			at.LSN = min(max(at.LSN, c.verified(ctx, at.Timeline, end)), last)
		}
		return at, err
	}
	if ok {
		end := spool.Position{Timeline: last.Timeline, LSN: z.Start(last.Number + 1)}
		if end.LSN > c.refused || slot.Restart <= end.LSN {
			return end, nil // a slot that was made anew further on says nothing of what the server still has
		}
	}
	t := slot.RestartTimeline
	if t == 0 {
		t = sys.Timeline
	}
	return spool.Position{Timeline: t, LSN: z.Start(z.Number(slot.Restart))}, nil
}

// verified is where the last whole record of the newest partial file ends, which goes up to end; 0 if
// that cannot be told. The file is safe up to there when verified returns, whatever became of our
// reports: what was acknowledged is never given up for the server to send it again.
func (c *capturer) verified(ctx context.Context, t pg.Timeline, end pg.LSN) (at pg.LSN) {
	z := c.cluster.SegmentSize
	seg := pg.Segment{Timeline: t, Number: z.Number(end - 1)}
	probe := &follower{disk: c.spool.Disk, cluster: c.cluster, access: c.access, index: c.newIndex()}
	if err := probe.resume(ctx, seg); err != nil {
		return 0 // the journal before it is not known yet
	}
	f, err := disk.Open(c.spool.Disk, c.spool.PartialPath(seg))
	if err != nil {
		return 0
	}
	defer func() { _ = f.Close() }()
	start, from := z.Start(seg.Number), probe.reader.Needs()
	if from >= end || f.Sync() != nil {
		return 0
	}
	probe.reader.Resume(io.NewSectionReader(f, int64(from-start), int64(end-from)))
	for ctx.Err() == nil {
		r, err := probe.reader.Next()
		if err != nil {
			break
		}
		at = min(r.End, end)
	}
	return at
}

// lastFinished is the newest whole segment in spool or store.
func (c *capturer) lastFinished(ctx context.Context) (last pg.Segment, ok bool, err error) {
	if last, ok, err = c.catalog.LastWhole(ctx, c.cluster); err != nil {
		return last, false, err
	}
	spooled, err := c.spool.Finished()
	if err != nil {
		return last, false, err
	}
	if n := len(spooled); n > 0 {
		// The furthest of both: another service may have stored more meanwhile.
		if s := spooled[n-1]; !ok || s.Timeline > last.Timeline || s.Timeline == last.Timeline && s.Number > last.Number {
			last, ok = s, true
		}
	}
	return last, ok, nil
}

// overtaken finds out whether the server, now on a later timeline, still has our
// timeline up to where we are; if it left it earlier, we go on from the fork.
func (c *capturer) overtaken(ctx context.Context, s *replication.Session, at spool.Position,
	now pg.Timeline) (next replication.Next, err error) {
	history, err := s.History(ctx, now)
	if err != nil {
		return next, err
	}
	forks, err := pg.ParseHistory(now, history)
	if err != nil {
		return next, err
	}
	for i, f := range forks {
		if f.Timeline != at.Timeline {
			continue
		}
		if at.LSN <= f.At {
			return next, nil // the server sends the rest itself and names the next timeline
		}
		child := now
		if i+1 < len(forks) {
			child = forks[i+1].Timeline
		}
		c.log.Warn("the server left our timeline before where we are", "timeline", uint32(at.Timeline), "ours", at.LSN.String(), "fork",
			f.At.String())
		return replication.Next{Timeline: child, At: f.At}, nil
	}
	if i := pg.LastShared(forks, c.histories[at.Timeline]); i >= 0 { // it was rewound to before our timeline began
		child := now
		if i+1 < len(forks) {
			child = forks[i+1].Timeline
		}
		c.log.Warn("the server's timeline does not come from ours, but from one before it", "timeline", uint32(now), "ours",
			uint32(at.Timeline), "shared", uint32(forks[i].Timeline), "fork", forks[i].At.String())
		return replication.Next{Timeline: child, At: forks[i].At}, nil
	}
	return next, fmt.Errorf("the server is on timeline %d, whose history does not lead through our timeline %d: %w; was another "+
		"cluster's data put in its place?", now, at.Timeline, errForGood)
}

// fetchHistory keeps the history file of a timeline above 1.
func (c *capturer) fetchHistory(ctx context.Context, s *replication.Session, t pg.Timeline) error {
	if t < 2 {
		return nil
	}
	known, err := c.catalog.Timelines(ctx, c.cluster.ID)
	if err != nil {
		return err
	}
	for _, k := range known {
		if k.Timeline == t {
			return nil
		}
	}
	content, err := s.History(ctx, t)
	if err != nil {
		return err
	}
	forks, err := pg.ParseHistory(t, content)
	if err != nil {
		return err
	}
	if len(forks) == 0 {
		return fmt.Errorf("the history of timeline %d names no parent", t)
	}
	if _, _, err := c.put(ctx, store.HistoryKey(c.cluster.ID, t), bytes.NewReader(content)); err != nil {
		return err
	}
	parent := forks[len(forks)-1]
	if err := c.catalog.AddTimeline(ctx, catalog.Timeline{ClusterID: c.cluster.ID, Timeline: t, Parent: parent.Timeline,
		ForkedAt: parent.At, History: string(content)}); err != nil {
		return err
	}
	if err := c.catalog.SettleUndone(ctx, c.cluster.ID, t, forks); err != nil {
		return err
	}
	c.archiving.Lock()
	defer c.archiving.Unlock()
	c.index.Histories[t] = forks
	return nil
}

// leaveTimeline puts the cut segment at the end of a timeline into the store as it
// is, and opens the next timeline at the beginning of the segment in which it forked.
func (c *capturer) leaveTimeline(ctx context.Context, next replication.Next) error {
	c.spool.Close()
	if err := c.archivePartials(ctx, func(seg pg.Segment) bool { return seg.Timeline < next.Timeline }); err != nil {
		return err
	}
	c.log.Info("capture follows to another timeline", "timeline", uint32(next.Timeline), "forked_at", next.At.String())
	// The empty partial file is how the next session knows where to go on.
	c.spool.Resume(next.Timeline, c.cluster.SegmentSize.Start(c.cluster.SegmentSize.Number(next.At)))
	return c.spool.Begin()
}

// archivePartials brings cut segments into the store as they are.
func (c *capturer) archivePartials(ctx context.Context, which func(pg.Segment) bool) error {
	c.archiving.Lock()
	defer c.archiving.Unlock()
	if err := c.archiveFinished(ctx); err != nil { // in the order of the log
		return err
	}
	partials, err := c.spool.Partials()
	if err != nil {
		return err
	}
	for _, seg := range partials {
		if !which(seg) {
			continue
		}
		path := c.spool.PartialPath(seg)
		if err := c.dropUnsafe(ctx, seg, path); err != nil {
			return err
		}
		if size, err := c.spool.PartialSize(seg); err == nil && size == 0 {
			if err := c.spool.Disk.Remove(path); err != nil {
				return err
			}
			continue
		}
		if err := c.archive(ctx, seg, path); err != nil {
			return err
		}
	}
	return nil
}

// dropUnsafe cuts bytes off the end of a cut segment that never reached the disk.
func (c *capturer) dropUnsafe(ctx context.Context, seg pg.Segment, path string) error {
	size, err := c.spool.PartialSize(seg)
	if err != nil {
		return err
	}
	start := c.cluster.SegmentSize.Start(seg.Number)
	var d *wal.Damage
	if err := c.follower.read(ctx, seg, path, start+pg.LSN(size)); !errors.As(err, &d) {
		return nil // what else is wrong with reading it does not keep it from the store
	}
	c.log.Warn("a cut segment ends in bytes that were never safe; they are dropped", "at", d.LSN.String())
	return c.spool.Disk.Truncate(path, c.cluster.SegmentSize.Offset(max(d.LSN, start)))
}
