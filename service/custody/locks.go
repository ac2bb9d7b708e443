package custody

import (
	"context"
	"errors"
	"fmt"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/engine/store"
)

// How often the locks of what the stores hold are extended, and how soon that is tried again.
const (
	extendLocksEvery = 24 * time.Hour
	extendLocksAgain = 30 * time.Minute
)

// KeepLocked extends the locks of what the stores hold, where they lock, until ctx ends.
func (c *Custody) KeepLocked(ctx context.Context) {
	for {
		wait := extendLocksEvery
		err := c.extendLocks(ctx)
		if ctx.Err() != nil {
			return
		}
		c.state.write(&c.state.unlocked, textOf(err))
		if err != nil {
			wait = extendLocksAgain
			c.Log.Warn("the locks of what the store holds were not extended", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

func (c *Custody) extendLocks(ctx context.Context) (err error) {
	for _, l := range c.lockingStores() {
		n, e := l.ExtendLocks(ctx, c.Now(), extendLocksEvery)
		if n > 0 {
			c.Log.Info("locks were extended", "store", l, "objects", n)
		}
		err = errors.Join(err, e)
	}
	return err
}

type lockingStore interface {
	store.Store
	store.Locking
}

func (c *Custody) lockingStores() (list []lockingStore) {
	for _, where := range []store.Store{c.Store.First(), c.Store.Second()} {
		if l, ok := where.(lockingStore); ok {
			list = append(list, l)
		}
	}
	return list
}

// Locks tells how the stores lock what they hold; nothing of those that do not.
func (c *Custody) Locks() []api.StoreLock {
	list := []api.StoreLock{}
	for _, l := range c.lockingStores() {
		span, problem := l.Locked()
		if span == 0 && problem == "" {
			continue
		}
		v := api.StoreLock{Store: l.String(), Text: "not known: " + problem}
		if span > 0 {
			v.Text = fmt.Sprintf("what is deleted or replaced in the bucket stays in it for %s or more", figures.Span(span))
		}
		list = append(list, v)
	}
	return list
}
