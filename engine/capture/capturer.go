package capture

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/access"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/index"
	"velvetrewind/engine/names"
	"velvetrewind/engine/replication"
	"velvetrewind/engine/vault"
)

const (
	reportEvery    = time.Second
	saveEvery      = 500 * time.Millisecond
	longestSilence = 30 * time.Second // the server answers each report
	firstBackoff   = 250 * time.Millisecond
	longestWait    = 15 * time.Second
	spoolLimit     = 64 // finished segments that may wait for the store before capture pauses
	batchMessages  = 64 // received at most between two flushes
)

// capturer is the capture of one cluster while this instance holds its lease.
type capturer struct {
	cluster catalog.Cluster
	access  access.Access
	catalog *catalog.Catalog
	store   *vault.Vault
	codec   layout.Codec
	log     *slog.Logger
	changed func(cluster string)

	index    *index.Indexes
	book     *names.Book
	follower *follower
	rule     atomic.Pointer[journal.Rule]
	// archiving is held by whoever reads and stores captured WAL.
	archiving sync.Mutex
	anew      atomic.Bool        // the follower must begin anew
	incidents []catalog.Incident // not recorded yet; under archiving

	spool    *spool
	refused  pg.LSN        // up to where the server has said that it no longer has the WAL
	received bool          // something has come since the last try
	wakeup   chan struct{} // a segment is waiting for the store

	mu    sync.Mutex
	state catalog.Capture
	// storeTrouble is what keeps segments from the store; the stream goes on meanwhile.
	storeTrouble string
	said         []truth // what the server has said of itself and is not reached yet, oldest first
	askTrouble   string  // why it could not be asked last
}

// errForGood marks what trying again cannot mend.
var errForGood = errors.New("this needs a person")

// run captures until ctx ends.
func (c *capturer) run(ctx context.Context) {
	var wg sync.WaitGroup
	ctx, cancel := context.WithCancel(ctx)
	defer wg.Wait()
	defer cancel()
	wg.Go(func() { c.archiveLoop(ctx) })
	wg.Go(func() { c.saveLoop(ctx) })
	wg.Go(func() { c.nameLoop(ctx) })
	wg.Go(func() { c.askLoop(ctx) })
	wait := firstBackoff
	for {
		c.received = false
		err := c.connect(ctx)
		c.spool.close()
		if ctx.Err() != nil {
			return
		}
		if c.received {
			wait = firstBackoff
		}
		state := catalog.CaptureRetrying
		if errors.Is(err, errForGood) {
			state, wait = catalog.CaptureFailed, longestWait
		}
		c.set(func(k *catalog.Capture) { k.State, k.Problem = state, explain(err) })
		c.log.Warn("capture interrupted", "error", err, "next_try_in", wait.String())
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = min(2*wait, longestWait)
	}
}

// connect opens one replication session and follows it, over timelines, to its end.
func (c *capturer) connect(ctx context.Context) error {
	for {
		next, err := c.session(ctx)
		if err != nil {
			return err
		}
		if err := c.leaveTimeline(ctx, next); err != nil {
			return err
		}
	}
}

// session streams one timeline to its end.
func (c *capturer) session(ctx context.Context) (replication.Next, error) {
	s, err := replication.Open(ctx, c.access)
	if err != nil {
		return replication.Next{}, err
	}
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	at, next, err := c.locate(ctx, s)
	if err != nil || next.Timeline != 0 {
		return next, err
	}
	if err := c.fetchHistory(ctx, s, at.timeline); err != nil {
		return replication.Next{}, err
	}
	st, err := s.Start(ctx, c.cluster.Slot, at.timeline, at.lsn)
	if err != nil {
		return endOr(err)
	}
	defer func() { _ = st.Close() }()
	c.spool.resume(at.timeline, at.lsn)
	c.anew.Store(true) // what was read behind this place, if anything, may not be what will come
	c.log.Info("capture streaming", "timeline", uint32(at.timeline), "from", at.lsn.String())
	c.set(func(k *catalog.Capture) {
		k.State, k.Problem, k.Timeline = catalog.CaptureStreaming, "", at.timeline
		k.ReceivedLSN, k.FlushedLSN, k.ServerLSN = at.lsn, at.lsn, 0
	})
	err = c.follow(ctx, st)
	if isRemoved(err) {
		c.spool.close()
		err = c.acceptHole(ctx, at, err)
	}
	return endOr(err)
}

