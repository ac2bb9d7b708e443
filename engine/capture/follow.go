package capture

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync/atomic"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
)

// follower reads the captured WAL once, after the flush position: every record is
// verified and taken into the journal, and transactions that are incidents are
// recorded as they end. It belongs to whoever holds the capturer's archiving lock.
type follower struct {
	disk    disk.Disk
	cluster catalog.Cluster
	access  access.Access
	index   *changes.Indexes
	book    *names.Book
	rule    *atomic.Pointer[journal.Rule]
	note    func(pg.Timeline, *journal.Transaction, []journal.Incident) error
	who     func(pg.FullXID) (journal.Author, bool)

	reader   *wal.Reader       // nil before the first segment
	recorder *journal.Recorder // of the segment being read; nil before the first
	segment  pg.Segment
	state    journal.State // in which finished leaves the journal; the two change together
	finished pg.Segment    // the segment that state and reader stand after
	sampled  time.Time     // when names were last asked for because one was missing
	lacking  bool          // names are missing still
	backoff  time.Duration // until they are asked for again, where that failed
	unjudged []unjudged    // in the order of their commits
}

// unjudged is a committed transaction that touched what had no name yet.
type unjudged struct {
	*journal.Transaction
	timeline pg.Timeline
}

// mostUnjudged bounds how many transactions wait for names while the server cannot be asked. Beyond it the
// earliest is judged by what is known.
const mostUnjudged = 1000

// forget has the follower begin anew with what the store knows.
func (f *follower) forget() { f.reader, f.recorder, f.finished = nil, nil, pg.Segment{} }

// read takes in the records of a segment up to an LSN, as far as they are whole. Of a record that
// is not, what was read is not read again.
func (f *follower) read(ctx context.Context, seg pg.Segment, path string, to pg.LSN) error {
	if f.recorder == nil || f.segment != seg {
		if err := f.begin(ctx, seg); err != nil {
			return err
		}
	}
	file, err := disk.Open(f.disk, path)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	start, from := f.cluster.SegmentSize.Start(seg.Number), f.reader.Needs()
	if from >= to {
		return nil
	}
	f.reader.Resume(io.NewSectionReader(file, int64(from-start), int64(to-from)))
	if err := changes.ReadRecords(f.recorder, f.reader, func(t *journal.Transaction) error { return f.judge(ctx, t) }); err != nil {
		f.forget()
		return err
	}
	return nil
}

// begin opens the journal of a segment at the state that the one before it left.
func (f *follower) begin(ctx context.Context, seg pg.Segment) error {
	prev := pg.Segment{}
	if seg.Number > 0 {
		prev = f.index.Predecessor(seg)
	}
	if f.finished != prev || prev == (pg.Segment{}) {
		f.forget()
		if err := f.resume(ctx, seg); err != nil {
			return err
		}
		f.finished = prev
	}
	f.recorder, f.segment = journal.NewRecorder(seg, f.cluster.SegmentSize, f.state), seg
	return nil
}

// resume finds the state before a segment in the store. At the beginning of the known
// WAL the server tells where the ids of transactions stand.
func (f *follower) resume(ctx context.Context, seg pg.Segment) error {
	var err error
	if f.state, err = f.index.Before(ctx, seg); err != nil {
		return fmt.Errorf("the journal before segment %s: %w", seg.Name(f.cluster.SegmentSize), err)
	}
	start := f.cluster.SegmentSize.Start(seg.Number)
	if f.state.Next == 0 {
		if next, err := names.NextXID(ctx, f.access); err == nil {
			f.state.NextXID, f.state.Epoch = next, true
		}
		f.reader = changes.NewReader(f.cluster, bytes.NewReader(nil), start, 0)
		return nil
	}
	if wal.PageOf(f.state.Next) >= start {
		f.reader = changes.NewReader(f.cluster, bytes.NewReader(nil), f.state.Next, f.state.Prev)
		return nil
	}
	// The beginning of a record that goes on in this segment; none ends before it.
	before := f.index.Stream(ctx, f.index.Predecessor(seg), wal.PageOf(f.state.Next))
	defer func() { _ = before.Close() }()
	f.reader = changes.NewReader(f.cluster, before, f.state.Next, f.state.Prev)
	if _, err := f.reader.Next(); !errors.Is(err, io.EOF) {
		return fmt.Errorf("the journal before segment %s does not go up to it: %w", seg.Name(f.cluster.SegmentSize),
			errors.Join(err, errJournal))
	}
	return nil
}

// errJournal says that the journal and the WAL do not fit together.
var errJournal = errors.New("the journal is made anew")

// finish gives the journal of a segment that was read to its end, and is ready for the next.
func (f *follower) finish(ctx context.Context, end pg.LSN) (*journal.Segment, error) {
	s, err := f.recorder.Segment(end, f.book.Now())
	if err != nil {
		return nil, err
	}
	if len(s.Unknown()) > 0 && f.refresh(ctx) {
		if s, err = f.recorder.Segment(end, f.book.Now()); err != nil {
			return nil, err
		}
	}
	f.state, f.finished, f.recorder = s.State, f.segment, nil
	return s, nil
}

