package vault

import (
	"context"
	"errors"
	"fmt"
	"io"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/store"
)

// Writer receives the content of an object. Exactly one of Commit and Abort must be
// called; Abort after Commit does nothing.
type Writer struct {
	*layout.Stream
	out store.Writer
}

// Create begins an object.
func (v *Vault) Create(ctx context.Context, key string, codec layout.Codec) (*Writer, error) {
	h, seal, err := v.ring.Load().newHeader(store.ClusterOf(key), key)
	if err != nil {
		return nil, err
	}
	out, err := v.first.Create(ctx, key)
	if err != nil {
		return nil, err
	}
	return &Writer{layout.NewStream(out, h, seal, codec), out}, nil
}

// Commit completes the object: it is safe when Commit returns.
func (w *Writer) Commit() error {
	if err := w.Close(); err != nil {
		w.out.Abort()
		return err
	}
	return w.out.Commit()
}

// Abort gives the object up.
func (w *Writer) Abort() { w.out.Abort() }

// Put writes a whole object, and says how many bytes it takes in the store. Each part of its content begins a frame, so that it
// can be read without what follows.
func (v *Vault) Put(ctx context.Context, key string, codec layout.Codec, parts ...[]byte) (stored int64, err error) {
	if err := v.MayDelete(ctx); err != nil { // it may replace one
		return 0, err
	}
	w, err := v.Create(ctx, key, codec)
	if err != nil {
		return 0, err
	}
	defer w.Abort()
	for _, part := range parts {
		if _, err := w.Write(part); err != nil {
			return 0, err
		}
		if err := w.Flush(); err != nil {
			return 0, err
		}
	}
	if err := w.Commit(); err != nil {
		return w.Size(), err
	}
	if v.Wrote != nil {
		v.Wrote(key)
	}
	return w.Size(), nil
}

// Open reads the verified content of an object. What the first store lacks or has
// damaged is taken from the second, from that byte on.
func (v *Vault) Open(ctx context.Context, key string) (io.ReadCloser, error) {
	r := &reader{vault: v, ctx: ctx, key: key}
	err := r.open(v.first)
	if err != nil && r.fallBack() {
		if e := r.open(v.Second()); e != nil && errors.Is(err, store.ErrNotFound) && !errors.Is(e, store.ErrNotFound) {
			return nil, fmt.Errorf("%w; the second store: %w", err, e)
		} else if e != nil {
			return nil, err
		}
		v.fell(key, err)
	} else if err != nil {
		return nil, err
	}
	return r, nil
}

// Get reads the whole content of an object.
func (v *Vault) Get(ctx context.Context, key string) ([]byte, error) {
	r, err := v.Open(ctx, key)
	if err != nil {
		return nil, err
	}
	content, err := io.ReadAll(r)
	return content, errors.Join(err, r.Close())
}

// Segment reads a WAL segment of a cluster; of a cut one what there is.
func (v *Vault) Segment(ctx context.Context, cluster string, seg pg.Segment, z pg.SegmentSize) (io.ReadCloser, error) {
	return v.Open(ctx, store.SegmentKey(cluster, seg.Timeline, seg.Name(z)))
}

// openFrames reads an object's header, and makes a reader of its frames.
func (v *Vault) openFrames(ctx context.Context, src io.Reader, key string) (*layout.FrameReader, error) {
	h, err := layout.ReadHeader(src)
	if err != nil {
		return nil, err
	}
	cluster := store.ClusterOf(key)
	if _, generation, _ := store.ParsePackKey(cluster, key); h.Generation != generation {
		return nil, fmt.Errorf("%w: generation %d under a name of generation %d", layout.ErrCorrupt, h.Generation, generation)
	}
	seal, err := v.sealOf(ctx, h, cluster, sealName(key))
	if err != nil {
		return nil, err
	}
	return layout.NewObjectReader(src, h, seal), nil
}

// sealOf makes the seal of an object; a key that is not known may be new.
func (v *Vault) sealOf(ctx context.Context, h layout.Header, cluster, name string) (*layout.Seal, error) {
	seal, err := v.ring.Load().seal(h, cluster, name)
	if !errors.Is(err, errNoKey) {
		return seal, err
	}
	if e := v.reload(ctx); e != nil {
		return nil, fmt.Errorf("%w; the store's key was changed: restart with the new --store-key (%w)", err, e)
	}
	if seal, err = v.ring.Load().seal(h, cluster, name); errors.Is(err, errNoKey) { // nobody has it
		err = fmt.Errorf("%w: %w", layout.ErrCorrupt, err)
	}
	return seal, err
}

// reader reads an object's content.
type reader struct {
	vault  *Vault
	ctx    context.Context
	key    string
	src    io.ReadCloser
	frames *layout.FrameReader
	rest   []byte
	second bool
	err    error
}

// open begins, or goes on where it stopped, with a store.
func (r *reader) open(s store.Store) error {
	at := int64(0)
	if r.frames != nil {
		at = r.frames.At()
	}
	src, err := s.Open(r.ctx, r.key, at)
	if err != nil {
		return err
	}
	if r.frames != nil {
		r.frames.Resume(src)
	} else if r.frames, err = r.vault.openFrames(r.ctx, src, r.key); err != nil {
		return errors.Join(fmt.Errorf("%s: %w", r.key, err), src.Close())
	}
	if r.src != nil {
		_ = r.src.Close()
	}
	r.src = src
	return nil
}

// sealName is the name that an object's key is made of: of every generation of a pack the first one's.
func sealName(key string) string {
	cluster := store.ClusterOf(key)
	if pack, _, ok := store.ParsePackKey(cluster, key); ok {
		return store.PackKey(cluster, pack, 0)
	}
	return key
}

// fallBack tells whether the second store is to be tried.
func (r *reader) fallBack() bool {
	if r.second || r.vault.Second() == nil || r.ctx.Err() != nil {
		return false
	}
	r.second = true
	return true
}

func (v *Vault) fell(key string, why error) {
	if v.Fell != nil {
		v.Fell(key, why)
	}
}

func (r *reader) Read(p []byte) (int, error) {
	for len(r.rest) == 0 {
		if r.err == nil {
			r.rest, r.err = r.next()
		}
		if r.err != nil {
			return 0, r.err
		}
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

func (r *reader) next() ([]byte, error) {
	content, err := r.frames.Next()
	if err == nil || errors.Is(err, io.EOF) && !errors.Is(err, layout.ErrCorrupt) {
		return content, err
	}
	err = fmt.Errorf("%s: %w", r.key, err)
	if !r.fallBack() {
		return nil, err
	}
	if e := r.open(r.vault.Second()); e != nil {
		return nil, errors.Join(err, fmt.Errorf("the second store: %w", e))
	}
	r.vault.fell(r.key, err)
	return r.frames.Next()
}

func (r *reader) Close() error {
	if r.src == nil {
		return nil
	}
	return r.src.Close()
}
