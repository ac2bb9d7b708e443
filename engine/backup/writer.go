package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"runtime"
	"strconv"
	"sync"

	"golang.org/x/sync/errgroup"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/store"
)

// piece is one extent on its way: filled by the reader, hashed and compressed by a
// worker, stored in order by the packer.
type piece struct {
	plain []byte
	frame []byte
	hash  layout.Hash
	// before is where the extent was, if it had a place.
	before layout.Extent
	had    bool
	zero   bool            // plain is all zeroes
	same   bool            // plain is what before holds
	kept   []layout.Extent // instead of plain: extents that were not read
	// pages says that plain holds pages of a relation, from block on.
	pages bool
	block uint32
	// first begins a file, last ends it: entry is its line in the manifest.
	first, last bool
	entry       *layout.File
	crc         *uint32  // with last, where the whole file was read
	old         *extents // the file's map as it was
	ready       chan struct{}
	suspects    []suspect
}

// writer is the pipeline from the source to the store. One goroutine feeds it.
type writer struct {
	t      *Taker
	opt    Options
	report task.Report
	head   layout.Head
	tail   layout.Tail
	size   int64 // estimate of what is to be read
	former *former
	key    layout.HashKey

	group    *errgroup.Group
	ctx      context.Context
	work     chan *piece // to the workers
	order    chan *piece // the same pieces, to the packer
	free     chan *piece
	shutOnce sync.Once

	packs    packer
	sums     map[uint64]fileSum
	suspects []suspect
}

// newWriter begins the manifest aside and starts the pipeline. former may be nil.
func (t *Taker) newWriter(ctx context.Context, opt Options, kind string, spaces []layout.TablespaceEntry, old *former,
	report task.Report) (*writer, error) {
	w := &writer{t: t, opt: opt, report: report, former: old, key: t.Store.HashKey(t.Cluster.ID), sums: make(map[uint64]fileSum)}
	w.head = layout.Head{
		Backup: opt.ID, Cluster: t.Cluster.ID, SystemID: t.Cluster.SystemID, ServerVersion: t.Cluster.ServerVersion,
		SegmentSize: t.Cluster.SegmentSize, Kind: kind, Checksums: t.Cluster.DataChecksums, Superuser: t.Cluster.Superuser,
		Tablespaces: spaces,
	}
	if old != nil {
		w.head.Beside = old.id
	}
	manifest, err := t.Store.Create(ctx, store.ManifestKey(t.Cluster.ID, opt.ID), layout.Zstd)
	if err != nil {
		return nil, err
	}
	lines, err := layout.NewManifestWriter(manifest, w.head)
	if err != nil {
		manifest.Abort()
		return nil, err
	}
	workers := max(2, runtime.GOMAXPROCS(0))
	under := 8 * workers // pieces under way, some 130 KiB each
	w.work, w.order, w.free = make(chan *piece, under), make(chan *piece, under), make(chan *piece, under)
	for range under {
		w.free <- &piece{plain: make([]byte, 0, layout.ExtentSize), ready: make(chan struct{}, 1)}
	}
	w.group, w.ctx = errgroup.WithContext(ctx)
	w.packs = packer{
		w: w, manifest: manifest, lines: lines, uses: make(map[string]*layout.Use), essentials: make(map[string]*layout.File),
		data: packStream{w: w, name: store.DataPackID}, sheets: packStream{w: w, name: store.SheetPackID},
	}
	for range workers {
		w.group.Go(w.worker)
	}
	w.group.Go(w.packs.run)
	return w, nil
}

// archive feeds one tar archive.
func (w *writer) archive(a replication.Archive) error {
	under := ""
	if a.Tablespace != 0 {
		under = path.Join("pg_tblspc", strconv.FormatUint(uint64(a.Tablespace), 10))
	}
	files := tar.NewReader(a)
	for {
		h, err := files.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the server's archive: %w", err)
		}
		entry := layout.File{
			Path: path.Join(under, path.Clean(h.Name)), Mode: uint32(h.Mode) & 0o777,
			Size: h.Size, Modified: h.ModTime.UTC(),
		}
		switch h.Typeflag {
		case tar.TypeDir:
			entry.Dir, entry.Size = true, 0
			if entry.Path == "." || entry.Path == under {
				continue
			}
		case tar.TypeReg:
		default:
			return fmt.Errorf("the server's archive: %s is neither file nor directory", h.Name)
		}
		if err := w.file(entry, files); err != nil {
			return err
		}
	}
}

// file feeds one file with its content, all of which is read.
func (w *writer) file(entry layout.File, content io.Reader) error {
	f, err := w.begin(&entry)
	if err != nil {
		return err
	}
	var crc uint32
	for n := range max(1, entry.Extents()) {
		p, err := f.take(n, min(entry.Size-int64(n)*layout.ExtentSize, layout.ExtentSize))
		if err != nil {
			return err
		}
		if _, err := io.ReadFull(content, p.plain); err != nil {
			return fmt.Errorf("%s: %w", entry.Path, err)
		}
		crc = crc32.Update(crc, pg.Castagnoli, p.plain)
		if p.last = (n+1)*layout.ExtentSize >= int(entry.Size); p.last && !entry.Dir {
			p.crc = &crc
		}
		if err := w.give(p); err != nil {
			return err
		}
	}
	if !entry.Dir && entry.Place == layout.InData {
		w.sums[fileHash(&entry)] = fileSum{size: entry.Size, crc: crc}
	}
	return nil
}

