package capture

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/disk"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/spool"
	"velvetrewind/engine/store/deposit"
	"velvetrewind/engine/store/vault"
)

// Supervisor runs the captures that are wanted and whose lease it can get.
type Supervisor struct {
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Spool   string // directory, one below it for each cluster
	// Disk is where the spool is; nil is the operating system's.
	Disk disk.Disk
	// SpoolLimit is how many bytes of a cluster's WAL may wait for the store before its capture
	// pauses.
	SpoolLimit int64
	Codec      layout.Codec
	Books      *names.Books
	Log        *slog.Logger
	// Host is where the directories of servers may lie that are down; nil where they are not looked for.
	MachineOf func(context.Context, catalog.Cluster) (host.Machine, error)
	// Access opens the secrets of a cluster.
	Access func(catalog.Cluster) (access.Access, error)
	// Instance is the number of this service among those that share the catalogue, and Former
	// that of the one before it in the same home, which surely has ended.
	Instance, Former int64
	// Changed is told that a capture's saved state has changed.
	Changed func(cluster string)

	captures sync.Map // the clusters captured here, by id, with what ends the capture

	mu      sync.Mutex
	running map[string]*running
	wakeup  chan struct{}
}

type running struct {
	asked  atomic.Uint64 // an LSN: up to there another instance asks for WAL in the store
	wake   atomic.Pointer[func()]
	rule   atomic.Pointer[journal.Rule]
	who    atomic.Pointer[journal.AuthorRule]
	cancel context.CancelFunc
	ended  chan struct{}
}

// follow has a cluster's rules hold from now on.
func (r *running) follow(k catalog.Cluster) error {
	rule, err := k.Rule()
	if err != nil {
		return err
	}
	who, err := k.Authors()
	if err != nil {
		return err
	}
	r.rule.Store(&rule)
	r.who.Store(&who)
	return nil
}

// lookEvery is how often the supervisor looks for captures to start or stop; Look hurries it.
const lookEvery = 2 * time.Second

// Run supervises until ctx ends and every capture has stopped.
func (s *Supervisor) Run(ctx context.Context) {
	s.mu.Lock()
	s.running, s.wakeup = make(map[string]*running), make(chan struct{}, 1)
	s.mu.Unlock()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if err := s.adjust(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("capture supervision failed", "error", err)
		}
		select {
		case <-ctx.Done():
			s.stopAll()
			return
		case <-tick.C:
		case <-s.wakeup:
		}
	}
}

// Captures tells whether a cluster is captured by this instance.
func (s *Supervisor) Captures(cluster string) bool {
	_, is := s.captures.Load(cluster)
	return is
}

// Restart has a cluster's capture begin anew, as it is recorded by now.
func (s *Supervisor) Restart(cluster string) {
	if stop, is := s.captures.Load(cluster); is {
		stop.(context.CancelFunc)()
	}
	s.Look()
}

// Look has the supervisor compare what runs with what is wanted now.
func (s *Supervisor) Look() {
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case s.wakeup <- struct{}{}:
	default:
	}
}

func (s *Supervisor) stopAll() {
	for _, r := range s.running {
		r.cancel() // all, before the first is waited for
	}
	for id, r := range s.running {
		<-r.ended
		delete(s.running, id)
	}
}

