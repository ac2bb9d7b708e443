package vault

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"filippo.io/age"

	"velvetrewind/engine/store"
)

// StoreRecord is what a store says of itself, under store.NameKey, as plain JSON.
type StoreRecord struct {
	Format       string    `json:"format"`
	ID           string    `json:"id"`
	Installation string    `json:"installation"` // id of the catalogue whose store it is
	Created      time.Time `json:"created"`
	// Wraps are the ring of data keys, each time encrypted for another who may open
	// it, as age files (age-encryption.org/v1). None: the store is not encrypted.
	Wraps   [][]byte  `json:"wraps,omitempty"`
	Rekeyed time.Time `json:"rekeyed,omitzero"` // when the newest data key was made
	// Tag authenticates the record, as it is without tag and sum, with the first data key.
	Tag string `json:"tag,omitempty"`
	// Sum is the SHA-256 of the record as it is written without it, in hexadecimal. Records of
	// before have none.
	Sum string `json:"sum,omitempty"`
}

// RecordFormat names the version of the record and of the store's keys and objects.
const RecordFormat = "velvet-store/2"

var errNoKey = errors.New("the store's ring has no data key")

// wrap encrypts the ring for each recipient apart: a passphrase cannot share a file.
func (r *StoreRecord) wrap(ring *Ring, recipients []age.Recipient) error {
	content, err := json.Marshal(ring)
	if err != nil {
		return err
	}
	r.Wraps = nil
	for _, to := range recipients {
		var out bytes.Buffer
		w, err := age.Encrypt(&out, to)
		if err != nil {
			return err
		}
		if _, err := w.Write(content); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
		r.Wraps = append(r.Wraps, out.Bytes())
	}
	return r.sign(ring)
}

// unwrap opens the ring with a key; nil for a store that is not encrypted.
func (r *StoreRecord) unwrap(k *Key, where string) (*Ring, error) {
	switch {
	case len(r.Wraps) == 0 && k != nil:
		return nil, fmt.Errorf("the store %s is not encrypted, but a key was given for it; leave out --store-key, or choose a new, "+
			"empty store", where)
	case len(r.Wraps) == 0:
		return nil, nil
	case k == nil:
		return nil, fmt.Errorf("the store %s is encrypted; name the file with its key or passphrase: --store-key FILE", where)
	}
	for _, wrapped := range r.Wraps {
		plain, err := age.Decrypt(bytes.NewReader(wrapped), k.identities...)
		if err != nil {
			continue
		}
		content, err := io.ReadAll(plain)
		if err != nil {
			return nil, fmt.Errorf("the keys of the store %s are damaged: %w", where, err)
		}
		ring := new(Ring)
		return ring, json.Unmarshal(content, ring)
	}
	return nil, fmt.Errorf("the key in %s does not open the store %s; name the file with the right one: --store-key FILE", k.file, where)
}

// errForged is of a record that is whole and was not written by somebody with this store's keys, and
// errOldRecord of one that a newer one was in the place of.
var (
	errForged    = errors.New("it was not written with this store's keys")
	errOldRecord = errors.New("it is older than the one that was written last")
)

// errDamagedRecord is that of a record of which a bit is wrong.
var errDamagedRecord = errors.New("the store's record is damaged")

// sign gives a record its tag.
func (r *StoreRecord) sign(ring *Ring) error {
	bare, err := r.bare()
	r.Tag = ring.tag(bare)
	return err
}

// genuine tells whether a record was written by somebody who has the store's first data key.
func (r StoreRecord) genuine(ring *Ring) bool {
	bare, err := r.bare()
	return err == nil && subtle.ConstantTimeCompare([]byte(r.Tag), []byte(ring.tag(bare))) == 1
}

func (r StoreRecord) bare() ([]byte, error) {
	r.Tag, r.Sum = "", ""
	return json.Marshal(r)
}

// encode writes a record with its sum.
func (r StoreRecord) encode() ([]byte, error) {
	r.Sum = ""
	bare, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(bare)
	r.Sum = hex.EncodeToString(sum[:])
	return json.MarshalIndent(r, "", "  ")
}

