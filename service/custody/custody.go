// Package custody has the store in its care: opens it, keeps others from writing it, its second copy up to date, its
// locks extended, and what only the catalogue knows in it.
//
// Invariant: nothing in the store is deleted or replaced once another catalogue has taken it; a second store that cannot
// be reached never keeps the first from being written. What the store holds, and what of it is needed, is left to the
// engine.
package custody

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/deposit"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/place"
	"velvetrewind/engine/store/vault"
	"velvetrewind/engine/upkeep/mirror"
	"velvetrewind/engine/upkeep/retention"
)

// Where is a store, and the files with the keys of a bucket.
type Where struct {
	Name       string // directory, or s3://…; "" is none
	Keys       string
	CopiesKeys string // that may only read: copies that recover use them where the service does not answer
}

// Config says which store is in our custody, and how.
type Config struct {
	Catalog       *catalog.Catalog
	First, Second Where
	Key           string // file with what opens an encrypted store
	Adopt         bool   // take over a store whose catalogue is lost
	Group         int    // whose processes read a directory store: those of the servers that recover
	Spool         string // directory
	DeleteAfter   time.Duration
	Now           func() time.Time
	Log           *slog.Logger
}

// Custody is a store in our care.
type Custody struct {
	Config
	Store     *vault.Vault
	Notices   *notice.Board
	Retention *retention.Enforcer
	// Mirror begins a task that copies a cluster to the second store, unless one is under way: a conflict.
	Mirror func(ctx context.Context, cluster string) error
	state  state
}

// Open opens the store, and the second one if it can be reached. where is how copies reach them by themselves.
func Open(ctx context.Context, cfg Config) (c *Custody, where place.Place, err error) {
	c = &Custody{Config: cfg, state: state{done: make(map[string]string)}}
	err = c.open(ctx, &where)
	return c, where, err
}

func (c *Custody) open(ctx context.Context, where *place.Place) (err error) {
	opt := vault.Options{Adopt: c.Adopt}
	if c.Key != "" {
		if opt.Key, err = vault.LoadKey(c.Key); err != nil {
			return err
		}
	}
	if opt.Installation, err = c.Catalog.Installation(ctx); err != nil {
		return err
	}
	known, err := c.Catalog.StoreKeys(ctx)
	if err != nil {
		return err
	}
	clusters, err := c.Catalog.Clusters(ctx)
	if err != nil {
		return err
	}
	if len(clusters) > 0 { // else it has nothing to lose, and may have any store
		opt.Fingerprint, opt.Number = known.Fingerprint, known.Number
	}
	first, here, err := place.Open(ctx, c.First.Name, c.First.Keys, c.First.CopiesKeys, c.Group)
	if err != nil {
		return err
	}
	*where = here
	if c.Store, err = vault.Open(ctx, first, opt); err != nil {
		return err
	}
	if err := c.NoteKeys(ctx); err != nil {
		return err
	}
	if err := c.takeEpoch(ctx, c.Adopt || len(clusters) == 0); err != nil {
		return err
	}
	c.Notices = &notice.Board{Store: c.Store, Delay: c.DeleteAfter, Now: c.Now}
	c.Retention = &retention.Enforcer{Catalog: c.Catalog, Store: c.Store, Notices: c.Notices, Spool: c.Spool, Second: c.Second.Name != ""}
	c.Store.Guard = c.guard
	c.Store.Fell = func(key string, why error) {
		c.Log.Warn("taken from the second store", "object", key, "because", why)
	}
	if c.Second.Name == "" {
		return nil
	}
	c.Store.Wrote = func(key string) { c.mirrorAgain(store.ClusterOf(key)) }
	second, there, err := place.Open(ctx, c.Second.Name, c.Second.Keys, c.Second.CopiesKeys, c.Group)
	if err != nil {
		// It must not keep the first from being written: tried again while we run.
		c.state.trouble = err.Error()
		c.Log.Warn("the second store cannot be reached; it is tried again", "error", err)
		return nil
	}
	where.Second = &there
	return c.Store.AddSecond(ctx, second)
}

