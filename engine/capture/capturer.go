package capture

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store/vault"
)

const (
	reportEvery    = time.Second
	saveEvery      = 500 * time.Millisecond
	longestSilence = 30 * time.Second // the server answers each report
	firstBackoff   = 250 * time.Millisecond
)

// longestWait is between two tries of what has failed; tests shorten it.
var longestWait = 15 * time.Second

// capturer is the capture of one cluster while this instance holds its lease.
type capturer struct {
	cluster catalog.Cluster
	access  access.Access
	// machineOf is where a cluster's server is; nil where no server's directory is looked into.
	machineOf func(context.Context, catalog.Cluster) (host.Machine, error)
	catalog   *catalog.Catalog
	store     *vault.Vault
	codec     layout.Codec
	log       *slog.Logger
	changed   func(cluster string)

	index     *changes.Indexes
	histories map[pg.Timeline][]pg.Fork
	book      *names.Book
	follower  *follower
	asked     *atomic.Uint64 // an LSN: up to there another instance asks for WAL in the store
	shared    pg.LSN         // up to where that was done; under archiving
	rule      *atomic.Pointer[journal.Rule]
	authors   authors
	// authorRule says how those are watched.
	authorRule *atomic.Pointer[journal.AuthorRule]
	// archiving is held by whoever reads and stores captured WAL.
	archiving sync.Mutex
	anew      atomic.Bool        // the follower must begin anew
	incidents []catalog.Incident // not recorded yet; under archiving
	searched  pg.Control         // of a server that is down, when what it left was looked for
	swept     bool               // what was not written to its end is gone from the store; under archiving

	spool    *spool.Spool
	refused  pg.LSN        // up to where the server has said that it no longer has the WAL
	received bool          // something has come since the last try
	wakeup   chan struct{} // a segment is waiting for the store
	room     chan struct{} // one has gone there
	urgent   atomic.Bool   // commits wait for us, as far as is known
	walDir   string        // the server's, if it is on this machine
	stop     context.CancelCauseFunc

	mu    sync.Mutex
	state catalog.Capture
	// storeTrouble is what keeps segments from the store; the stream goes on meanwhile, until the
	// spool is full.
	storeTrouble string
	paused       bool
	said         []truth // what the server has said of itself and is not reached yet, oldest first
	askTrouble   string  // why it could not be asked last
}

// errForGood marks what trying again cannot repair.
var errForGood = errors.New("capture cannot go on by itself")

