package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/store/deposit"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/place"
	"velvetrewind/engine/store/vault"
	"velvetrewind/engine/upkeep/mirror"
)

// openStore opens the store, and the second one if it can be reached.
func (s *Service) openStore(ctx context.Context) (where place.Place, err error) {
	opt := vault.Options{Adopt: s.cfg.AdoptStore}
	if s.cfg.StoreKey != "" {
		if opt.Key, err = vault.LoadKey(s.cfg.StoreKey); err != nil {
			return where, err
		}
	}
	if opt.Installation, err = s.catalog.Installation(ctx); err != nil {
		return where, err
	}
	known, err := s.catalog.StoreKeys(ctx)
	if err != nil {
		return where, err
	}
	clusters, err := s.catalog.Clusters(ctx)
	if err != nil {
		return where, err
	}
	if len(clusters) > 0 { // else it has nothing to lose, and may have any store
		opt.Fingerprint, opt.Number = known.Fingerprint, known.Number
	}
	first, where, err := place.Open(ctx, s.cfg.Store, s.cfg.StoreKeys, s.cfg.CopiesKeys, s.host.Group())
	if err != nil {
		return where, err
	}
	if s.store, err = vault.Open(ctx, first, opt); err != nil {
		return where, err
	}
	if err := s.noteKeys(ctx); err != nil {
		return where, err
	}
	if err := s.takeEpoch(ctx, s.cfg.AdoptStore || len(clusters) == 0); err != nil {
		return where, err
	}
	s.store.Guard = s.guardStore
	s.store.Fell = func(key string, why error) {
		s.log.Warn("taken from the second store", "object", key, "because", why)
	}
	if s.cfg.SecondStore == "" {
		return where, nil
	}
	s.mirrors.done = make(map[string]string)
	second, there, err := place.Open(ctx, s.cfg.SecondStore, s.cfg.SecondKeys, s.cfg.SecondCopiesKeys, s.host.Group())
	if err != nil {
		// It must not keep the first from being written: tried again while we run.
		s.mirrors.trouble = err.Error()
		s.log.Warn("the second store cannot be reached; it is tried again", "error", err)
		return where, nil
	}
	where.Second = &there
	return where, s.store.AddSecond(ctx, second)
}

// notices is where it is noted what is to be deleted.
func (s *Service) notices() *notice.Board {
	return &notice.Board{Store: s.store, Delay: s.cfg.deleteAfter, Now: s.cfg.Now}
}

// takenBack says for how long what is deleted can be taken back, and how.
func (s *Service) takenBack(how string) string {
	if s.cfg.deleteAfter == 0 {
		return "; it is gone at once"
	}
	return fmt.Sprintf("; it can be taken back for %s: %s", figures.Span(s.cfg.deleteAfter), how)
}

// deleteRemoved deletes what the store holds of clusters that were removed long enough ago.
func (s *Service) deleteRemoved(ctx context.Context) error {
	if _, err := s.catalog.RemovedClusters(ctx); err != nil { // forgets those that are registered again
		return err
	}
	list, err := s.catalog.RemovedToLookAt(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		due, next, e := s.notices().Due(ctx, r.ID, "all", []string{"cluster"})
		switch {
		case e != nil:
		case len(due) == 0:
			e = s.catalog.LookAtRemoved(ctx, r.ID, next)
		default:
			if e = s.store.DeleteAll(ctx, "clusters/"+r.ID+"/"); e == nil {
				e = s.catalog.ForgetRemoved(ctx, r.ID)
			}
		}
		if e != nil {
			err = errors.Join(err, fmt.Errorf("delete what is left of %s: %w", r.Name, e))
		}
	}
	return err
}

// noteKeys has the catalogue know the store's keys.
func (s *Service) noteKeys(ctx context.Context) error {
	ring := s.store.Ring()
	if ring == nil {
		return nil
	}
	return s.catalog.SetStoreKeys(ctx, catalog.StoreKeys{Fingerprint: ring.Fingerprint(), Number: ring.Current})
}

// mirrors is what is known of the second store.
type mirrors struct {
	mu       sync.Mutex
	done     map[string]string // by cluster, the state that was last copied or is being copied
	trouble  string
	foreign  string // why nothing in the store may be deleted or replaced
	unlocked string // why the locks of what it holds were not extended
}

func (m *mirrors) taken() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.foreign
}

func (m *mirrors) setTaken(why string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.foreign = why
}

func (m *mirrors) notLocked() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.unlocked
}

func (m *mirrors) setUnlocked(why error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.unlocked = ""; why != nil {
		m.unlocked = why.Error()
	}
}

func (m *mirrors) problem() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.trouble
}

// lookAfterStoreEvery is how often it is looked whether something is to be copied or freed.
const lookAfterStoreEvery = 20 * time.Second

