package vault

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"sync"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
)

// PackWriter writes a pack frame by frame.
type PackWriter struct {
	*layout.ObjectWriter
	ID     string
	Frames int
	out    store.Writer
}

// CreatePack begins a pack of a cluster.
func (v *Vault) CreatePack(ctx context.Context, cluster, id string) (*PackWriter, error) {
	key := store.PackKey(cluster, id, 0)
	h, seal, err := v.ring.Load().newHeader(cluster, key)
	if err != nil {
		return nil, err
	}
	out, err := v.first.Create(ctx, key)
	if err != nil {
		return nil, err
	}
	return &PackWriter{ObjectWriter: layout.NewObjectWriter(out, h, seal), ID: id, out: out}, nil
}

// Add appends a frame, and returns where it begins. content is as for WriteFrame.
func (w *PackWriter) Add(frame []byte, content layout.Hash) (int64, error) {
	w.Frames++
	return w.WriteFrame(frame, content)
}

// Full tells that the next frame belongs into another pack.
func (w *PackWriter) Full() bool { return w.Size() >= packSize || w.Frames >= layout.MostFrames }

// packSize is when a pack is full.
const packSize = 32 << 20

// Commit makes a pack safe whose Close was called.
func (w *PackWriter) Commit() error { return w.out.Commit() }

// Abort gives the pack up.
func (w *PackWriter) Abort() { w.out.Abort() }

// Frame is where a frame of a pack had been first, and how long it is with its header.
type Frame struct {
	Offset int64
	Length int
}

// Packs reads frames out of the packs of one cluster. It can be used by several
// goroutines at once.
type Packs struct {
	vault   *Vault
	cluster string

	mu    sync.Mutex
	heads map[string]*packHead // by store and pack
}

// Packs opens the packs of a cluster for reading.
func (v *Vault) Packs(cluster string) *Packs {
	return &Packs{vault: v, cluster: cluster, heads: make(map[string]*packHead)}
}

// packHead is what of a pack is known before its frames are read.
type packHead struct {
	generation uint32
	header     layout.Header
	seal       *layout.Seal
	moved      []layout.Moved // of a condensed pack, by origin
	offsets    []int64        // where they are now
}

// mostHeads bounds the memory for heads; a condensed pack's may be large.
const mostHeads = 4096

// widestGap is how much unwanted content is read over rather than asked for anew.
const widestGap = 512 << 10

// Read hands over the content of frames of one pack, by rising offset, with each one's
// tag: of a store that is not encrypted the hash of its content. The content is good
// until the next. What the first store lacks or has damaged comes from the second.
func (p *Packs) Read(ctx context.Context, pack string, frames []Frame, each func(i int, content []byte, tag layout.Hash) error) error {
	done := 0
	var failed *visitError
	deliver := func(content []byte, tag layout.Hash) error {
		if err := each(done, content, tag); err != nil {
			return &visitError{err}
		}
		done++
		return nil
	}
	read := func(s store.Store, fresh bool) error {
		return p.readFrom(ctx, s, pack, frames[done:], fresh, deliver)
	}
	err := read(p.vault.first, false)
	for try := 0; try < mostMoves && (errors.Is(err, store.ErrNotFound) || errors.Is(err, errMoved)); try++ {
		err = read(p.vault.first, true) // it may have been condensed meanwhile
	}
	if err != nil && !errors.As(err, &failed) && p.vault.Second() != nil && ctx.Err() == nil {
		p.vault.fell(store.PackKey(p.cluster, pack, 0), err)
		if e := read(p.vault.Second(), true); e != nil {
			err = errors.Join(err, fmt.Errorf("the second store: %w", e))
		} else {
			err = nil
		}
	}
	if errors.As(err, &failed) {
		return failed.error
	}
	if err != nil {
		return fmt.Errorf("pack %s: %w", pack, err)
	}
	return nil
}

// mostMoves is how often in a row a pack may be condensed just while it is opened.
const mostMoves = 3

type visitError struct{ error }

var errMoved = errors.New("the frame is not in this generation of the pack")

func (p *Packs) readFrom(ctx context.Context, s store.Store, pack string, frames []Frame, fresh bool,
	deliver func([]byte, layout.Hash) error) error {
	h, err := p.head(ctx, s, pack, fresh)
	if err != nil {
		return err
	}
	for len(frames) > 0 {
		n, err := p.readRun(ctx, s, pack, h, frames, deliver)
		if err != nil {
			return err
		}
		frames = frames[n:]
	}
	return nil
}

// runReader is what reading a run of frames needs.
type runReader struct {
	buffered *bufio.Reader
	frames   *layout.FrameReader
}

// runReaders are used again: a run may be of one small frame, and its buffers are not.
var runReaders = sync.Pool{New: func() any {
	return &runReader{bufio.NewReaderSize(nil, 256<<10), layout.NewFrameReader(nil, nil, 0)}
}}

