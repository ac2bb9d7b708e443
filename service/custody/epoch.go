package custody

import (
	"context"
	"errors"
	"time"

	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/store/vault"
)

// takeEpoch makes this catalogue the one that used the store last. A copy of a catalogue, or an earlier
// state of one, must not delete or replace what another has written since. adopt takes the store over.
func (c *Custody) takeEpoch(ctx context.Context, adopt bool) error {
	return c.Catalog.Alone(ctx, func(ctx context.Context) error {
		ours, err := c.Catalog.Epoch(ctx)
		if err != nil {
			return err
		}
		newest, err := c.Store.Epoch(ctx)
		if err != nil {
			return err
		}
		// With our mark it is ours: the start that took it was cut short.
		if isForeign(newest, ours) && !adopt {
			return foreign("the service was not started", newest, ours)
		}
		newest.Number = max(newest.Number, ours.Number) // a second store may not have had the last ones
		mark := seal.Random()
		if err := c.Catalog.SetEpoch(ctx, catalog.Epoch{Number: newest.Number, Mark: mark}); err != nil {
			return err
		}
		next := vault.Epoch{Number: newest.Number + 1, Mark: mark, Taken: time.Now().UTC()}
		if err := c.Store.TakeEpoch(ctx, next); errors.Is(err, vault.ErrTaken) {
			return foreign("the service was not started", vault.Epoch{Number: next.Number}, ours)
		} else if err != nil {
			return err
		}
		return c.Catalog.SetEpoch(ctx, catalog.Epoch{Number: next.Number, Mark: mark})
	})
}

// guard refuses to delete or replace anything in a store that another catalogue has used since.
func (c *Custody) guard(ctx context.Context) error {
	ours, err := c.Catalog.Epoch(ctx)
	if err != nil {
		return err
	}
	newest, err := c.Store.Epoch(ctx)
	if errors.Is(err, vault.ErrTaken) {
		newest, err = c.Store.Epoch(ctx)
	}
	if err != nil {
		return err
	}
	if isForeign(newest, ours) { // with our mark another instance is starting
		return foreign("nothing in the store was deleted or replaced", newest, ours)
	}
	return nil
}

// isForeign tells whether somebody else has taken the store's newest epoch.
func isForeign(newest vault.Epoch, ours catalog.Epoch) bool {
	return newest.Number > ours.Number && newest.Mark != ours.Mark
}

func foreign(title string, newest vault.Epoch, ours catalog.Epoch) error {
	p := problem.New(problem.Conflict, "If this catalogue is an old state or a copy, end this service and use the other one. If this is "+
		"the right one, start once with --adopt-store, and then run: velvet store rebuild",
		title, "%v: the store is at epoch %d, this catalogue at %d", vault.ErrTaken, newest.Number, ours.Number)
	p.Err = vault.ErrTaken
	return p
}