// lookAfterStore begins tasks that copy to the second store, and frees what dropped
// backups left, until ctx ends.
func (s *Service) lookAfterStore(ctx context.Context) {
	tick := time.NewTicker(lookAfterStoreEvery)
	defer tick.Stop()
	if err := s.catalog.LookAgain(ctx); err != nil && ctx.Err() == nil {
		s.log.Warn("what waits to be deleted is not looked at before its time", "error", err)
	}
	for {
		if err := s.lookAfterStoreOnce(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("store maintenance failed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (s *Service) lookAfterStoreOnce(ctx context.Context) error {
	all, err := schedule.Load(ctx, s.catalog)
	if err != nil {
		return err
	}
	taken := ""
	if e := s.guardStore(ctx); errors.Is(e, vault.ErrTaken) {
		taken = e.Error()
	}
	s.mirrors.setTaken(taken)
	if taken != "" {
		return errors.New(taken)
	}
	s.reachSecond(ctx)
	err = s.deleteRemoved(ctx)
	if e := s.depositIfDue(ctx); e != nil {
		err = errors.Join(err, fmt.Errorf("what only the catalogue knows was not put into the store: %w", e))
	}
	for _, k := range all.Clusters {
		if p := all.PolicyOf(k); p != nil && p.SecondStore.Valid {
			k.SecondStore = p.SecondStore.Bool
		}
		if k.TidyNow {
			if e := s.keepEngine().Tidy(ctx, k, task.Silent); e != nil { // no matter of the other clusters
				err = errors.Join(err, fmt.Errorf("%s: %w", k.Name, e))
			}
		}
		if k.SecondStore && s.store.Second() != nil {
			err = errors.Join(err, s.mirrorIfDue(ctx, k))
		}
	}
	return err
}

// depositHour is when, by the service's clock and zone, what only the catalogue knows is put
// into the store every night.
const depositHour = 3

// depositIfDue makes the night's deposit, and the one that was missed while the service was down.
func (s *Service) depositIfDue(ctx context.Context) error {
	now := s.cfg.Now().Local()
	due := time.Date(now.Year(), now.Month(), now.Day(), depositHour, 0, 0, 0, now.Location())
	if due.After(now) {
		due = due.AddDate(0, 0, -1)
	}
	last, err := s.catalog.Deposited(ctx)
	if err != nil || !last.Before(due) {
		return err
	}
	_, err = s.deposit(ctx)
	return err
}

// deposit puts what only the catalogue knows into the store, and has it copied to the second one.
func (s *Service) deposit(ctx context.Context) (clusters int, err error) {
	at := s.cfg.Now()
	if clusters, err = (&deposit.Depositor{Catalog: s.catalog, Store: s.store}).Put(ctx); err == nil {
		err = s.catalog.NoteDeposited(ctx, at)
	}
	s.mirrors.mu.Lock()
	defer s.mirrors.mu.Unlock()
	clear(s.mirrors.done)
	return clusters, err
}

// reachSecond opens a second store that could not be reached before.
func (s *Service) reachSecond(ctx context.Context) {
	if s.cfg.SecondStore == "" || s.store.Second() != nil {
		return
	}
	second, _, err := place.Open(ctx, s.cfg.SecondStore, s.cfg.SecondKeys, s.cfg.SecondCopiesKeys, s.host.Group())
	if err == nil {
		err = s.store.AddSecond(ctx, second)
	}
	s.mirrors.mu.Lock()
	defer s.mirrors.mu.Unlock()
	if s.mirrors.trouble = ""; err != nil {
		s.mirrors.trouble = err.Error()
	}
}

// mirrorIfDue begins a copy to the second store if there is something new.
func (s *Service) mirrorIfDue(ctx context.Context, k catalog.Cluster) error {
	c, err := s.catalog.Capture(ctx, k.ID)
	if err != nil {
		return err
	}
	list, err := s.catalog.Backups(ctx, k.ID)
	if err != nil {
		return err
	}
	now := c.StoredLSN.String()
	if len(list) > 0 {
		now += " " + list[0].ID
	}
	s.mirrors.mu.Lock()
	same := s.mirrors.done[k.ID] == now
	s.mirrors.done[k.ID] = now
	s.mirrors.mu.Unlock()
	if same {
		return nil
	}
	active, err := s.catalog.Tasks(ctx, catalog.TaskFilter{Cluster: k.ID, Active: true, Limit: 100})
	if err != nil {
		return err
	}
	for _, t := range active {
		if t.Kind == taskMirror {
			s.mirrorAgain(k.ID)
			return nil
		}
	}
	_, err = s.tasks.submit(ctx, taskMirror, k.ID, "", noArgs{})
	return err
}

// keepRecord puts a cluster's record, which has changed, into the store, and has it
// copied to the second one.
func (s *Service) keepRecord(ctx context.Context, k catalog.Cluster) error {
	if err := deposit.PutCluster(ctx, s.store, k); err != nil {
		return err
	}
	s.mirrorAgain(k.ID)
	return nil
}

// mirrorAgain has a cluster be looked at again.
func (s *Service) mirrorAgain(cluster string) {
	s.mirrors.mu.Lock()
	defer s.mirrors.mu.Unlock()
	delete(s.mirrors.done, cluster)
}

func (s *Service) copyToSecond(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	stands := func(id string) (bool, error) {
		_, err := s.catalog.Backup(ctx, id)
		if p := new(problem.Problem); errors.As(err, &p) && p.Kind == problem.NotFound {
			return false, nil
		}
		return err == nil, err
	}
	r, err := mirror.Run(ctx, s.store, t.ClusterID.String, stands, report)
	if err != nil || r.Objects > 0 { // what was written meanwhile, as the index of a segment that was copied
		s.mirrorAgain(t.ClusterID.String)
	}
	return api.MirrorResult(r), err
}

// sweepSecond removes what a copy that was cut short left unfinished in the second store.
// Others who write there, tidying, must not be at it.
func (s *Service) sweepSecond(ctx context.Context, t catalog.Task) (whole bool, err error) {
	if s.cfg.SecondStore == "" {
		return false, nil
	}
	second := s.store.Second()
	if second == nil {
		return false, errors.New("the second store cannot be reached")
	}
	lease, ok, err := s.catalog.ShareContent(ctx, t.ClusterID.String)
	if err != nil {
		return false, err
	}
	if !ok {
		return false, errors.New("the cluster's part of the store is being tidied")
	}
	defer lease.Release()
	return false, second.Sweep(ctx, "clusters/"+t.ClusterID.String+"/")
}
