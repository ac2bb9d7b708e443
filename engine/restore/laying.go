package restore

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"slices"
	"sync"
	"sync/atomic"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/engine/store/vault"
)

// A file is written in parts, so that a large one keeps every worker busy too.
const partExtents = 256 // 32 MiB

// laying is a file that is being laid out: the first part that is written makes it, the
// last one to be done completes it.
type laying struct {
	tree  *folder
	path  string // in it
	file  *layout.File
	packs *vault.Packs
	key   layout.HashKey
	over  bool // something may stand there

	once    sync.Once
	out     host.File
	writing sync.Mutex
	err     error // why it could not be made
	parts   []part
	written atomic.Int32
	left    atomic.Int32 // parts that are not over
	ended   atomic.Bool  // its last byte was written
}

// part is a stretch of a file.
type part struct {
	of      *laying
	first   int   // number of its first extent
	length  int64 // bytes
	extents []layout.Extent
	crc     uint32
	begun   int64 // so much of the file has been told to go to disk
	kept    int64 // bytes that stood there already
}

func newLaying(t *folder, path string, f *layout.File, packs *vault.Packs, key layout.HashKey) *laying {
	t.users.Add(1)
	n := max(1, (f.Extents()+partExtents-1)/partExtents)
	l := &laying{tree: t, path: path, file: f, packs: packs, key: key, parts: make([]part, n)}
	l.left.Store(int32(n))
	for i := range l.parts {
		l.parts[i].of, l.parts[i].first = l, i*partExtents
		l.parts[i].length = min(f.Size-int64(i)*partExtents*layout.ExtentSize, partExtents*layout.ExtentSize)
	}
	return l
}

// each reads the file's map and hands over one part after the other.
func (l *laying) each(ctx context.Context, begin func(*part)) error {
	if l.file.Extents() == 0 {
		begin(&l.parts[0])
		return nil
	}
	next := 0
	err := vault.EachSheet(ctx, l.packs, l.file, func(_ int, extents []layout.Extent) error {
		for some := range slices.Chunk(extents, partExtents) {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			p := &l.parts[next]
			p.extents = slices.Clone(some)
			begin(p)
			next++
		}
		return nil
	})
	return errors.Join(err, l.done(len(l.parts)-next)) // those that are not begun
}

// done counts parts that are over; after the last one the file is closed.
func (l *laying) done(parts int) error {
	if parts == 0 || l.left.Add(-int32(parts)) > 0 {
		return nil
	}
	l.tree.release()
	if l.out == nil {
		return nil
	}
	return l.out.Close()
}

// ahead is how much of a part is written before the system is asked to begin to bring it to disk
// already, so that little is left to wait for at the end.
const ahead = 4 << 20

// part writes one part, and, if it is the last to be written, completes the file.
func (l *laying) part(ctx context.Context, p *part) error {
	err := l.open()
	if err == nil {
		p.begun = int64(p.first) * layout.ExtentSize
		err = l.write(ctx, p)
	}
	return l.finish(p, err)
}

// open makes the file, once.
func (l *laying) open() error {
	l.once.Do(func() {
		open := l.tree.Create
		if l.over {
			open = l.tree.Reopen
		}
		l.out, l.err = open(l.path, fs.FileMode(l.file.Mode))
	})
	return l.err
}

// finish ends a part that was written, or that could not be.
func (l *laying) finish(p *part, err error) error {
	p.extents = nil
	if err == nil && l.written.Add(1) == int32(len(l.parts)) {
		err = l.complete()
	}
	return errors.Join(err, l.done(1))
}

// complete gives the file its length, for zeroes at its end were not written, and
// compares what was written with what the original server had read.
func (l *laying) complete() error {
	if l.over || !l.ended.Load() {
		if err := l.out.Truncate(l.file.Size); err != nil {
			return err
		}
	}
	if l.file.CRC32C == nil {
		return nil
	}
	crc := l.parts[0].crc
	for _, p := range l.parts[1:] {
		crc = pg.JoinCRC32C(crc, p.crc, p.length)
	}
	if want := *l.file.CRC32C; want != crc {
		return fmt.Errorf("%w: its content has checksum %08X, but %08X was read from the original server", layout.ErrCorrupt, crc, want)
	}
	return nil
}

