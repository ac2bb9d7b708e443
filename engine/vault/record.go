package vault

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"filippo.io/age"

	"velvetrewind/engine/store"
)

// Record is what a store says of itself, under store.NameKey, as plain JSON.
type Record struct {
	Format       string    `json:"format"`
	ID           string    `json:"id"`
	Installation string    `json:"installation"` // id of the catalogue whose store it is
	Created      time.Time `json:"created"`
	// Wraps are the ring of data keys, each time encrypted for another who may open
	// it, as age files (age-encryption.org/v1). None: the store is not encrypted.
	Wraps   [][]byte  `json:"wraps,omitempty"`
	Rekeyed time.Time `json:"rekeyed,omitzero"` // when the newest data key was made
}

// RecordFormat names the version of the record and of the store's keys and objects.
const RecordFormat = "velvet-store/2"

var errNoKey = errors.New("the store's ring has no data key")

// wrap encrypts the ring for each recipient apart: a passphrase cannot share a file.
func (r *Record) wrap(ring *Ring, recipients []age.Recipient) error {
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
	return nil
}

// unwrap opens the ring with a key; nil for a store that is not encrypted.
func (r *Record) unwrap(k *Key, where string) (*Ring, error) {
	switch {
	case len(r.Wraps) == 0 && k != nil:
		return nil, fmt.Errorf("the store %s is not encrypted, but a key was given for it; leave out --store-key, or choose a new, empty store", where)
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

// readRecord reads what a store says of itself; store.ErrNotFound of a new one.
func readRecord(ctx context.Context, s store.Store) (r Record, err error) {
	f, err := s.Open(ctx, store.NameKey, 0)
	if err != nil {
		return r, err
	}
	content, err := io.ReadAll(f)
	if err = errors.Join(err, f.Close()); err != nil {
		return r, err
	}
	if err := json.Unmarshal(content, &r); err != nil {
		return r, fmt.Errorf("the record of the store %s cannot be read: %w", s, err)
	}
	if r.Format != RecordFormat {
		return r, fmt.Errorf("the store %s is of format %q, this velvet reads %s", s, r.Format, RecordFormat)
	}
	return r, nil
}

// putRecord replaces a store's record.
func putRecord(ctx context.Context, s store.Store, r Record) error {
	content, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	w, err := s.Create(ctx, store.NameKey)
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
func putNewRecord(ctx context.Context, s store.Store, r Record) error {
	content, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return s.PutNew(ctx, store.NameKey, content)
}