func (s *Supervisor) adjust(ctx context.Context) error {
	clusters, err := s.Catalog.Clusters(ctx)
	if err != nil {
		return err
	}
	wanted := make(map[string]bool)
	for _, k := range clusters {
		state, err := s.Catalog.Capture(ctx, k.ID)
		if err != nil {
			return err
		}
		if !state.Wanted {
			continue
		}
		wanted[k.ID] = true
		if r := s.running[k.ID]; r != nil {
			if err := r.follow(k); err != nil {
				return err
			}
			if wake := r.wake.Load(); r.asked.Swap(uint64(state.Asked)) < uint64(state.Asked) && wake != nil {
				(*wake)()
			}
		}
		if s.running[k.ID] == nil {
			if err := s.start(ctx, k, state); err != nil {
				return fmt.Errorf("start the capture of %s: %w", k.Name, err)
			}
		}
	}
	for id, r := range s.running {
		select {
		case <-r.ended:
			delete(s.running, id)
			continue
		default:
		}
		if !wanted[id] {
			r.cancel()
			<-r.ended
			delete(s.running, id)
			err := s.Catalog.SaveCapture(ctx, catalog.Capture{ClusterID: id, State: catalog.CaptureStopped})
			s.Changed(id)
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Supervisor) start(ctx context.Context, k catalog.Cluster, state catalog.Capture) error {
	r := &running{ended: make(chan struct{})}
	if err := r.follow(k); err != nil {
		return err
	}
	lease, ok, err := s.Catalog.TakeCapture(ctx, k.ID)
	if err != nil || !ok {
		return err // another instance captures it
	}
	ctx, cancel := context.WithCancel(ctx)
	r.cancel = cancel
	s.running[k.ID] = r
	s.captures.Store(k.ID, cancel)
	go func() {
		defer close(r.ended)
		defer s.captures.Delete(k.ID)
		defer lease.Release()
		defer cancel()
		go s.watchLease(ctx, cancel, lease, k)
		c := s.capture(ctx, r, k, state)
		if lease.Held(ctx) {
			if c != nil {
				c.storeLast(ctx)
			}
			if err := s.Catalog.SetHolder(context.WithoutCancel(ctx), k.ID, 0); err != nil {
				s.Log.Warn("the end of a capture was not recorded", "cluster", k.Name, "error", err)
			}
		}
	}()
	return nil
}

// capture captures a cluster whose lease is held, until ctx ends, and returns what did it; nil if it never began.
func (s *Supervisor) capture(ctx context.Context, r *running, k catalog.Cluster, state catalog.Capture) *capturer {
	if other := state.Holder; other != 0 && other != s.Instance && other != s.Former {
		s.Log.Info("another instance has not ended its capture in order; it is given time to notice", "cluster", k.Name, "instance", other)
		if sleep(ctx, catalog.TakeoverWait) != nil {
			return nil
		}
	}
	err := s.Catalog.SetHolder(ctx, k.ID, s.Instance)
	var c *capturer
	if err == nil {
		c, err = s.capturer(ctx, k, state)
	}
	if err != nil {
		if ctx.Err() == nil {
			state.State, state.Problem = catalog.CaptureFailed, err.Error()
			s.Log.Warn("a capture was not begun", "cluster", k.Name, "error", errors.Join(err, s.Catalog.SaveCapture(ctx, state)))
			_ = sleep(ctx, longestWait) // before it is tried again
		}
		return nil
	}
	c.rule, c.authorRule, c.asked = &r.rule, &r.who, &r.asked
	wake := c.wake
	r.wake.Store(&wake)
	c.follower.rule = &r.rule
	c.run(ctx)
	return c
}

// watchLease stops a capture whose lease was lost with its connection: another
// instance may have begun by then.
func (s *Supervisor) watchLease(ctx context.Context, stop context.CancelFunc, l *catalog.Lease, k catalog.Cluster) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(untilNext(time.Second)):
			if !l.HeldLately(ctx) && ctx.Err() == nil {
				s.Log.Warn("the lease of a capture was lost; it is taken anew", "cluster", k.Name)
				stop()
				return
			}
		}
	}
}

func (s *Supervisor) capturer(ctx context.Context, k catalog.Cluster, state catalog.Capture) (*capturer, error) {
	a, err := s.Access(k)
	if err != nil {
		return nil, err
	}
	sp, err := spool.Open(s.disk(), filepath.Join(s.Spool, k.ID), k.SegmentSize, s.SpoolLimit)
	if err != nil {
		return nil, err
	}
	c := &capturer{
		cluster: k, access: a, machineOf: s.MachineOf, catalog: s.Catalog, store: s.Store, codec: s.Codec,
		log: s.Log.With("cluster", k.Name), changed: s.Changed,
		spool: sp, wakeup: make(chan struct{}, 1), room: make(chan struct{}, 1),
	}
	if err := s.prepareJournal(ctx, c); err != nil {
		return nil, err
	}
	if err := deposit.PutCluster(ctx, s.Store, k); err != nil {
		c.log.Warn("the cluster's record was not put into the store; without it the catalogue cannot be made anew", "error", err)
	}
	c.state = catalog.Capture{ClusterID: k.ID, State: catalog.CaptureStarting, StoredLSN: state.StoredLSN}
	return c, nil
}

// prepareJournal opens what the capture needs to keep the change journal.
func (s *Supervisor) prepareJournal(ctx context.Context, c *capturer) error {
	timelines, err := s.Catalog.Timelines(ctx, c.cluster.ID)
	if err != nil {
		return err
	}
	if c.histories, err = catalog.Histories(timelines); err != nil {
		return err
	}
	if c.book, err = s.Books.Of(ctx, c.cluster.ID); err != nil {
		return err
	}
	c.index = c.newIndex()
	c.follower = &follower{
		disk: c.spool.Disk, cluster: c.cluster, access: c.access, index: c.index, book: c.book, note: c.noteIncident,
		who: c.authors.of,
	}
	return nil
}

// newIndex opens the cluster's journal.
func (c *capturer) newIndex() *changes.Indexes {
	return &changes.Indexes{
		Store: c.store, Codec: c.codec, Cluster: c.cluster, Histories: c.histories, Names: c.book.Now(),
		Open: func(ctx context.Context, seg pg.Segment) (io.ReadCloser, error) {
			return c.store.Segment(ctx, c.cluster.ID, seg, c.cluster.SegmentSize)
		},
	}
}

func (s *Supervisor) disk() disk.Disk {
	if s.Disk != nil {
		return s.Disk
	}
	return disk.OS
}