// decodeRecord reads a record, of which every bit must be as it was written.
func decodeRecord(content []byte) (r StoreRecord, err error) {
	if err := json.Unmarshal(content, &r); err != nil {
		return r, fmt.Errorf("%w: %w", errDamagedRecord, err)
	}
	again, err := r.encode()
	if r.Sum == "" { // of before
		again, err = json.MarshalIndent(r, "", "  ")
	}
	if err == nil && !bytes.Equal(again, content) {
		err = errDamagedRecord
	}
	return r, err
}

// readRecord reads what a store says of itself, from its spare where the record cannot be read or
// right refuses it; store.ErrNotFound of a new one.
func readRecord(ctx context.Context, s store.Store, right func(StoreRecord) error) (StoreRecord, error) {
	r, err := readRecordAt(ctx, s, store.NameKey)
	if err == nil {
		err = right(r)
	}
	if err != nil {
		spare, spareErr := readRecordAt(ctx, s, store.SpareKey)
		if spareErr == nil {
			spareErr = right(spare)
		}
		switch {
		case spareErr == nil:
			r, err = spare, nil
		case errors.Is(err, store.ErrNotFound) && !errors.Is(spareErr, store.ErrNotFound):
			err = spareErr
		}
	}
	if err != nil {
		return r, fmt.Errorf("the record of the store %s cannot be read: %w", s, err)
	}
	if r.Format != RecordFormat {
		return r, fmt.Errorf("the store %s is of format %q, this velvet reads %s", s, r.Format, RecordFormat)
	}
	return r, nil
}

// anyRecord is right of every record.
func anyRecord(StoreRecord) error { return nil }

func readRecordAt(ctx context.Context, s store.Store, key string) (r StoreRecord, err error) {
	f, err := s.Open(ctx, key, 0)
	if err != nil {
		return r, err
	}
	content, err := io.ReadAll(f)
	if err = errors.Join(err, f.Close()); err != nil {
		return r, err
	}
	return decodeRecord(content)
}

// putRecord replaces a store's record and its spare, one after the other: one of them is whole at
// any instant.
func putRecord(ctx context.Context, s store.Store, r StoreRecord) error {
	content, err := r.encode()
	if err != nil {
		return err
	}
	for _, key := range []string{store.NameKey, store.SpareKey} {
		if err := putPlain(ctx, s, key, content); err != nil {
			return err
		}
	}
	return nil
}

func putPlain(ctx context.Context, s store.Store, key string, content []byte) error {
	w, err := s.Create(ctx, key)
	if err != nil {
		return err
	}
	defer w.Abort()
	if _, err := w.Write(content); err != nil {
		return err
	}
	return w.Commit()
}

// putNewRecord makes the record of a store that has none; else it is store.ErrExists.
func putNewRecord(ctx context.Context, s store.Store, r StoreRecord) error {
	content, err := r.encode()
	if err != nil {
		return err
	}
	if err := s.PutNew(ctx, store.NameKey, content); err != nil {
		return err
	}
	return putPlain(ctx, s, store.SpareKey, content)
}

// RepairRecords looks at the record and its spare in both stores, and writes again what is damaged,
// missing, older or not ours, from the newest that is genuine. It tells what that was.
func (v *Vault) RepairRecords(ctx context.Context) (repaired []string, err error) {
	err = v.both(func(s store.Store) error {
		newest, wrong := *v.record.Load(), make(map[string]error)
		for _, key := range []string{store.NameKey, store.SpareKey} {
			r, err := readRecordAt(ctx, s, key)
			switch {
			case err == nil && (r.ID != newest.ID || !r.genuine(v.ring.Load())):
				err = errForged
			case err == nil && r.Rekeyed.After(newest.Rekeyed): // by another instance
				newest = r
			case err == nil && r.Rekeyed.Before(newest.Rekeyed):
				err = errOldRecord
			case errors.Is(err, store.ErrNotFound) && key == store.SpareKey:
				err = nil // of before there was one
			}
			if wrong[key] = err; err != nil {
				repaired = append(repaired, fmt.Sprintf("%s of %s (%v)", key, s, err))
			}
		}
		if wrong[store.NameKey] == nil && wrong[store.SpareKey] == nil {
			if _, err := s.Stat(ctx, store.SpareKey); err == nil {
				return nil
			}
		}
		return putRecord(ctx, s, newest)
	})
	return repaired, err
}
