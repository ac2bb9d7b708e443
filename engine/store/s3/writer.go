package s3

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/minio/minio-go/v7"

	"velvetrewind/engine/store"
)

// partSize is how much of an object is sent at a time, and held in memory meanwhile.
// With 10,000 parts at most it bounds an object to 160 GB.
const partSize = 16 << 20

// options have every part checked by its MD5 where it arrives. A hash for the
// signature besides would only cost time.
var options = minio.PutObjectOptions{PartSize: partSize, NumThreads: 1, SendContentMd5: true, DisableContentSha256: true,
	ContentType: "application/octet-stream"}

// Create implements store.Store.
func (s *Store) Create(ctx context.Context, key string) (store.Writer, error) {
	name, err := s.object(key)
	if err != nil {
		return nil, err
	}
	return &writer{ctx: ctx, store: s, key: key, name: name}, nil
}

// writer sends an object at Commit if it is small, and in parts while it is written
// once it is not.
type writer struct {
	ctx       context.Context
	store     *Store
	key, name string
	small     bytes.Buffer
	pipe      *io.PipeWriter // of the upload, once it has begun
	ended     chan error
	done      bool
}

func (w *writer) Write(p []byte) (int, error) {
	if w.pipe != nil {
		return w.pipe.Write(p)
	}
	if w.small.Len()+len(p) <= partSize {
		return w.small.Write(p)
	}
	w.begin()
	return w.pipe.Write(p)
}

// begin starts an upload in parts with what was written so far.
func (w *writer) begin() {
	r, pipe := io.Pipe()
	w.pipe, w.ended = pipe, make(chan error, 1)
	content := &counting{from: io.MultiReader(&w.small, r)}
	go func() {
		info, err := w.store.client.PutObject(w.ctx, w.store.bucket, w.name, content, -1, w.store.lock.put(options))
		_ = r.CloseWithError(errors.Join(err, io.ErrClosedPipe))
		w.ended <- w.arrived(info.Size, content.n, err)
	}()
}

type counting struct {
	from io.Reader
	n    int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.n += int64(n)
	return n, err
}

func (w *writer) arrived(there, sent int64, err error) error {
	if err == nil && there != sent {
		err = fmt.Errorf("%d bytes of %s arrived, %d were sent", there, w.key, sent)
	}
	return w.store.explain(w.key, err)
}

func (w *writer) Commit() error {
	w.done = true
	if w.pipe != nil {
		_ = w.pipe.Close()
		return <-w.ended
	}
	size := int64(w.small.Len())
	info, err := w.store.client.PutObject(w.ctx, w.store.bucket, w.name, bytes.NewReader(w.small.Bytes()), size, w.store.lock.put(options))
	return w.arrived(info.Size, size, err)
}

var errAborted = errors.New("the object was given up")

func (w *writer) Abort() {
	if w.done {
		return
	}
	w.done = true
	if w.pipe != nil {
		_ = w.pipe.CloseWithError(errAborted)
		<-w.ended
	}
}

// PutNew implements store.Store by a conditional request.
func (s *Store) PutNew(ctx context.Context, key string, content []byte) error {
	name, err := s.object(key)
	if err != nil {
		return err
	}
	conditional := s.lock.put(options)
	conditional.SetMatchETagExcept("*")
	_, err = s.client.PutObject(ctx, s.bucket, name, bytes.NewReader(content), int64(len(content)), conditional)
	return s.explain(key, err)
}