// run finds how many of the frames lie close to one another, and where their bytes begin and end.
func (h *packHead) run(frames []Frame) (n int, from, to int64, err error) {
	for _, f := range frames {
		at, err := h.find(f)
		if err != nil {
			return 0, 0, 0, err
		}
		if n == 0 {
			from, to = at, at
		}
		if gap := at - to; gap < 0 || gap > widestGap {
			break
		}
		n, to = n+1, at+int64(f.Length)
	}
	return n, from, to, nil
}

// readRun reads frames that lie close to one another in one go, and no more than those.
func (p *Packs) readRun(ctx context.Context, s store.Store, pack string, h *packHead, frames []Frame,
	deliver func([]byte, layout.Hash) error) (n int, err error) {
	count, at, end, err := h.run(frames)
	if err != nil {
		return 0, err
	}
	src, err := s.Open(ctx, store.PackKey(p.cluster, pack, h.generation), at)
	if err != nil {
		return 0, err
	}
	defer func() { _ = src.Close() }()
	r, _ := runReaders.Get().(*runReader)
	defer func() {
		r.buffered.Reset(nil)
		r.frames.Reuse(nil, nil, 0)
		runReaders.Put(r)
	}()
	r.buffered.Reset(io.LimitReader(src, end-at))
	r.frames.Reuse(r.buffered, h.seal, 0)
	for ; n < count; n++ {
		next, err := h.find(frames[n])
		if err != nil {
			return n, err
		}
		if _, err := r.buffered.Discard(int(next - at)); err != nil {
			return n, noEnd(err)
		}
		r.frames.Place(frames[n].Offset)
		content, err := r.frames.Next()
		if err != nil {
			return n, noEnd(err)
		}
		if r.frames.Length() != frames[n].Length {
			return n, fmt.Errorf("%w: another frame than the map says", layout.ErrCorrupt)
		}
		if err := deliver(content, r.frames.Tag()); err != nil {
			return n, err
		}
		at = next + int64(frames[n].Length)
	}
	return n, ctx.Err()
}

// noEnd makes an end mark where a frame should be an error.
func noEnd(err error) error {
	if errors.Is(err, io.EOF) && !errors.Is(err, layout.ErrCorrupt) {
		return fmt.Errorf("%w: the pack ends where a frame should be", layout.ErrCorrupt)
	}
	return err
}

// find says where a frame is in this generation.
func (h *packHead) find(f Frame) (int64, error) {
	if h.generation == 0 {
		return f.Offset, nil
	}
	i, ok := slices.BinarySearchFunc(h.moved, f.Offset, func(m layout.Moved, at int64) int { return int(m.Origin - at) })
	if !ok {
		return 0, errMoved
	}
	return h.offsets[i], nil
}

// head reads the head of a pack; fresh: of whichever generation there is now.
func (p *Packs) head(ctx context.Context, s store.Store, pack string, fresh bool) (*packHead, error) {
	name := s.String() + " " + pack
	p.mu.Lock()
	h := p.heads[name]
	p.mu.Unlock()
	if h != nil && !fresh {
		return h, nil
	}
	h, err := p.readHead(ctx, s, pack, 0)
	if errors.Is(err, store.ErrNotFound) {
		var generation uint32
		if generation, err = newestGeneration(ctx, s, p.cluster, pack); err == nil {
			h, err = p.readHead(ctx, s, pack, generation)
		}
	}
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.heads) >= mostHeads {
		clear(p.heads)
	}
	p.heads[name] = h
	return h, nil
}

// newestGeneration finds the generation of a pack that is there.
func newestGeneration(ctx context.Context, s store.Store, cluster, pack string) (newest uint32, err error) {
	key := store.PackKey(cluster, pack, 0)
	found := false
	err = s.List(ctx, key, func(i store.Info) error {
		if id, g, ok := store.ParsePackKey(cluster, i.Key); ok && id == pack {
			newest, found = max(newest, g), true
		}
		return nil
	})
	if err == nil && !found {
		err = fmt.Errorf("%s: %w", key, store.ErrNotFound)
	}
	return newest, err
}

func (p *Packs) readHead(ctx context.Context, s store.Store, pack string, generation uint32) (*packHead, error) {
	key := store.PackKey(p.cluster, pack, generation)
	src, err := s.Open(ctx, key, 0)
	if err != nil {
		return nil, err
	}
	defer func() { _ = src.Close() }()
	h := &packHead{generation: generation}
	if h.header, err = layout.ReadHeader(src); err != nil {
		return nil, err
	}
	if h.header.Generation != generation {
		return nil, fmt.Errorf("%w: generation %d under the name of %d", layout.ErrCorrupt, h.header.Generation, generation)
	}
	if h.seal, err = p.vault.sealOf(ctx, h.header, p.cluster, store.PackKey(p.cluster, pack, 0)); err != nil {
		return nil, err
	}
	if generation == 0 {
		return h, nil
	}
	var at int64
	if h.moved, at, err = layout.Table(src, h.header, h.seal); err != nil {
		return nil, err
	}
	for _, m := range h.moved {
		h.offsets = append(h.offsets, at)
		at += int64(m.Length)
	}
	return h, nil
}