// endOr splits the regular end of a timeline from errors.
func endOr(err error) (replication.Next, error) {
	var end *replication.EndOfTimeline
	if errors.As(err, &end) {
		return end.Next, nil
	}
	return replication.Next{}, err
}

// isRemoved tells whether the server has thrown away WAL that we still needed.
func isRemoved(err error) bool {
	var pgErr *pgconn.PgError
	return errors.As(err, &pgErr) && pgErr.Code == "58P01"
}

// explain puts an error into words that say what to do about it.
func explain(err error) string {
	if errors.Is(err, syscall.ENOSPC) {
		return "the spool's disk is full (" + err.Error() + "); free space there: meanwhile the server keeps its WAL"
	}
	return access.Remedy(err)
}

// follow receives until the stream ends.
func (c *capturer) follow(ctx context.Context, st *replication.Stream) error {
	ctx, cancel := context.WithCancel(ctx)
	messages := make(chan replication.Message, batchMessages)
	received := make(chan error, 1)
	go func() { received <- receive(ctx, st, messages) }()
	defer func() {
		cancel()
		_ = st.Close() // ends the receiver
		<-received
	}()
	tick := time.NewTicker(reportEvery)
	defer tick.Stop()
	heard := time.Now()
	for {
		in := messages
		if c.backlog() >= spoolLimit {
			in, heard = nil, time.Now() // the server waits, and keeps its WAL
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case m, ok := <-in:
			if !ok {
				err := <-received
				received <- err
				return err
			}
			if err := c.take(st, m, messages); err != nil {
				return err
			}
			heard = time.Now()
		case <-tick.C:
			if time.Since(heard) > longestSilence {
				return fmt.Errorf("the server has said nothing for %s, though it was asked", longestSilence)
			}
			if err := st.Report(c.spool.written, c.spool.flushed, true); err != nil {
				return err
			}
		}
	}
}

