// Package store is where backups and WAL are kept: objects under keys. A
// directory (package dir) is one kind; object storage fits the same interface.
//
// Invariant: an object is there whole or not at all. After Commit returns it survives a crash; before that, no List
// or Open shows it. Objects are never changed, only put and deleted. What objects hold, and whether it is right, is
// package vault's.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// ErrNotFound says that there is no object under the key.
var ErrNotFound = errors.New("no such object in the store")

// ErrExists says that there is an object under the key already.
var ErrExists = errors.New("there is such an object in the store already")

// ErrFull says that the store has no room left.
var ErrFull = errors.New("the store is full; free or add space, and the work can be started again")

// Info describes an object.
type Info struct {
	Key  string
	Size int64
}

// Writer receives an object's bytes. Exactly one of Commit and Abort must be
// called; Abort after Commit does nothing.
type Writer interface {
	io.Writer
	Commit() error
	Abort()
}

// Store keeps objects. Keys are lower-case paths with slashes.
type Store interface {
	// Create begins an object; one already under the key is replaced at Commit.
	Create(ctx context.Context, key string) (Writer, error)
	// PutNew puts an object unless there is one under the key: then it is ErrExists,
	// also if both were put at the same moment.
	PutNew(ctx context.Context, key string, content []byte) error
	// Open reads an object from offset on.
	Open(ctx context.Context, key string, offset int64) (io.ReadCloser, error)
	Stat(ctx context.Context, key string) (Info, error)
	Delete(ctx context.Context, key string) error
	// List visits the objects whose keys begin with prefix, in no certain order.
	List(ctx context.Context, prefix string, visit func(Info) error) error
	// Sweep removes what writers that never finished left below prefix. The caller
	// knows that nobody else is writing there.
	Sweep(ctx context.Context, prefix string) error
	// String names the store for messages.
	String() string
}

// Locking is a store that keeps what is deleted or replaced for a time, whoever does it: a bucket
// with object lock.
type Locking interface {
	// Locked is for how long at least; 0 where nothing is locked, with the problem if it is not
	// known whether it is.
	Locked() (atLeast time.Duration, problem string)
	// ExtendLocks locks for longer what would soon not be locked for long enough; it is called
	// again after the time that every says. It tells how many objects those were.
	ExtendLocks(ctx context.Context, now time.Time, every time.Duration) (extended int, err error)
}

// DeleteAll deletes every object below prefix, and what unfinished writers left.
func DeleteAll(ctx context.Context, s Store, prefix string) (deleted int, err error) {
	if !strings.HasSuffix(prefix, "/") {
		return 0, fmt.Errorf("delete below %q: a prefix must end in a slash", prefix)
	}
	var keys []string
	err = s.List(ctx, prefix, func(i Info) error {
		keys = append(keys, i.Key)
		return nil
	})
	if err != nil {
		return 0, err
	}
	for _, k := range keys {
		if err := s.Delete(ctx, k); err != nil {
			return deleted, err
		}
		deleted++
	}
	return deleted, s.Sweep(ctx, prefix)
}
