// Package notice has what is to be deleted permanently wait, so that it can be taken back.
//
// Invariant: nothing is due before the delay has passed since the store itself has held a notice of
// it. Who can write to the catalogue alone, or has an old one, cannot hasten that. What to delete, and
// whether it was taken back meanwhile, is the caller's to say.
package notice

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Board keeps the notices of a store.
type Board struct {
	Store *vault.Vault
	Delay time.Duration // 0 deletes at once
	Now   func() time.Time
}

// Due tells which of all names that are to be deleted of a cluster have waited long enough, and when the
// next of the others will have; zero if there are none. A name that is not among them any more was
// taken back or is deleted: should it come again, it waits anew.
func (b *Board) Due(ctx context.Context, cluster, kind string, names []string) (due []string, next time.Time, err error) {
	if b.Delay == 0 {
		return names, next, nil
	}
	noted, err := b.read(ctx, cluster, kind)
	if err != nil {
		return nil, next, err
	}
	now, stand, changed := b.Now().UTC(), make(map[string]time.Time, len(names)), false
	for _, name := range names {
		since, ok := noted[name]
		if !ok || since.After(now) {
			since, changed = now, true
		}
		stand[name] = since
		if at := since.Add(b.Delay); !at.After(now) {
			due = append(due, name)
		} else if next.IsZero() || at.Before(next) {
			next = at
		}
	}
	if changed || len(stand) != len(noted) {
		err = b.write(ctx, cluster, kind, stand)
	}
	return due, next, err
}

func (b *Board) read(ctx context.Context, cluster, kind string) (noted map[string]time.Time, err error) {
	key := store.NoticeKey(cluster, kind)
	content, err := b.Store.Get(ctx, key)
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, layout.ErrCorrupt) {
		return nil, nil // all of it waits anew
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(content, &noted); err != nil {
		return nil, fmt.Errorf("%s: %w", key, err)
	}
	return noted, nil
}

func (b *Board) write(ctx context.Context, cluster, kind string, stand map[string]time.Time) error {
	key := store.NoticeKey(cluster, kind)
	if len(stand) == 0 {
		return b.Store.Delete(ctx, key)
	}
	content, err := json.Marshal(stand)
	if err != nil {
		return err
	}
	_, err = b.Store.Put(ctx, key, layout.Zstd, content)
	return err
}
