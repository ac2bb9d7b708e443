// Package place opens a store by where it is: a directory, or a bucket.
//
// Invariant: a Place is all that another process of this host needs to read the
// store. It may hold keys, and is kept only where the servers' OS user alone reads.
package place

import (
	"context"
	"fmt"
	"strings"

	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/s3"
	"velvetrewind/engine/store/vault"
)

// Place is where a store is, and what opens it.
type Place struct {
	Location string   `json:"location"`       // a directory, or s3://…
	Keys     *s3.Keys `json:"keys,omitempty"` // of a bucket
	// Reading are keys of the bucket that may do nothing else, for those whom Keys are not given.
	Reading *s3.Keys    `json:"-"`
	Ring    *vault.Ring `json:"ring,omitempty"` // of an encrypted store
	Second  *Place      `json:"second,omitempty"`
}

// IsBucket tells whether a location names a bucket.
func IsBucket(location string) bool { return strings.HasPrefix(location, s3.Scheme) }

// Open opens a store and makes its directory if need be, in which members of group
// (-1: nobody) may read. keysFile is the file with a bucket's keys, "" for the usual places;
// readingFile that with keys which only read, "" for none.
func Open(ctx context.Context, location, keysFile, readingFile string, group int) (store.Store, Place, error) {
	p := Place{Location: location}
	if !IsBucket(location) {
		s, err := dir.Open(location, group)
		if err != nil {
			return nil, p, err
		}
		p.Location = s.String()
		return s, p, nil
	}
	keys, err := s3.FindKeys(keysFile)
	if err != nil {
		return nil, p, err
	}
	p.Keys = &keys
	if readingFile != "" {
		reading, err := s3.FindKeys(readingFile)
		if err != nil {
			return nil, p, err
		}
		p.Reading = &reading
	}
	s, err := s3.Open(ctx, location, keys)
	if err != nil {
		return nil, p, err
	}
	return s, p, nil
}

// For makes a place that reads one cluster's part of a store, and no other's: with the keys of a
// bucket that only read, if there are any.
func (p Place) For(v *vault.Vault, cluster string) Place {
	p.Ring, p.Keys = v.Ring().ForCluster(cluster), p.Reading
	if p.Second != nil {
		second := *p.Second
		second.Keys = second.Reading
		p.Second = &second
	}
	return p
}

// ToRead opens a store for reading, and makes nothing.
func (p Place) ToRead(ctx context.Context) (*vault.Vault, error) {
	first, err := p.existing(ctx)
	if p.Second == nil {
		if err != nil {
			return nil, err
		}
		return vault.Reading(first, nil, p.Ring), nil
	}
	second, e := p.Second.existing(ctx)
	switch {
	case err != nil && e != nil:
		return nil, err
	case err != nil:
		return vault.Reading(second, nil, p.Ring), nil
	case e != nil:
		return vault.Reading(first, nil, p.Ring), nil
	}
	return vault.Reading(first, second, p.Ring), nil
}

func (p Place) existing(ctx context.Context) (store.Store, error) {
	if !IsBucket(p.Location) {
		return dir.OpenExisting(p.Location)
	}
	if p.Keys == nil {
		return nil, fmt.Errorf("only the service may read %s; serve with keys that may only read it, --copies-credentials, for copies "+
			"to go on while the service is down", p.Location)
	}
	return s3.Open(ctx, p.Location, *p.Keys)
}