// write writes the extents of a part that do not stand there already. Those that follow
// one another in a pack are read in one go.
func (l *laying) write(ctx context.Context, p *part) error {
	look := l.stands()
	for i := 0; i < len(p.extents); {
		n, standing := 0, []byte(nil)
		for ; i+n < len(p.extents) && (n == 0 || follows(p.extents[i+n-1], p.extents[i+n])); n++ {
			if standing = look(p.first+i+n, p.extents[i+n]); standing != nil {
				break
			}
		}
		if n > 0 {
			if err := l.extents(ctx, p, p.first+i, p.extents[i:i+n]); err != nil {
				return err
			}
			i += n
		}
		if standing != nil {
			l.sum(p, standing)
			p.kept += int64(len(standing))
			i++
		}
	}
	return nil
}

// stands returns a function that reads an extent of the file as it is on disk, and
// returns its content if that is what it must be, else nil.
func (l *laying) stands() func(n int, e layout.Extent) []byte {
	if !l.over {
		return func(int, layout.Extent) []byte { return nil }
	}
	hasher, buffer := layout.NewHasher(l.key), make([]byte, layout.ExtentSize)
	return func(n int, e layout.Extent) []byte {
		content := buffer[:l.length(n)]
		if _, err := l.out.ReadAt(content, int64(n)*layout.ExtentSize); err != nil {
			return nil // shorter, or not to be read: written anew
		}
		if hasher.Matches(e, content) {
			return content
		}
		return nil
	}
}

// follows tells whether two extents are read together: both zero, or in one pack in order.
func follows(a, b layout.Extent) bool { return a.Pack == b.Pack && (a.Zero() || a.Offset < b.Offset) }

func (l *laying) extents(ctx context.Context, p *part, first int, extents []layout.Extent) error {
	if extents[0].Zero() {
		for n := range extents {
			content := zeroes[:l.length(first+n)]
			l.sum(p, content)
			if !l.over {
				continue // a hole
			}
			if err := l.writeAt(content, int64(first+n)*layout.ExtentSize); err != nil {
				return err
			}
		}
		return nil
	}
	frames := make([]vault.Frame, len(extents))
	for i, e := range extents {
		frames[i] = vault.Frame{Offset: e.Offset, Length: e.Length}
	}
	return l.packs.Read(ctx, extents[0].Pack, frames, func(i int, content []byte, tag layout.Hash) error {
		return l.put(p, first+i, extents[i], content, tag)
	})
}

// put writes an extent that was read.
func (l *laying) put(p *part, n int, e layout.Extent, content []byte, tag layout.Hash) error {
	if len(content) != l.length(n) || l.key == nil && tag != e.Hash {
		return fmt.Errorf("%w: extent %d is another than its map says", layout.ErrCorrupt, n)
	}
	l.sum(p, content)
	at := int64(n) * layout.ExtentSize
	err := l.writeAt(content, at)
	end := at + int64(len(content))
	if err == nil && end == l.file.Size {
		l.ended.Store(true)
	}
	if end-p.begun >= ahead {
		// Only a hint: everything is waited for when all is laid out.
		l.out.Begin(p.begun, end-p.begun)
		p.begun = end
	}
	return err
}

// writeAt writes one at a time: the kernel lets only one into a file, and those that wait
// for it there spin instead of leaving the processor to who decompresses.
func (l *laying) writeAt(content []byte, at int64) error {
	l.writing.Lock()
	defer l.writing.Unlock()
	_, err := l.out.WriteAt(content, at)
	return err
}

var zeroes [layout.ExtentSize]byte

func (l *laying) length(extent int) int {
	return int(min(l.file.Size-int64(extent)*layout.ExtentSize, layout.ExtentSize))
}

func (l *laying) sum(p *part, content []byte) {
	if l.file.CRC32C != nil {
		p.crc = crc32.Update(p.crc, pg.Castagnoli, content)
	}
}