// DeleteRemoved deletes what the store holds of clusters that were removed long enough ago.
func (c *Custody) DeleteRemoved(ctx context.Context) error {
	if _, err := c.Catalog.RemovedClusters(ctx); err != nil { // forgets those that are registered again
		return err
	}
	list, err := c.Catalog.RemovedToLookAt(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		due, next, e := c.Notices.Due(ctx, r.ID, "all", []string{"cluster"})
		switch {
		case e != nil:
		case len(due) == 0:
			e = c.Catalog.LookAtRemoved(ctx, r.ID, next)
		default:
			if e = c.Store.DeleteAll(ctx, "clusters/"+r.ID+"/"); e == nil {
				e = c.Catalog.ForgetRemoved(ctx, r.ID)
			}
		}
		if e != nil {
			err = errors.Join(err, fmt.Errorf("delete what is left of %s: %w", r.Name, e))
		}
	}
	return err
}

// NoteKeys has the catalogue know the store's keys.
func (c *Custody) NoteKeys(ctx context.Context) error {
	ring := c.Store.Ring()
	if ring == nil {
		return nil
	}
	return c.Catalog.SetStoreKeys(ctx, catalog.StoreKeys{Fingerprint: ring.Fingerprint(), Number: ring.Current})
}

// state is what is known of the second store.
type state struct {
	mu       sync.Mutex
	done     map[string]string // by cluster, the state that was last copied or is being copied
	trouble  string
	foreign  string // why nothing in the store may be deleted or replaced
	unlocked string // why the locks of what it holds were not extended
}

// Taken is why nothing in the store may be deleted or replaced; "" if it may.
func (c *Custody) Taken() string { return c.state.read(&c.state.foreign) }

// NotLocked is why the locks of what the store holds were not extended; "" if they were.
func (c *Custody) NotLocked() string { return c.state.read(&c.state.unlocked) }

// Problem is what is wrong with the second store; "" if nothing is.
func (c *Custody) Problem() string { return c.state.read(&c.state.trouble) }

func (m *state) read(field *string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return *field
}

func (m *state) write(field *string, why string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	*field = why
}

