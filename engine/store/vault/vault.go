package vault

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/oklog/ulid/v2"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
)

// Vault is an opened store.
type Vault struct {
	first  store.Store
	second atomic.Pointer[store.Store]
	record atomic.Pointer[StoreRecord]
	ring   atomic.Pointer[Ring] // nil of a store that is not encrypted
	key    *Key
	// Fell is told of each object that had to be taken from the second store; may be nil.
	Fell func(key string, why error)
	// Wrote is told of each object that Put has written, in case nothing else tells of it; may be nil.
	Wrote func(key string)
	// Guard refuses that anything is deleted or replaced by who is not to; may be nil.
	Guard    func(context.Context) error
	guarding sync.Mutex
	guarded  time.Time // when it was asked last and had nothing against it
}

// Options say how a store is opened.
type Options struct {
	Key          *Key   // nil of a store that is not encrypted
	Installation string // id of the catalogue
	Adopt        bool   // take over a store that belongs to another catalogue
	// Fingerprint and Number are what the catalogue knows of the store's data keys: a fingerprint of
	// the first one and the number of the newest; "" where it knows nothing.
	Fingerprint string
	Number      uint32
}

// known refuses keys that are not those which the catalogue knows.
func (o Options) known(r StoreRecord, ring *Ring) error {
	switch {
	case o.Fingerprint == "" || o.Adopt:
		return nil
	case ring.Fingerprint() != o.Fingerprint || !r.genuine(ring):
		return fmt.Errorf("its keys are not those that this installation gave the store: somebody has replaced it. Put the one back "+
			"that you keep in a safe (velvet store rekey --escrow), or the one of the second store, under the name %s", store.NameKey)
	case ring.Current < o.Number:
		return fmt.Errorf("it is older than it was: the store's newest key has number %d, and it knows only up to %d. Put the newest "+
			"one back under the name %s", o.Number, ring.Current, store.NameKey)
	}
	return nil
}

// Open opens a store for its installation, and makes its record if it is new and empty.
func Open(ctx context.Context, s store.Store, opt Options) (*Vault, error) {
	v := &Vault{first: s, key: opt.Key}
	var ring *Ring
	right := func(r StoreRecord) (err error) {
		if ring, err = r.unwrap(opt.Key, s.String()); err != nil {
			return err
		}
		return opt.known(r, ring)
	}
	r, err := readRecord(ctx, s, right)
	if errors.Is(err, store.ErrNotFound) {
		if r, err = begin(ctx, s, opt); err == nil {
			err = right(r)
		} else if errors.Is(err, store.ErrExists) {
			r, err = readRecord(ctx, s, right) // another instance was quicker
		}
	}
	if err != nil {
		return nil, err
	}
	if ring != nil && !r.genuine(ring) { // written before records had a tag
		if err := r.sign(ring); err != nil {
			return nil, err
		}
		if err := putRecord(ctx, s, r); err != nil {
			return nil, err
		}
	}
	if r.Installation != opt.Installation {
		if !opt.Adopt {
			return nil, fmt.Errorf("the store %s belongs to another installation of Velvet Rewind, whose catalogue is not this one; two "+
				"must never share a store. Choose another store, or, if that catalogue is lost, start once with --adopt-store and then "+
				"run: velvet store rebuild", s)
		}
		r.Installation = opt.Installation
		if err := r.sign(ring); err != nil {
			return nil, err
		}
		if err := putRecord(ctx, s, r); err != nil {
			return nil, err
		}
	}
	v.record.Store(&r)
	v.ring.Store(ring)
	return v, nil
}

// begin makes the record of a new store, which must be empty.
func begin(ctx context.Context, s store.Store, opt Options) (StoreRecord, error) {
	if err := mustBeEmpty(ctx, s); err != nil {
		return StoreRecord{}, err
	}
	if opt.Fingerprint != "" && !opt.Adopt {
		return StoreRecord{}, fmt.Errorf("the store %s is empty, but this installation's is not: see whether its disk is mounted. To "+
			"begin a "+
			"new store, start once with --adopt-store", s)
	}
	r := StoreRecord{Format: RecordFormat, ID: strings.ToLower(ulid.Make().String()), Installation: opt.Installation,
		Created: time.Now().UTC()}
	if opt.Key != nil {
		ring := new(Ring)
		ring.add()
		r.Rekeyed = r.Created
		if err := r.wrap(ring, opt.Key.recipients); err != nil {
			return r, err
		}
	}
	return r, putNewRecord(ctx, s, r)
}

// mustBeEmpty keeps us from writing among files that are not ours.
func mustBeEmpty(ctx context.Context, s store.Store) error {
	return s.List(ctx, "", func(i store.Info) error {
		if i.Key == store.NameKey || i.Key == store.SpareKey {
			return nil // made by another instance at this moment
		}
		return fmt.Errorf("%s is no store of Velvet Rewind, and it is not empty: it holds %s; choose an empty or a new place", s, i.Key)
	})
}

// Reading opens stores with a ring that was handed on, for reading only. second may be nil.
func Reading(first, second store.Store, ring *Ring) *Vault {
	v := &Vault{first: first}
	if second != nil {
		v.second.Store(&second)
	}
	v.record.Store(&StoreRecord{})
	v.ring.Store(ring)
	return v
}

