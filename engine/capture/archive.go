package capture

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store"
)

// archiveLoop brings finished segments into the store, in order, until ctx ends.
func (c *capturer) archiveLoop(ctx context.Context) {
	wait := time.Duration(0)
	for {
		err := c.archiveAll(ctx)
		if ctx.Err() != nil {
			return
		}
		if errors.Is(err, errForGood) {
			c.stop(err)
			return
		}
		c.mu.Lock()
		c.storeTrouble = ""
		if err != nil {
			c.storeTrouble = err.Error()
		}
		c.mu.Unlock()
		if err != nil {
			wait = min(max(2*wait, firstBackoff), longestWait)
			c.log.Warn("WAL is waiting in the spool", "error", err, "next_try_in", wait.String())
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
			continue
		}
		wait = 0
		if !c.rest(ctx, c.lacksNames()) {
			return
		}
	}
}

// lastStore is how long the end of a capture may take for what is finished to come into the store. It is less
// than another instance waits for one that has lost its lease.
const lastStore = catalog.TakeoverWait - time.Second

// storeLast brings what is finished into the store when a capture has ended and its lease is still held. The
// server need not keep what was reported safe, so that a capture from another home could not have it sent again.
func (c *capturer) storeLast(ctx context.Context) {
	if c.snapshot().State == catalog.CaptureFailed {
		return // nothing is put beside what may be another history
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastStore)
	defer cancel()
	c.archiving.Lock()
	defer c.archiving.Unlock()
	if err := c.archiveFinished(ctx); err != nil {
		c.log.Warn("finished segments stay in the spool until capture goes on in this home", "error", err)
	}
}

// readPause lets what arrives gather a little before it is read.
const readPause = 250 * time.Millisecond

// lacksNames tells whether the server must be asked for names again soon, though nothing comes to read.
func (c *capturer) lacksNames() bool {
	c.archiving.Lock()
	defer c.archiving.Unlock()
	return c.follower.lacking
}

// rest waits until there is something to read, or only a little if it is wanted again soon; false at the end.
func (c *capturer) rest(ctx context.Context, soon bool) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(readPause):
	}
	var again <-chan time.Time
	if soon {
		again = time.After(refreshPause)
	}
	select {
	case <-ctx.Done():
		return false
	case <-c.wakeup:
	case <-again:
	}
	return true
}

// sweep removes from the store what was not written to its end, once: nobody else writes this cluster's
// WAL while we hold the lease. It is not done at the start, for which the store need not be there.
func (c *capturer) sweep(ctx context.Context) error {
	if c.swept {
		return nil
	}
	for _, prefix := range []string{store.WALPrefix(c.cluster.ID), store.JournalPrefix(c.cluster.ID),
		store.AuthorsPrefix(c.cluster.ID)} {
		if err := c.store.Sweep(ctx, prefix); err != nil {
			return err
		}
	}
	c.swept = true
	return nil
}

// archive puts a spooled file into the store, whether or not it can be read, and records it; then
// it is read into the journal, and only then removed. What was put and not read when the service
// was killed is read when it is found again.
func (c *capturer) archive(ctx context.Context, seg pg.Segment, path string) error {
	f, err := disk.Open(c.spool.Disk, path)
	if errors.Is(err, os.ErrNotExist) {
		return nil // it was done with since it was listed
	}
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	name, start := seg.Name(c.cluster.SegmentSize), c.cluster.SegmentSize.Start(seg.Number)
	record := catalog.Segment{ClusterID: c.cluster.ID, Timeline: seg.Timeline, Number: seg.Number, Name: name, Start: start,
		End: start + pg.LSN(info.Size())}
	is, err := c.beside(ctx, seg, f)
	if err != nil {
		return err
	}
	changed := false // on the spool's disk, since it was received
	if is == goesFurther {
		if record.StoredBytes, changed, err = c.putSegment(ctx, seg, f); err != nil {
			return fmt.Errorf("put segment %s into the store: %w", name, err)
		}
		if err := c.catalog.AddSegment(ctx, record); err != nil {
			return err
		}
	} else if done, err := c.keepStored(ctx, seg, path, is); err != nil || done {
		c.follower.forget() // it goes on with what the store has
		return err
	}
	if err := c.readStored(ctx, seg, path, &record, changed); err != nil {
		return err
	}
	return c.spool.Remove(seg, path)
}

