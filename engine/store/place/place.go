// Package place opens a store by where it is: a directory, or a bucket.
//
// Invariant: a Place is all that another process of this host needs to read the
// store. It may hold keys, and is kept only where the servers' OS user alone reads.
package place

import (
	"context"
	"strings"

	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/s3"
)

// Place is where a store is, and what opens it.
type Place struct {
	Location string   // a directory, or s3://…
	Keys     *s3.Keys // of a bucket
}

// IsBucket tells whether a location names a bucket.
func IsBucket(location string) bool { return strings.HasPrefix(location, s3.Scheme) }

// Open opens a store and makes its directory if need be, in which members of group
// (-1: nobody) may read. keysFile is the file with a bucket's keys, "" for the usual places.
func Open(ctx context.Context, location, keysFile string, group int) (store.Store, Place, error) {
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
	s, err := s3.Open(ctx, location, keys)
	if err != nil {
		return nil, p, err
	}
	return s, p, nil
}

// OpenExisting opens a store for reading, and makes nothing.
func (p Place) OpenExisting(ctx context.Context) (store.Store, error) {
	if !IsBucket(p.Location) {
		return dir.OpenExisting(p.Location)
	}
	var keys s3.Keys
	if p.Keys != nil {
		keys = *p.Keys
	}
	return s3.Open(ctx, p.Location, keys)
}