// AddSecond has everything be kept in a second store too. A new one takes over the
// first one's record; another must be the same store's already.
func (v *Vault) AddSecond(ctx context.Context, s store.Store) error {
	if s.String() == v.first.String() {
		return fmt.Errorf("the second store is the first one, %s; choose another place", s)
	}
	mine := *v.record.Load()
	r, err := readRecord(ctx, s, anyRecord)
	switch {
	case errors.Is(err, store.ErrNotFound):
		if err := mustBeEmpty(ctx, s); err != nil {
			return err
		}
	case err != nil:
		return err
	case r.ID != mine.ID:
		return fmt.Errorf("the second store %s belongs to another store (%s) than %s (%s); choose an empty place", s, r.ID,
			v.first, mine.ID)
	}
	if err := putRecord(ctx, s, mine); err != nil {
		return err
	}
	if err := v.shareEpoch(ctx, s); err != nil {
		return err
	}
	v.second.Store(&s)
	return nil
}

// Rekey makes a new data key for what is written from now on, and wraps all keys anew:
// for the key of the given file, and for public keys besides. What had wrapped them
// before opens the store no more. No object is written again. The caller sees to it that no
// other instance does so at the same time.
func (v *Vault) Rekey(ctx context.Context, k *Key, besides []string) (number uint32, err error) {
	ring := v.ring.Load()
	if ring == nil {
		return 0, fmt.Errorf("the store %s is not encrypted, so that there is no key to change; encryption is chosen when a store is new",
			v.first)
	}
	more, err := parseRecipients(besides)
	if err != nil {
		return 0, err
	}
	// As the store has it now: a key that another instance has added meanwhile must not be lost.
	if err := v.reload(ctx); err != nil {
		return 0, fmt.Errorf("the key was changed by another instance, or its record cannot be read; restart with the new --store-key: %w",
			err)
	}
	next := v.ring.Load().clone()
	next.add()
	r := *v.record.Load()
	r.Rekeyed = time.Now().UTC()
	if err := r.wrap(next, append(append(more[:0:0], k.recipients...), more...)); err != nil {
		return 0, err
	}
	if err := putRecord(ctx, v.first, r); err != nil {
		return 0, err
	}
	v.key = k
	v.record.Store(&r)
	v.ring.Store(next)
	if second := v.Second(); second != nil {
		if err := putRecord(ctx, second, r); err != nil {
			return next.Current, fmt.Errorf("the key was changed, but the second store could not be told: %w; it is told when the "+
				"service starts again", err)
		}
	}
	return next.Current, nil
}

// reload reads the ring again, for another instance may have changed it.
func (v *Vault) reload(ctx context.Context) error {
	if v.key == nil {
		return errNoKey
	}
	was := v.ring.Load()
	var ring *Ring
	r, err := readRecord(ctx, v.first, func(r StoreRecord) (err error) {
		if ring, err = r.unwrap(v.key, v.first.String()); err != nil {
			return err
		}
		return Options{Fingerprint: was.Fingerprint(), Number: was.Current}.known(r, ring)
	})
	if err != nil {
		return err
	}
	v.record.Store(&r)
	v.ring.Store(ring)
	return nil
}

// KeyRecord is the record of the store's keys as it is kept in the store, for a safe.
func (v *Vault) KeyRecord() ([]byte, error) { return v.record.Load().encode() }

// Ring is the store's keys; nil of one that is not encrypted.
func (v *Vault) Ring() *Ring { return v.ring.Load() }

// StoreRecord is what the store says of itself.
func (v *Vault) Record() StoreRecord { return *v.record.Load() }

// HashKey keys the hashes of a cluster's extents.
func (v *Vault) HashKey(cluster string) layout.HashKey { return v.ring.Load().hashKey(cluster) }

// First is the store itself.
func (v *Vault) First() store.Store { return v.first }

// Second is the second store; nil without one.
func (v *Vault) Second() store.Store {
	if s := v.second.Load(); s != nil {
		return *s
	}
	return nil
}

// String names the store for messages.
func (v *Vault) String() string { return v.first.String() }

// List, Stat and Sweep are the first store's.
func (v *Vault) List(ctx context.Context, prefix string, visit func(store.Info) error) error {
	return v.first.List(ctx, prefix, visit)
}

// Stat describes an object of the first store.
func (v *Vault) Stat(ctx context.Context, key string) (store.Info, error) {
	return v.first.Stat(ctx, key)
}

// Sweep removes what unfinished writers left in the first store.
func (v *Vault) Sweep(ctx context.Context, prefix string) error {
	if err := v.allowed(ctx, guardEvery); err != nil {
		return err
	}
	return v.first.Sweep(ctx, prefix)
}

// Delete deletes an object from both stores.
func (v *Vault) Delete(ctx context.Context, key string) error {
	if err := v.allowed(ctx, guardEvery); err != nil {
		return err
	}
	return v.both(func(s store.Store) error { return s.Delete(ctx, key) })
}

// DeleteAll deletes everything below a prefix from both stores.
func (v *Vault) DeleteAll(ctx context.Context, prefix string) error {
	if err := v.allowed(ctx, guardEvery); err != nil {
		return err
	}
	return v.both(func(s store.Store) error {
		_, err := store.DeleteAll(ctx, s, prefix)
		return err
	})
}

func (v *Vault) both(do func(store.Store) error) error {
	second := v.Second()
	if err := do(v.first); err != nil || second == nil {
		return err
	}
	if err := do(second); err != nil {
		return fmt.Errorf("the second store: %w", err)
	}
	return nil
}