// run captures until ctx ends.
func (c *capturer) run(ctx context.Context) {
	var wg sync.WaitGroup
	outer := ctx
	ctx, c.stop = context.WithCancelCause(ctx)
	defer wg.Wait()
	defer c.stop(nil)
	c.urgent.Store(true)
	wg.Go(func() { c.archiveLoop(ctx) })
	wg.Go(func() { c.saveLoop(ctx) })
	wg.Go(func() { c.nameLoop(ctx) })
	wg.Go(func() { c.askLoop(ctx) })
	wg.Go(func() { c.authorLoop(ctx) })
	wait := firstBackoff
	for {
		c.received = false
		err := c.connect(ctx)
		c.spool.Close()
		if ctx.Err() == nil && !errors.Is(err, errForGood) {
			if e := c.takeRemains(ctx); e != nil && ctx.Err() == nil {
				c.log.Warn("what the server left could not be taken from its directory", "error", e)
			}
		}
		if cause := context.Cause(ctx); outer.Err() == nil && errors.Is(cause, errForGood) {
			c.set(func(k *catalog.Capture) { k.State, k.Problem = catalog.CaptureFailed, explain(cause) })
			c.saveAtLast(outer)
			<-outer.Done()
		}
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
	if err := c.fetchHistory(ctx, s, at.Timeline); err != nil {
		return replication.Next{}, err
	}
	st, err := s.Start(ctx, c.cluster.Slot, at.Timeline, at.LSN)
	if err != nil {
		return endOr(err)
	}
	defer func() { _ = st.Close() }()
	c.spool.Resume(at.Timeline, at.LSN)
	c.anew.Store(true) // what was read after this place, if anything, may not be what will come
	if err := c.noteStep(ctx, at); err != nil {
		return replication.Next{}, err
	}
	c.log.Info("capture streaming", "timeline", uint32(at.Timeline), "from", at.LSN.String())
	c.set(func(k *catalog.Capture) {
		k.State, k.Problem, k.Timeline = catalog.CaptureStreaming, "", at.Timeline
		k.ReceivedLSN, k.FlushedLSN, k.ServerLSN = at.LSN, at.LSN, 0
	})
	err = c.follow(ctx, st)
	if isRemoved(err) {
		c.spool.Close()
		err = c.acceptHole(ctx, at, err)
	}
	return endOr(err)
}

// noteStep lowers what is said to be complete where capture goes on before the place that was safe:
// in another home, or with a spool that is lost. What lies between is with the server, and not here.
func (c *capturer) noteStep(ctx context.Context, at spool.Position) error {
	lowered, complete, err := c.catalog.StepBack(ctx, c.cluster.ID, at.Timeline, at.LSN)
	if err == nil && lowered {
		c.set(func(k *catalog.Capture) { k.CompleteTo = complete })
	}
	return err
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

func (c *capturer) wake() {
	select {
	case c.wakeup <- struct{}{}:
	default: // it will look anyway
	}
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
	k.Spooled = c.spool.Waiting()
	if k.State == catalog.CaptureStreaming {
		k.State = c.condition(k)
	}
	if c.paused {
		k.Problem = joinText(fmt.Sprintf("the spool is full: %s wait for the store, and the server retains what comes",
			figures.Size(k.Spooled)), k.Problem)
	}
	if k.ReadableTo != 0 {
		k.Problem = joinText(k.Problem, "the WAL that is being received cannot be read from "+k.ReadableTo.String()+" on")
	}
	// else the stream's own trouble says it
	if c.askTrouble != "" && k.State != catalog.CaptureRetrying && k.State != catalog.CaptureFailed {
		k.Problem = joinText(k.Problem, c.askTrouble)
	}
	return k
}

// catchUp is how much WAL capture may lack, or how old what is complete may be, before that is
// called catching up.
const (
	catchUpBytes = 16 << 20
	catchUpAge   = 10 * time.Second
)

// condition is what the state of a stream that is open comes to.
func (c *capturer) condition(k catalog.Capture) string {
	lacks := k.ServerLSN > k.FlushedLSN && k.ServerLSN-k.FlushedLSN > catchUpBytes
	age, known := k.CompleteAge(time.Now())
	old := !known || age > catchUpAge
	switch {
	case c.paused:
		return catalog.CapturePaused
	case c.storeTrouble != "":
		return catalog.CaptureWaiting
	case lacks || old:
		return catalog.CaptureCatchingUp
	}
	return catalog.CaptureStreaming
}

func (c *capturer) setPaused(on bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.paused = on
}

func joinText(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// after is the first multiple of a period after a time. What every capture does again and again they do
// at the same instants, so that the processor wakes once for all of them.
func after(t time.Time, every time.Duration) time.Time { return t.Truncate(every).Add(every) }

// untilNext is how long it is until then.
func untilNext(every time.Duration) time.Duration { return time.Until(after(time.Now(), every)) }

// saveLoop writes the state to the catalogue whenever it has changed.
func (c *capturer) saveLoop(ctx context.Context) {
	var saved catalog.Capture
	var at time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(untilNext(saveEvery)):
		}
		k := c.snapshot()
		if k == saved || idly(k) == idly(saved) && time.Since(at) < saveIdly {
			continue
		}
		if err := c.catalog.SaveCapture(ctx, k); err != nil {
			c.log.Warn("the capture's state was not saved", "error", err)
			continue
		}
		saved, at = k, time.Now()
		c.changed(c.cluster.ID)
	}
}

// saveAtLast saves the state of a capture that has ended for good.
func (c *capturer) saveAtLast(ctx context.Context) {
	for c.catalog.SaveCapture(ctx, c.snapshot()) != nil {
		if sleep(ctx, longestWait) != nil {
			return
		}
	}
	c.changed(c.cluster.ID)
}

// saveIdly is how often the state of a cluster is saved in which nothing happens but that time goes by.
const saveIdly = 2 * time.Second

// idly is a state without what time alone changes.
func idly(k catalog.Capture) catalog.Capture {
	k.CompleteTo, k.ClockAhead, k.Retained, k.Room, k.AuthorsLook = sql.NullTime{}, 0, 0, 0, 0
	return k
}

// archiveAll stores what is finished, and reads what is not.
func (c *capturer) archiveAll(ctx context.Context) error {
	c.archiving.Lock()
	defer c.archiving.Unlock()
	// What is safe now first: every segment before it is finished then, and is stored
	// before the one that is being received is read.
	safe := c.snapshot()
	err := c.archiveFinished(ctx)
	if err != nil {
		return err
	}
	if err := c.sharePartial(ctx, safe); err != nil {
		return err
	}
	// What comes now keeps nothing from the store.
	if err := c.gently(false, func() error {
		return errors.Join(c.readPartial(ctx, safe), c.follower.settle(ctx), c.recordIncidents(ctx))
	}); err != nil && ctx.Err() == nil {
		c.log.Warn("the journal is behind", "error", err)
	}
	return nil
}

// readPartial reads the segment that is being received, as far as it is safe. Where it is damaged
// that is told at once, though the segment is a hole only when it is stored.
func (c *capturer) readPartial(ctx context.Context, k catalog.Capture) error {
	z := c.cluster.SegmentSize
	if k.FlushedLSN == 0 || z.Offset(k.FlushedLSN) == 0 || k.ReadableTo != 0 {
		return nil
	}
	seg := pg.Segment{Timeline: k.Timeline, Number: z.Number(k.FlushedLSN)}
	if seg == c.follower.finished {
		return nil // it was finished meanwhile
	}
	err := c.follower.read(ctx, seg, c.spool.PartialPath(seg), k.FlushedLSN)
	if errors.Is(err, os.ErrNotExist) {
		return nil // finished meanwhile
	}
	if damage := (*wal.Damage)(nil); errors.As(err, &damage) {
		c.log.Error("the segment that is being received cannot be read on", "segment", seg.Name(z), "error", err)
		c.set(func(k *catalog.Capture) { k.ReadableTo = max(damage.LSN, z.Start(seg.Number)) })
		return nil
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
	if err := c.sweep(ctx); err != nil {
		return err
	}
	if c.anew.Swap(false) {
		c.follower.forget()
	}
	list, err := c.spool.Finished()
	if err != nil {
		return err
	}
	for _, seg := range list {
		// In order: what a store refuses for whatever reason is not passed over for what comes after it.
		path := c.spool.Path(seg)
		if err := c.gently(c.overdue(path), func() error { return c.archive(ctx, seg, path) }); err != nil {
			return err
		}
		end := c.cluster.SegmentSize.Start(seg.Number + 1)
		c.set(func(k *catalog.Capture) {
			if k.StoredLSN = max(k.StoredLSN, end); k.ReadableTo < end {
				k.ReadableTo = 0 // it is a hole now
			}
		})
		select {
		case c.room <- struct{}{}:
		default: // nobody waits for it
		}
	}
	return nil
}