// feeding is a file whose pieces are being fed.
type feeding struct {
	w     *writer
	entry *layout.File
	old   *extents
	block uint32 // number of its first page
	pages bool
	begun bool
}

// begin counts a file, and finds what it was in the former backup.
func (w *writer) begin(entry *layout.File) (*feeding, error) {
	old, err := w.former.find(entry)
	if err != nil {
		return nil, err
	}
	rel, isRelation := pg.ParseRelationFile(entry.Path)
	if !entry.Dir {
		w.tail.Files++
		w.tail.BytesHeld += entry.Size
	}
	w.report.Progress(w.tail.BytesRead, max(w.size, w.tail.BytesRead), task.Bytes, "reading "+entry.Path)
	return &feeding{w: w, entry: entry, old: w.former.extents(old), pages: isRelation && entry.Place == layout.InData,
		block: rel.FirstBlock()}, nil
}

// take makes the piece for the extent numbered n, of which length bytes will be read.
func (f *feeding) take(n int, length int64) (*piece, error) {
	p, err := f.w.take()
	if err != nil {
		return nil, err
	}
	p.entry, p.old, p.first, p.last, p.crc = f.entry, f.old, !f.begun, false, nil
	p.plain, p.kept = p.plain[:max(length, 0)], p.kept[:0]
	p.pages, p.block = f.pages, f.block+uint32(n*(layout.ExtentSize/pg.BlockSize))
	f.begun = true
	f.w.tail.BytesRead += int64(len(p.plain))
	if p.pages {
		f.w.tail.Pages += int64(len(p.plain) / pg.BlockSize)
	}
	p.before, p.had, err = f.old.at(f.w.ctx, n)
	return p, err
}

func (w *writer) take() (*piece, error) {
	select {
	case p := <-w.free:
		p.suspects = p.suspects[:0]
		return p, nil
	case <-w.ctx.Done():
		return nil, context.Cause(w.ctx)
	}
}

// give hands a piece to a worker and, in the same order, to the packer.
func (w *writer) give(p *piece) error {
	for _, to := range []chan *piece{w.order, w.work} {
		select {
		case to <- p:
		case <-w.ctx.Done():
			return context.Cause(w.ctx)
		}
	}
	return nil
}

var zeroes [layout.ExtentSize]byte

func (w *writer) worker() error {
	hasher := layout.NewHasher(w.key)
	for p := range w.work {
		p.zero, p.same = false, false
		if len(p.plain) > 0 {
			w.look(p, hasher)
		}
		p.ready <- struct{}{}
	}
	return nil
}

// look checks an extent, and makes its frame if it is not in the store.
func (w *writer) look(p *piece, hasher *layout.Hasher) {
	if p.zero = bytes.Equal(p.plain, zeroes[:len(p.plain)]); p.zero {
		return
	}
	p.hash = hasher.Of(p.plain)
	p.same = p.had && !p.before.Zero() && p.before.Hash == p.hash
	if p.pages {
		p.suspects = checkPages(p.suspects, p, w.head.Checksums)
	}
	if !p.same {
		p.frame = layout.AppendFrame(p.frame[:0], p.plain, w.t.Codec)
	}
}

// shut ends the feeding.
func (w *writer) shut() {
	w.shutOnce.Do(func() {
		close(w.work)
		close(w.order)
	})
}

// drain waits until everything fed is in packs that are safe.
func (w *writer) drain() error {
	w.shut()
	if err := w.group.Wait(); err != nil {
		return err
	}
	k := &w.packs
	w.tail.BytesStored = k.data.stored + k.sheets.stored
	w.tail.BytesShared, w.tail.Extents, w.tail.ZeroExtents, w.tail.NewExtents = k.tail.BytesShared, k.tail.Extents, k.tail.ZeroExtents,
		k.tail.NewExtents
	return nil
}

// finish puts the manifest: from here on there is a backup.
func (w *writer) finish() error {
	if err := w.packs.lines.Finish(w.packs.listUses(), w.tail); err != nil {
		return err
	}
	if err := w.packs.manifest.Commit(); err != nil {
		return err
	}
	return w.allThere()
}

// allThere looks whether every pack that the manifest names is in the store, and takes
// the manifest back if one is not: another instance may have removed it in the belief
// that this backup was dead.
func (w *writer) allThere() error {
	missing := make(map[string]bool, len(w.packs.uses))
	for id := range w.packs.uses {
		missing[id] = true
	}
	ctx := context.WithoutCancel(w.ctx)
	cluster := w.t.Cluster.ID
	err := w.t.Store.List(ctx, store.PackPrefix(cluster), func(i store.Info) error {
		if id, _, ok := store.ParsePackKey(cluster, i.Key); ok {
			delete(missing, id)
		}
		return nil
	})
	for id := range missing {
		err = errors.Join(err, fmt.Errorf("pack %s is not in the store", id))
		break
	}
	if err != nil {
		return errors.Join(err, w.t.Store.Delete(ctx, store.ManifestKey(cluster, w.opt.ID)))
	}
	return nil
}

// abort ends the pipeline where it is; after finish it does nothing.
func (w *writer) abort() {
	w.shut()
	_ = w.group.Wait()
	w.packs.abort()
}