// refreshPause keeps files that nobody can name from having the server asked without end. It is also how long the server may take.
const refreshPause = 3 * time.Second

// refresh asks the server for names, unless that was done just now. What it could not tell, or not in time, it is asked again, less
// and less often.
func (f *follower) refresh(ctx context.Context) bool {
	if f.lacking = time.Since(f.sampled) < max(refreshPause, f.backoff); f.lacking {
		return false
	}
	f.sampled = time.Now()
	ctx, cancel := context.WithTimeout(ctx, refreshPause)
	defer cancel()
	if f.book.Sample(ctx, f.access) != nil {
		f.lacking, f.backoff = true, min(2*max(f.backoff, refreshPause), namesEvery)
	} else {
		f.backoff = 0
	}
	return true // some of them may be known now
}

// settle asks for names that are missing, keeps those that were learned, and judges what waited for them. What the
// server does not know even when it is asked afterwards, it will not tell later.
func (f *follower) settle(ctx context.Context) error {
	if f.lacking {
		f.refresh(ctx)
	}
	var failed error
	for !f.lacking && failed == nil && len(f.unjudged) > 0 {
		u := f.unjudged[0]
		f.unjudged, failed = f.unjudged[1:], f.hold(u, u.Tables(f.book.Now()))
	}
	return errors.Join(failed, f.book.Save(ctx))
}

// judge holds a transaction against the cluster's rule, at once or when what it touched has a name.
func (f *follower) judge(ctx context.Context, t *journal.Transaction) error {
	if !t.Committed {
		return nil
	}
	if f.book.See(t) {
		f.refresh(ctx)
	}
	tables := t.Tables(f.book.Now())
	// What is attached, detached or made below another table, only the server can tell.
	unclear := func(c journal.TableChange) bool { return !c.Known || c.System() && c.Table == "pg_inherits" }
	reshaped := slices.ContainsFunc(tables, func(c journal.TableChange) bool { return !c.System() && c.Counts[journal.Alter] > 0 })
	if (reshaped || slices.ContainsFunc(tables, unclear)) && f.refresh(ctx) {
		tables = t.Tables(f.book.Now())
		f.lacking = f.lacking || reshaped // the server may not show it yet
	}
	if len(t.DroppedDatabases) == 0 && !journal.Grave(tables) {
		return nil
	}
	u := unjudged{t, f.segment.Timeline}
	if f.lacking && slices.ContainsFunc(tables, unclear) {
		u.Transaction = t.Clone() // t is another's once the next record was read
		f.unjudged = append(f.unjudged, u)
		if len(f.unjudged) <= mostUnjudged {
			return nil
		}
		u, f.unjudged = f.unjudged[0], f.unjudged[1:]
		tables = u.Tables(f.book.Now())
	}
	return f.hold(u, tables)
}

// hold holds what a transaction did to tables against the rule, and notes it where that marks it.
func (f *follower) hold(u unjudged, tables []journal.TableChange) error {
	author, _ := f.who(u.XID)
	if why := f.rule.Load().For(author.Role).Judge(u.Transaction, tables, f.book.Rows); len(why) > 0 {
		return f.note(u.timeline, u.Transaction, why)
	}
	return nil
}

// noteIncident keeps an incident until it is recorded.
func (c *capturer) noteIncident(timeline pg.Timeline, t *journal.Transaction, why []journal.Incident) error {
	var reasons []string
	for _, w := range why {
		reasons = append(reasons, w.Reason)
	}
	encoded, err := json.Marshal(reasons)
	c.incidents = append(c.incidents, catalog.Incident{
		ClusterID: c.cluster.ID, Timeline: timeline, LSN: t.End, XID: uint64(t.XID), CommittedAt: t.Time,
		Reasons: encoded, Author: c.authorOf(t),
	})
	return err
}

// authorOf names who was seen with a transaction's id.
func (c *capturer) authorOf(t *journal.Transaction) string {
	if who, is := c.authors.of(t.XID); is {
		return who.String()
	}
	return ""
}

// recordIncidents writes what was noted to the catalogue. What could not be written is
// written the next time.
func (c *capturer) recordIncidents(ctx context.Context) error {
	for len(c.incidents) > 0 {
		i := c.incidents[0]
		added, err := c.catalog.AddIncident(ctx, i)
		if err != nil {
			return fmt.Errorf("record the incident of tx %d: %w", i.XID, err)
		}
		c.incidents = c.incidents[1:]
		if added {
			c.log.Warn("incident", "transaction", i.XID, "committed", i.CommittedAt, "reasons", string(i.Reasons))
			c.changed(c.cluster.ID)
		}
	}
	return nil
}
