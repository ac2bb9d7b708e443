package capture

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"sync"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/access"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/index"
	"velvetrewind/engine/names"
	"velvetrewind/engine/record"
	"velvetrewind/engine/store"
	"velvetrewind/engine/vault"
)

// Supervisor runs the captures that are wanted and whose lease it can get.
type Supervisor struct {
	Catalog *catalog.Catalog
	Store   *vault.Vault
	Spool   string // directory, one below it for each cluster
	// SpoolLimit is how many bytes of a cluster's WAL may wait for the store before its capture
	// pauses.
	SpoolLimit int64
	Codec      layout.Codec
	Books      *names.Books
	Log        *slog.Logger
	// Access opens the secrets of a cluster.
	Access func(catalog.Cluster) (access.Access, error)
	// Changed is told that a capture's saved state has changed.
	Changed func(cluster string)

	mu      sync.Mutex
	running map[string]*running
	wakeup  chan struct{}
}

type running struct {
	capturer *capturer
	cancel   context.CancelFunc
	ended    chan struct{}
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
			s.Log.Warn("captures were not looked after", "error", err)
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
	for id, r := range s.running {
		r.cancel()
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
			rule := k.Rule()
			r.capturer.rule.Store(&rule)
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
	lease, ok, err := s.Catalog.TakeCapture(ctx, k.ID)
	if err != nil || !ok {
		return err // another instance captures it
	}
	c, err := s.capturer(ctx, k, state)
	if err != nil {
		lease.Release()
		state.State, state.Problem = catalog.CaptureFailed, err.Error()
		return errors.Join(err, s.Catalog.SaveCapture(ctx, state))
	}
	ctx, cancel := context.WithCancel(ctx)
	r := &running{capturer: c, cancel: cancel, ended: make(chan struct{})}
	s.running[k.ID] = r
	go func() {
		defer close(r.ended)
		defer lease.Release()
		defer cancel()
		go s.watchLease(ctx, cancel, lease, k)
		c.run(ctx)
	}()
	return nil
}

// watchLease stops a capture whose lease was lost with its connection: another
// instance may have begun by then.
func (s *Supervisor) watchLease(ctx context.Context, stop context.CancelFunc, l *catalog.Lease, k catalog.Cluster) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if !l.Held(ctx) && ctx.Err() == nil {
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
	sp, err := openSpool(filepath.Join(s.Spool, k.ID), k.SegmentSize, s.SpoolLimit)
	if err != nil {
		return nil, err
	}
	// Nobody else writes this cluster's WAL while we hold the lease.
	for _, prefix := range []string{store.WALPrefix(k.ID), store.JournalPrefix(k.ID)} {
		if err := s.Store.Sweep(ctx, prefix); err != nil {
			return nil, err
		}
	}
	c := &capturer{
		cluster: k, access: a, catalog: s.Catalog, store: s.Store, codec: s.Codec,
		log: s.Log.With("cluster", k.Name), changed: s.Changed,
		spool: sp, wakeup: make(chan struct{}, 1), room: make(chan struct{}, 1),
	}
	if err := s.prepareJournal(ctx, c); err != nil {
		return nil, err
	}
	if err := record.Put(ctx, s.Store, k); err != nil {
		c.log.Warn("the cluster's record was not put into the store; without it the catalogue cannot be made anew", "error", err)
	}
	rule := k.Rule()
	c.rule.Store(&rule)
	c.state = catalog.Capture{ClusterID: k.ID, State: catalog.CaptureStarting, StoredLSN: state.StoredLSN}
	return c, nil
}

// prepareJournal opens what the capture needs to keep the change journal.
func (s *Supervisor) prepareJournal(ctx context.Context, c *capturer) error {
	timelines, err := s.Catalog.Timelines(ctx, c.cluster.ID)
	if err != nil {
		return err
	}
	histories, err := catalog.Histories(timelines)
	if err != nil {
		return err
	}
	if c.book, err = s.Books.Of(ctx, c.cluster.ID); err != nil {
		return err
	}
	c.index = &index.Indexes{
		Store: s.Store, Codec: s.Codec, Cluster: c.cluster, Histories: histories, Names: c.book.Now(),
		Open: func(ctx context.Context, seg pg.Segment) (io.ReadCloser, error) {
			return s.Store.Segment(ctx, c.cluster.ID, seg, c.cluster.SegmentSize)
		},
	}
	c.follower = &follower{
		cluster: c.cluster, access: c.access, index: c.index, book: c.book, rule: &c.rule, note: c.noteIncident,
	}
	return nil
}