// sharePartial puts what is safe of the segment that is being received into the store, if another
// instance asks for it. The whole segment takes its place later.
func (c *capturer) sharePartial(ctx context.Context, k catalog.Capture) error {
	z, asked := c.cluster.SegmentSize, pg.LSN(c.asked.Load())
	if asked <= c.shared || k.FlushedLSN < asked || k.FlushedLSN <= k.StoredLSN || z.Offset(k.FlushedLSN) == 0 {
		return nil
	}
	seg := pg.Segment{Timeline: k.Timeline, Number: z.Number(k.FlushedLSN)}
	f, err := disk.Open(c.spool.Disk, c.spool.PartialPath(seg))
	if errors.Is(err, os.ErrNotExist) {
		return nil // finished meanwhile
	}
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	if is, err := c.beside(ctx, seg, f); err != nil || is != goesFurther {
		return err
	}
	start := z.Start(seg.Number)
	record := catalog.Segment{ClusterID: c.cluster.ID, Timeline: seg.Timeline, Number: seg.Number, Name: seg.Name(z), Start: start,
		End: k.FlushedLSN}
	_, record.StoredBytes, err = c.put(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, record.Name),
		io.NewSectionReader(f, 0, int64(k.FlushedLSN-start)))
	if err == nil {
		err = c.catalog.AddSegment(ctx, record)
	}
	if err == nil {
		c.shared = k.FlushedLSN
	}
	return err
}

// putSegment puts a spooled segment into the store as it is now, and tells whether that is what
// was received.
func (c *capturer) putSegment(ctx context.Context, seg pg.Segment, f disk.File) (stored int64, changed bool, err error) {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return 0, false, err
	}
	sum := crc32.New(pg.Castagnoli)
	_, stored, err = c.put(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, seg.Name(c.cluster.SegmentSize)), io.TeeReader(f, sum))
	received, known := c.spool.Sum(seg)
	return stored, known && received != sum.Sum32(), err
}

// readStored reads a segment that is in the store into the journal, and completes its record. What
// cannot be read is a hole, and a journal that cannot be made now is made when it is asked for.
func (c *capturer) readStored(ctx context.Context, seg pg.Segment, path string, record *catalog.Segment, changed bool) error {
	if stored, err := c.store.Stat(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, record.Name)); err == nil {
		record.StoredBytes = stored.Size
	}
	x, err := c.readWhole(ctx, seg, path, record.End)
	var unreadable *wal.Damage
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case changed || errors.As(err, &unreadable):
		c.follower.forget()
		if record.Unreadable = "the spool's disk gives back other bytes than were received"; unreadable != nil {
			record.Unreadable = unreadable.Error()
		}
		c.log.Error("a segment cannot be read; it is stored as it came, and is a hole", "segment", record.Name, "error", record.Unreadable)
		c.noteHole(ctx, spool.Position{Timeline: seg.Timeline, LSN: record.Start},
			"segment "+record.Name+" was stored as it came and cannot be read: "+record.Unreadable)
	case err != nil:
		c.follower.forget()
		c.log.Warn("the journal of a segment was not made; it is made when it is needed", "segment", record.Name, "error", err)
	default:
		record.Records, record.LastCommit = x.Records, sql.NullTime{Time: x.Latest, Valid: x.Commits > 0}
		if err := c.index.Put(ctx, x); err != nil {
			c.log.Warn("the journal of a segment was not kept; it is made again when it is needed", "segment", record.Name, "error", err)
		}
		if c.cluster.SegmentSize.Offset(record.End) != 0 {
			c.follower.forget() // what comes next does not go on here
		}
	}
	return c.catalog.AddSegment(ctx, *record)
}

// readWhole reads a segment to its end, and gives its journal.
func (c *capturer) readWhole(ctx context.Context, seg pg.Segment, path string, end pg.LSN) (*journal.Segment, error) {
	if err := c.follower.read(ctx, seg, path, end); err != nil {
		return nil, err
	}
	return c.follower.finish(ctx, end)
}

// keepStored leaves a segment as the store has it. Where that is recorded and read, or is another
// than the spooled one, the spooled one goes out of the way and is done with.
func (c *capturer) keepStored(ctx context.Context, seg pg.Segment, path string, is verdict) (done bool, err error) {
	known, read, err := c.catalog.HasSegment(ctx, c.cluster.ID, seg)
	if err != nil {
		return false, err
	}
	if is == contained && !read && path == c.spool.Path(seg) {
		return false, nil // put, and not recorded or not read, when a service was killed
	}
	if !known {
		if err := c.recordStored(ctx, seg); err != nil {
			return false, err
		}
	}
	if is == contained {
		return true, c.spool.Remove(seg, path)
	}
	name := seg.Name(c.cluster.SegmentSize)
	c.log.Error("the store has another segment of that name, which stays; the spooled one is set aside", "segment", name)
	if err := c.spool.SetAside(seg, path); err != nil {
		return false, err
	}
	return true, fmt.Errorf("the server has sent another segment %s than the one that the store has, which stays; the one just sent is "+
		"in the spool's folder %q: %w: "+
		"if the server was restored in place without a new timeline, register it as another cluster; else find out which of the two is "+
		"right", name, spool.AsideDir, errForGood)
}

// recordStored records a segment by its journal in the store.
func (c *capturer) recordStored(ctx context.Context, seg pg.Segment) error {
	name := seg.Name(c.cluster.SegmentSize)
	info, err := c.store.Stat(ctx, store.SegmentKey(c.cluster.ID, seg.Timeline, name))
	if err != nil {
		return err
	}
	return c.index.Heads(ctx, seg.Timeline, seg.Number, seg.Number, nil, func(h *journal.Head) (bool, error) {
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
