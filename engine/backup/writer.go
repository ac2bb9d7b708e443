package backup

import (
	"archive/tar"
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
	"velvetrewind/engine/replication"
	"velvetrewind/engine/store"
	"velvetrewind/engine/task"
)

// packSize is when a pack is closed and the next one begun.
const packSize = 64 << 20

// piece is one frame on its way: filled by the reader, packed by a worker,
// written in order by the packer.
type piece struct {
	plain []byte
	frame []byte
	// pages says that plain holds pages of a relation, from block on.
	pages bool
	block uint32
	path  string
	// last ends a file: entry is its line in the manifest.
	first, last bool
	entry       layout.File
	ready       chan struct{}
	suspects    []suspect
}

// writer is the pipeline from the stream to the store. One goroutine feeds it.
type writer struct {
	t      *Taker
	opt    Options
	report task.Report
	head   layout.Head
	tail   layout.Tail
	size   int64 // estimate

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

// newWriter begins the manifest aside and starts the pipeline.
func (t *Taker) newWriter(ctx context.Context, opt Options, base *replication.BaseBackup, report task.Report) (*writer, error) {
	w := &writer{t: t, opt: opt, report: report, size: base.Size, sums: make(map[uint64]fileSum)}
	w.head = layout.Head{
		Backup: opt.ID, Cluster: t.Cluster.ID, SystemID: t.Cluster.SystemID, ServerVersion: t.Cluster.ServerVersion,
		SegmentSize: t.Cluster.SegmentSize, Kind: "full", Checksums: t.Cluster.DataChecksums, Superuser: t.Cluster.Superuser,
	}
	for _, s := range base.Tablespaces {
		w.head.Tablespaces = append(w.head.Tablespaces, layout.TablespaceEntry{OID: s.OID, Location: s.Location})
	}
	manifest, err := t.Store.Create(ctx, store.ManifestKey(t.Cluster.ID, opt.ID))
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
		w.free <- &piece{plain: make([]byte, 0, layout.FrameSize), ready: make(chan struct{}, 1)}
	}
	w.group, w.ctx = errgroup.WithContext(ctx)
	w.packs = packer{w: w, manifest: manifest, lines: lines}
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

// file feeds one file with its content.
func (w *writer) file(entry layout.File, content io.Reader) error {
	rel, isRelation := pg.ParseRelationFile(entry.Path)
	var crc uint32
	rest := entry.Size
	for first := true; first || rest > 0; first = false {
		p, err := w.take()
		if err != nil {
			return err
		}
		p.plain = p.plain[:min(rest, layout.FrameSize)]
		if _, err := io.ReadFull(content, p.plain); err != nil {
			return fmt.Errorf("%s: %w", entry.Path, err)
		}
		crc = crc32.Update(crc, pg.Castagnoli, p.plain)
		p.first, p.pages, p.path = first, isRelation && entry.Place == layout.InData, entry.Path
		p.block = rel.FirstBlock() + uint32((entry.Size-rest)/pg.BlockSize)
		rest -= int64(len(p.plain))
		w.tail.BytesRead += int64(len(p.plain))
		if p.pages {
			w.tail.Pages += int64(len(p.plain) / pg.BlockSize)
		}
		if p.last = rest == 0; p.last {
			entry.CRC32C = crc
			p.entry = entry
		}
		if err := w.give(p); err != nil {
			return err
		}
	}
	if !entry.Dir {
		w.tail.Files++
		if entry.Place == layout.InData {
			w.sums[pathHash(entry.Path)] = fileSum{size: entry.Size, crc: crc}
		}
	}
	w.report.Progress(w.tail.BytesRead, max(w.size, w.tail.BytesRead), task.Bytes, "reading "+entry.Path)
	return nil
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

func (w *writer) worker() error {
	for p := range w.work {
		if p.pages {
			p.suspects = checkPages(p.suspects, p, w.head.Checksums)
		}
		if len(p.plain) > 0 {
			p.frame = layout.AppendFrame(p.frame[:0], p.plain, w.t.Codec)
		}
		p.ready <- struct{}{}
	}
	return nil
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
	w.tail.Packs, w.tail.BytesStored = w.packs.number, w.packs.stored
	return nil
}

// finish puts the manifest: from here on there is a backup.
func (w *writer) finish(tail layout.Tail) error {
	w.tail = tail
	if err := w.packs.lines.Finish(tail); err != nil {
		return err
	}
	return w.packs.manifest.Commit()
}

// abort ends the pipeline where it is; after finish it does nothing.
func (w *writer) abort() {
	w.shut()
	_ = w.group.Wait()
	w.packs.abort()
}
