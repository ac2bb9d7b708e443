package vault

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
)

// Epoch is taken in a store by every start of a service: by its number a catalogue knows whether it is
// the one that used the store last. A copy of it, or an earlier state of it, is not.
type Epoch struct {
	Number uint64    `json:"number"`
	Mark   string    `json:"mark"` // of the attempt to take it
	Taken  time.Time `json:"taken"`
}

// ErrTaken says that somebody else has taken an epoch.
var ErrTaken = errors.New("another catalogue, or a later state of this one, has used the store since")

// Epoch is the newest that was taken; number 0 if none was.
func (v *Vault) Epoch(ctx context.Context) (e Epoch, err error) {
	var newest string
	if err := v.first.List(ctx, store.EpochKey(""), func(i store.Info) error {
		newest = max(newest, i.Key)
		return nil
	}); err != nil || newest == "" {
		return e, err
	}
	r, err := v.first.Open(ctx, newest, 0)
	if errors.Is(err, store.ErrNotFound) { // a later one was taken just now
		return e, ErrTaken
	}
	if err != nil {
		return e, err
	}
	defer func() { _ = r.Close() }()
	frames, err := v.openFrames(ctx, r, newest)
	if err != nil {
		return e, fmt.Errorf("%s: %w", newest, err)
	}
	content, err := frames.Next()
	if err != nil {
		return e, fmt.Errorf("%s: %w", newest, err)
	}
	if err := json.Unmarshal(content, &e); err != nil {
		return e, fmt.Errorf("%s: %w", newest, err)
	}
	return e, nil
}

// TakeEpoch takes an epoch, unless somebody has taken it, and forgets those before.
func (v *Vault) TakeEpoch(ctx context.Context, e Epoch) error {
	key := store.EpochKey(fmt.Sprintf("%012d", e.Number))
	content, err := json.Marshal(e)
	if err != nil {
		return err
	}
	h, seal, err := v.ring.Load().newHeader("", key)
	if err != nil {
		return err
	}
	var object bytes.Buffer
	w := layout.NewStream(&object, h, seal, layout.Plain)
	if _, err := io.Copy(w, bytes.NewReader(content)); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	err = v.first.PutNew(ctx, key, object.Bytes())
	if errors.Is(err, store.ErrExists) {
		return ErrTaken
	}
	if err != nil {
		return err
	}
	return forgetEpochs(ctx, v.first, key)
}

// forgetEpochs deletes those before one.
func forgetEpochs(ctx context.Context, s store.Store, newest string) error {
	var before []string
	err := s.List(ctx, store.EpochKey(""), func(i store.Info) error {
		if i.Key < newest {
			before = append(before, i.Key)
		}
		return nil
	})
	for _, key := range before {
		err = errors.Join(err, s.Delete(ctx, key))
	}
	return err
}

// shareEpoch has a second store have the newest epoch of the first.
func (v *Vault) shareEpoch(ctx context.Context, second store.Store) error {
	var newest string
	err := v.first.List(ctx, store.EpochKey(""), func(i store.Info) error {
		newest = max(newest, i.Key)
		return nil
	})
	if err != nil || newest == "" {
		return err
	}
	if err := v.Copy(ctx, newest, v.first, second); err != nil {
		return err
	}
	return forgetEpochs(ctx, second, newest)
}

// guardEvery is how long an answer of the guard holds while much is deleted.
const guardEvery = 3 * time.Second

// MayDelete asks the guard, if there is one, whether anything in the store may be deleted or replaced.
// Who is about to delete much asks first; in between it is asked now and then.
func (v *Vault) MayDelete(ctx context.Context) error { return v.allowed(ctx, 0) }

func (v *Vault) allowed(ctx context.Context, holds time.Duration) error {
	if v.Guard == nil {
		return nil
	}
	v.guarding.Lock()
	defer v.guarding.Unlock()
	if time.Since(v.guarded) < holds {
		return nil
	}
	if err := v.Guard(ctx); err != nil {
		return err
	}
	v.guarded = time.Now()
	return nil
}