// textOf is the text of an error; of none it is "".
func textOf(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// lookEvery is the pause between two looks for what is to be copied or freed.
const lookEvery = 20 * time.Second

// Run begins tasks that copy to the second store, and frees what dropped
// backups left, until ctx ends.
func (c *Custody) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	if err := c.Catalog.LookAgain(ctx); err != nil && ctx.Err() == nil {
		c.Log.Warn("what waits to be deleted is not looked at before its time", "error", err)
	}
	for {
		if err := c.look(ctx); err != nil && ctx.Err() == nil {
			c.Log.Warn("store maintenance failed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (c *Custody) look(ctx context.Context) error {
	all, err := schedule.Load(ctx, c.Catalog)
	if err != nil {
		return err
	}
	e := c.guard(ctx)
	if !errors.Is(e, vault.ErrTaken) {
		e = nil
	}
	if c.state.write(&c.state.foreign, textOf(e)); e != nil {
		return e
	}
	c.reachSecond(ctx)
	err = c.DeleteRemoved(ctx)
	for _, k := range all.Clusters {
		if p := all.PolicyOf(k); p != nil && p.SecondStore.Valid {
			k.SecondStore = p.SecondStore.Bool
		}
		if k.TidyNow {
			if e := c.Retention.Tidy(ctx, k, task.Silent); e != nil { // no matter of the other clusters
				err = errors.Join(err, fmt.Errorf("%s: %w", k.Name, e))
			}
		}
		if k.SecondStore && c.Store.Second() != nil {
			err = errors.Join(err, c.mirrorIfDue(ctx, k))
		}
	}
	return err
}

// depositHour is when, by the service's clock and zone, what only the catalogue knows is put into the store every night.
const depositHour = 3

// Nightly is the schedule of deposits.
type Nightly struct{}

// Next is the next time for a deposit after t.
func (Nightly) Next(t time.Time) time.Time {
	t = t.Local()
	next := time.Date(t.Year(), t.Month(), t.Day(), depositHour, 0, 0, 0, t.Location())
	if !next.After(t) {
		next = next.AddDate(0, 0, 1)
	}
	return next
}

// DepositIfDue makes the night's deposit, and the one that was missed while the service was down.
func (c *Custody) DepositIfDue(ctx context.Context) error {
	if why := c.Taken(); why != "" {
		return errors.New(why)
	}
	now := c.Now().Local()
	due := Nightly{}.Next(now).AddDate(0, 0, -1)
	last, err := c.Catalog.Deposited(ctx)
	if err != nil || !last.Before(due) {
		return err
	}
	_, err = c.Deposit(ctx)
	return err
}

// Deposit puts what only the catalogue knows into the store, and has it copied to the second one.
func (c *Custody) Deposit(ctx context.Context) (clusters int, err error) {
	at := c.Now()
	if clusters, err = (&deposit.Depositor{Catalog: c.Catalog, Store: c.Store}).Put(ctx); err == nil {
		err = c.Catalog.NoteDeposited(ctx, at)
	}
	c.state.mu.Lock()
	defer c.state.mu.Unlock()
	clear(c.state.done)
	return clusters, err
}

// reachSecond opens a second store that could not be reached before.
func (c *Custody) reachSecond(ctx context.Context) {
	if c.Second.Name == "" || c.Store.Second() != nil {
		return
	}
	second, _, err := place.Open(ctx, c.Second.Name, c.Second.Keys, c.Second.CopiesKeys, c.Group)
	if err == nil {
		err = c.Store.AddSecond(ctx, second)
	}
	c.state.write(&c.state.trouble, textOf(err))
}

// mirrorIfDue begins a copy to the second store if there is something new.
func (c *Custody) mirrorIfDue(ctx context.Context, k catalog.Cluster) error {
	capture, err := c.Catalog.Capture(ctx, k.ID)
	if err != nil {
		return err
	}
	list, err := c.Catalog.Backups(ctx, k.ID)
	if err != nil {
		return err
	}
	now := capture.StoredLSN.String()
	if len(list) > 0 {
		now += " " + list[0].ID
	}
	c.state.mu.Lock()
	same := c.state.done[k.ID] == now
	c.state.done[k.ID] = now
	c.state.mu.Unlock()
	if same {
		return nil
	}
	err = c.Mirror(ctx, k.ID)
	if p := new(problem.Problem); errors.As(err, &p) && p.Kind == problem.Conflict { // one is under way, and may have passed this by
		c.mirrorAgain(k.ID)
		return nil
	}
	return err
}

// KeepRecord puts a cluster's record, which has changed, into the store, and has it
// copied to the second one.
func (c *Custody) KeepRecord(ctx context.Context, k catalog.Cluster) error {
	return deposit.PutCluster(ctx, c.Store, k)
}

// mirrorAgain has a cluster be looked at again.
func (c *Custody) mirrorAgain(cluster string) {
	c.state.mu.Lock()
	defer c.state.mu.Unlock()
	delete(c.state.done, cluster)
}

// CopyToSecond copies what a cluster has in the store to the second one.
func (c *Custody) CopyToSecond(ctx context.Context, cluster string, report task.Report) (mirror.Result, error) {
	stands := func(id string) (bool, error) {
		_, err := c.Catalog.Backup(ctx, id)
		if p := new(problem.Problem); errors.As(err, &p) && p.Kind == problem.NotFound {
			return false, nil
		}
		return err == nil, err
	}
	r, err := mirror.Run(ctx, c.Store, cluster, stands, report)
	if err != nil || r.Objects > 0 { // what was written meanwhile, as the index of a segment that was copied
		c.mirrorAgain(cluster)
	}
	return r, err
}

// SweepSecond removes what a copy that was cut short left unfinished in the second store.
// Others who write there, tidying, must not be at it.
func (c *Custody) SweepSecond(ctx context.Context, cluster string) (whole bool, err error) {
	if c.Second.Name == "" {
		return false, nil
	}
	second := c.Store.Second()
	if second == nil {
		return false, errors.New("the second store cannot be reached")
	}
	lease, ok, err := c.Catalog.ShareContent(ctx, cluster)
	if err != nil {
		return false, err
	}
	if !ok {
		return false, errors.New("the cluster's part of the store is being tidied")
	}
	defer lease.Release()
	return false, second.Sweep(ctx, "clusters/"+cluster+"/")
}
