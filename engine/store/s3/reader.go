package s3

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/minio/minio-go/v7"

	"velvetrewind/engine/store"
)

// reader reads an object, and takes a broken connection up again.
type reader struct {
	store   *Store
	ctx     context.Context
	key     string
	name    string
	size    int64
	at      int64
	current io.ReadCloser
	broken  int // tries since something arrived
}

// errBroken is none of those that say that an object ends.
var errBroken = errors.New("the connection broke, again and again")

// mostTries is how often in a row a connection may break.
const mostTries = 5

func (r *reader) Read(p []byte) (int, error) {
	for {
		if r.at >= r.size {
			return 0, io.EOF
		}
		n, err := r.part(p)
		r.at += int64(n)
		if n > 0 {
			r.broken = 0
			return n, nil
		}
		_ = r.Close()
		if r.broken++; r.broken == mostTries || r.ctx.Err() != nil || errors.Is(err, store.ErrNotFound) {
			if errors.Is(err, io.ErrUnexpectedEOF) { // of the connection: the object is longer
				err = errBroken
			}
			return 0, fmt.Errorf("read %s from %d on: %w", r.key, r.at, errors.Join(err, r.ctx.Err()))
		}
		select {
		case <-r.ctx.Done():
		case <-time.After(time.Duration(r.broken) * 200 * time.Millisecond):
		}
	}
}

// part reads from the connection, which it opens if need be.
func (r *reader) part(p []byte) (int, error) {
	if r.current == nil {
		var o minio.GetObjectOptions
		if err := o.SetRange(r.at, r.size-1); err != nil {
			return 0, err
		}
		body, _, _, err := (&minio.Core{Client: r.store.client}).GetObject(r.ctx, r.store.bucket, r.name, o)
		if err != nil {
			return 0, r.store.explain(r.key, err)
		}
		r.current = body
	}
	n, err := r.current.Read(p[:min(int64(len(p)), r.size-r.at)])
	if n == 0 && (err == nil || errors.Is(err, io.EOF)) {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func (r *reader) Close() (err error) {
	if r.current != nil {
		err = r.current.Close()
		r.current = nil
	}
	return err
}