// mostStep is by how much the number of a generation is at most greater than that before.
const mostStep = 1 << 21

// Condense writes the next generation of a pack with only the frames that stay, by
// rising offset, and then deletes the one before, in both stores. It returns by how
// much the pack has shrunk. Killed in between, both are there; either can be read, and
// the older one is removed when the store is next tidied.
func (p *Packs) Condense(ctx context.Context, pack string, stay []Frame) (freed int64, err error) {
	h, err := p.head(ctx, p.vault.first, pack, true)
	if err != nil {
		return 0, err
	}
	before := store.PackKey(p.cluster, pack, h.generation)
	info, err := p.vault.first.Stat(ctx, before)
	if err != nil {
		return 0, err
	}
	// Not simply the next number: an attempt that was cut short may have used that, with another table.
	if h.generation > math.MaxUint32-mostStep {
		return 0, nil // after some two thousand times
	}
	next := h.generation + 1 + rand.Uint32N(mostStep)
	after := store.PackKey(p.cluster, pack, next)
	out, err := p.vault.first.Create(ctx, after)
	if err != nil {
		return 0, err
	}
	defer out.Abort()
	size, err := p.condense(ctx, out, pack, next, h, stay)
	if err != nil {
		return 0, fmt.Errorf("condense pack %s: %w", pack, err)
	}
	if err := out.Commit(); err != nil {
		return 0, err
	}
	if p.vault.Second() != nil {
		if _, err := p.vault.Second().Stat(ctx, before); err == nil {
			if err := p.vault.Copy(ctx, after, p.vault.first, p.vault.Second()); err != nil {
				return 0, err
			}
		}
	}
	return info.Size - size, p.vault.Delete(ctx, before)
}

func (p *Packs) condense(ctx context.Context, out io.Writer, pack string, next uint32, h *packHead, stay []Frame) (int64, error) {
	list := make([]layout.Moved, len(stay))
	for i, f := range stay {
		list[i] = layout.Moved{Origin: f.Offset, Length: f.Length}
	}
	header := h.header
	header.Generation = next
	c, err := layout.NewCondenser(out, header, h.seal, list)
	if err != nil {
		return 0, err
	}
	src, err := p.vault.first.Open(ctx, store.PackKey(p.cluster, pack, h.generation), 0)
	if err != nil {
		return 0, err
	}
	defer func() { _ = src.Close() }()
	buffered := bufio.NewReaderSize(src, 256<<10)
	var at int64
	var frame bytes.Buffer
	check := layout.NewFrameReader(&frame, h.seal, 0)
	for _, f := range stay {
		next, err := h.find(f)
		if err != nil {
			return 0, err
		}
		if _, err := io.CopyN(io.Discard, buffered, next-at); err != nil {
			return 0, err
		}
		frame.Reset()
		if _, err := io.CopyN(&frame, buffered, int64(f.Length)); err != nil {
			return 0, err
		}
		at = next + int64(f.Length)
		stored := bytes.Clone(frame.Bytes())
		check.Place(f.Offset)
		if _, err := check.Next(); err != nil { // never carry damage on under a new name
			return 0, noEnd(err)
		}
		if err := c.Add(stored); err != nil {
			return 0, err
		}
	}
	err = c.Close()
	return c.Size(), err
}

// Copy copies an object from one store to the other, byte for byte, and verifies it on
// the way: a damaged one is not copied.
func (v *Vault) Copy(ctx context.Context, key string, from, to store.Store) error {
	src, err := from.Open(ctx, key, 0)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close() }()
	out, err := to.Create(ctx, key)
	if err != nil {
		return err
	}
	defer out.Abort()
	if err := v.verify(ctx, io.TeeReader(src, out), key); err != nil {
		return fmt.Errorf("copy %s: %w", key, err)
	}
	return out.Commit()
}

// Verify reads an object of a store to its end, and says how many bytes it has.
func (v *Vault) Verify(ctx context.Context, s store.Store, key string) (int64, error) {
	src, err := s.Open(ctx, key, 0)
	if err != nil {
		return 0, err
	}
	defer func() { _ = src.Close() }()
	counted := &counting{Reader: src}
	err = v.verify(ctx, counted, key)
	return counted.n, err
}

type counting struct {
	io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	return n, err
}

// verify reads an object from its beginning. Nothing may follow its end mark.
func (v *Vault) verify(ctx context.Context, src io.Reader, key string) error {
	buffered := bufio.NewReaderSize(src, 256<<10)
	frames, err := v.openFrames(ctx, buffered, key)
	for err == nil {
		if err = ctx.Err(); err == nil {
			_, err = frames.Next()
		}
	}
	if !errors.Is(err, io.EOF) || errors.Is(err, layout.ErrCorrupt) {
		return err
	}
	if _, err := buffered.ReadByte(); !errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: something follows its end", layout.ErrCorrupt)
	}
	return nil
}