// receive hands messages over in order, and closes the channel at the end.
func receive(ctx context.Context, st *replication.Stream, to chan<- replication.Message) error {
	defer close(to)
	for {
		m, err := st.Receive()
		if err != nil {
			return err
		}
		m.Data = append([]byte(nil), m.Data...)
		select {
		case to <- m:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// take writes a message and whatever else has arrived, makes it safe, and only then reports it.
func (c *capturer) take(st *replication.Stream, m replication.Message, more <-chan replication.Message) error {
	c.received = true
	for n := 1; ; n++ {
		if len(m.Data) > 0 {
			finished, err := c.spool.write(m.Start, m.Data)
			if err != nil {
				return err
			}
			if finished {
				c.wake()
			}
		}
		if n == batchMessages || len(more) == 0 {
			break
		}
		next, ok := <-more
		if !ok {
			break
		}
		m = next
	}
	if err := c.spool.flush(); err != nil {
		return err
	}
	c.wake()
	c.set(func(k *catalog.Capture) {
		k.ReceivedLSN, k.FlushedLSN = c.spool.written, c.spool.flushed
		k.ServerLSN = max(k.ServerLSN, m.ServerEnd, c.spool.flushed)
		c.settleTruth(k)
	})
	return st.Report(c.spool.written, c.spool.flushed, false)
}

func (c *capturer) wake() {
	select {
	case c.wakeup <- struct{}{}:
	default: // it will look anyway
	}
}

func (c *capturer) backlog() int {
	list, err := c.spool.finished()
	if err != nil {
		return 0
	}
	return len(list)
}

func (c *capturer) set(change func(*catalog.Capture)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	change(&c.state)
}

// snapshot is the state to show, with trouble at the store mixed in.
func (c *capturer) snapshot() catalog.Capture {
	c.mu.Lock()
	defer c.mu.Unlock()
	k := c.state
	if c.storeTrouble != "" {
		k.Problem = joinText(k.Problem, c.storeTrouble)
	}
	if c.askTrouble != "" && k.State == catalog.CaptureStreaming { // else the stream's own trouble says it
		k.Problem = joinText(k.Problem, c.askTrouble)
	}
	return k
}

func joinText(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// saveLoop writes the state to the catalogue whenever it has changed.
func (c *capturer) saveLoop(ctx context.Context) {
	tick := time.NewTicker(saveEvery)
	defer tick.Stop()
	var saved catalog.Capture
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		k := c.snapshot()
		if k == saved {
			continue
		}
		if err := c.catalog.SaveCapture(ctx, k); err != nil {
			c.log.Warn("the capture's state was not saved", "error", err)
			continue
		}
		saved = k
		c.changed(c.cluster.ID)
	}
}

// archiveLoop brings finished segments into the store, in order, until ctx ends.
func (c *capturer) archiveLoop(ctx context.Context) {
	wait := time.Duration(0)
	for {
		err := c.archiveAll(ctx)
		if ctx.Err() != nil {
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
		if !c.rest(ctx) {
			return
		}
	}
}

// readPause lets what arrives gather a little before it is read.
const readPause = 250 * time.Millisecond

// rest waits until there is something to read; false at the end.
func (c *capturer) rest(ctx context.Context) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(readPause):
	}
	select {
	case <-ctx.Done():
		return false
	case <-c.wakeup:
		return true
	}
}

// archiveAll stores what is finished, and reads what is not.
func (c *capturer) archiveAll(ctx context.Context) error {
	c.archiving.Lock()
	defer c.archiving.Unlock()
	// What is safe now first: every segment before it is finished then, and is stored
	// before the one that is being received is read.
	safe := c.snapshot()
	err := c.archiveFinished(ctx)
	if err == nil {
		err = c.readPartial(ctx, safe)
	}
	return errors.Join(err, c.follower.settle(ctx), c.recordIncidents(ctx))
}

// readPartial reads the segment that is being received, as far as it is safe.
func (c *capturer) readPartial(ctx context.Context, k catalog.Capture) error {
	z := c.cluster.SegmentSize
	if k.FlushedLSN == 0 || z.Offset(k.FlushedLSN) == 0 {
		return nil
	}
	seg := pg.Segment{Timeline: k.Timeline, Number: z.Number(k.FlushedLSN)}
	if seg == c.follower.finished {
		return nil // it was finished meanwhile
	}
	err := c.follower.read(ctx, seg, c.spool.path(seg)+partialSuffix, k.FlushedLSN)
	if errors.Is(err, os.ErrNotExist) {
		return nil // finished meanwhile
	}
	return err
}

// namesEvery is how often the server is asked what its relation files are called.
const namesEvery = time.Minute

// nameLoop keeps the names of relation files up to date until ctx ends.
func (c *capturer) nameLoop(ctx context.Context) {
	for {
		started := time.Now()
		if err := c.book.Sample(ctx, c.access); err != nil && ctx.Err() == nil {
			c.log.Warn("relation names were not sampled", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(max(namesEvery, 20*time.Since(started))):
		}
	}
}

func (c *capturer) archiveFinished(ctx context.Context) error {
	if c.anew.Swap(false) {
		c.follower.forget()
	}
	list, err := c.spool.finished()
	if err != nil {
		return err
	}
	for _, seg := range list {
		if err := c.archive(ctx, seg, c.spool.path(seg)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		end := c.cluster.SegmentSize.Start(seg.Number + 1)
		c.set(func(k *catalog.Capture) { k.StoredLSN = max(k.StoredLSN, end) })
	}
	return nil
}
