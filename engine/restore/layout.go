package restore

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"velvetrewind/core/layout"
	"velvetrewind/core/partial"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/host"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Trees are the directories, in one that is the OS user's, into which a base backup is laid out.
// They exist.
type Trees struct {
	host.Files
	Data        string
	Tablespaces string // one directory below it for each tablespace, named by its OID
	Config      string // configuration files that had lain outside the data directory
}

// roots are the directories' names.
func (t Trees) roots() []string { return []string{t.Data, t.Tablespaces, t.Config} }

const layoutWorkers = 4

// Laid tells what laying out a base backup came to.
type Laid struct {
	Head layout.Head
	Kept int64 // bytes that stood there already
}

// LayOut writes every file of a base backup into trees that are empty. It does not wait for the disk: a copy whose machine
// crashes is made anew, and one that is opened is flushed before.
func LayOut(ctx context.Context, v *vault.Vault, cluster, backup string, trees Trees, total int64, report task.Report) (Laid, error) {
	return layOut(ctx, v, cluster, backup, trees, nil, nil, total, report)
}

// LayOutPart is LayOut but for the files that are lacking.
func LayOutPart(ctx context.Context, v *vault.Vault, cluster, backup string, trees Trees, lacks partial.Lacks, total int64,
	report task.Report) (Laid, error) {
	return layOut(ctx, v, cluster, backup, trees, nil, lacks, total, report)
}

// PartSize is how many bytes the files of a base backup have but for those that are lacking.
func PartSize(ctx context.Context, v *vault.Vault, cluster, backup string, lacks partial.Lacks) (total int64, err error) {
	manifest, err := v.Open(ctx, store.ManifestKey(cluster, backup))
	if err != nil {
		return 0, err
	}
	defer func() { _ = manifest.Close() }()
	_, err = layout.ReadManifest(manifest, layout.Visit{File: func(f *layout.File) error {
		if !lacking(lacks, f) {
			total += f.Size
		}
		return nil
	}})
	return total, err
}

func lacking(l partial.Lacks, f *layout.File) bool {
	return l != nil && !f.Dir && f.Place == layout.InData && l.HasFile(f.Path)
}

// LayOver makes trees in which another base backup was laid out, and perhaps changed
// since, what LayOut would have made of empty ones. Every byte that stands there is read
// and compared by its hash; only what differs comes from the store and is written, and
// what the backup does not hold is removed. Nothing may use the trees meanwhile.
func LayOver(ctx context.Context, v *vault.Vault, cluster, backup string, trees Trees, total int64, report task.Report) (Laid, error) {
	named := make(names)
	laid, err := layOut(ctx, v, cluster, backup, trees, named, nil, total, report)
	if err != nil {
		return laid, err
	}
	return laid, named.removeOthers(trees)
}

// layOut does it all; over is nil for empty trees.
func layOut(ctx context.Context, v *vault.Vault, cluster, backup string, trees Trees, over names, lacks partial.Lacks, total int64,
	report task.Report) (laid Laid, err error) {
	manifest, err := v.Open(ctx, store.ManifestKey(cluster, backup))
	if err != nil {
		return laid, err
	}
	defer func() { _ = manifest.Close() }()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(layoutWorkers)
	w := &workers{group: group, ctx: ctx, trees: trees, packs: v.Packs(cluster), key: v.HashKey(cluster), over: over,
		lacks: lacks, total: total, report: report}
	_, err = layout.ReadManifest(manifest, layout.Visit{Head: func(h layout.Head) error { laid.Head = h; return nil }, File: w.file})
	w.begin()
	if e := group.Wait(); e != nil {
		err = e // what made the reading of the manifest end, too
	}
	w.folder.release()
	laid.Kept = w.kept.Load()
	return laid, err
}

// workers lay out files as the manifest names them.
type workers struct {
	group  *errgroup.Group
	ctx    context.Context
	trees  Trees
	packs  *vault.Packs
	key    layout.HashKey
	over   names // nil for empty trees
	lacks  partial.Lacks
	total  int64
	report task.Report

	folder        *folder // of the last file
	bundle        bundle
	written, kept atomic.Int64
}

// file has a file be laid out, or makes a directory.
func (w *workers) file(f *layout.File) error {
	if lacking(w.lacks, f) {
		return nil
	}
	path, err := w.trees.place(f)
	if err == nil {
		err = vault.CheckSheets(f) // before room is made for what it says
	}
	if err != nil {
		return err
	}
	if w.over != nil {
		if err := w.over.makeWay(w.trees, path, f.Dir); err != nil {
			return err
		}
	}
	if err := w.enter(filepath.Dir(path)); err != nil {
		return err
	}
	if f.Dir {
		return w.trees.MakeDir(path, fs.FileMode(f.Mode))
	}
	l := newLaying(w.folder, filepath.Base(path), f, w.packs, w.key)
	l.over = w.over != nil
	return l.each(w.ctx, func(p *part) {
		if !l.over && len(l.parts) == 1 && len(p.extents) == 1 && !p.extents[0].Zero() {
			if !w.bundle.takes(p.extents[0]) {
				w.begin()
			}
			w.bundle = append(w.bundle, p)
			return
		}
		w.group.Go(func() error { return w.done(p, l.part(w.ctx, p)) })
	})
}

// done counts a part that was written, or says what could not be.
func (w *workers) done(p *part, err error) error {
	if err != nil {
		return fmt.Errorf("lay out %s: %w", p.of.file.Path, err)
	}
	w.kept.Add(p.kept)
	w.report.Progress(w.written.Add(p.length), w.total, task.Bytes, "laying out "+p.of.file.Path)
	return nil
}

// enter makes a directory if it is missing, and has the next files be made in it.
func (w *workers) enter(dir string) error {
	if w.folder != nil && w.folder.name == dir {
		return nil
	}
	if err := makeDirs(w.trees, dir); err != nil {
		return err
	}
	t, err := w.trees.In(dir)
	if err != nil {
		return err
	}
	w.folder.release()
	w.folder = &folder{Files: t, name: dir}
	w.folder.users.Store(1)
	return nil
}

// folder is a directory that files are made in. It is closed by the last who uses it: looking up its path anew for each of
// very many small files would take longer than writing them.
type folder struct {
	host.Files
	name  string
	users atomic.Int32
}

func (f *folder) release() {
	if f != nil && f.users.Add(-1) == 0 {
		_ = f.Close()
	}
}

// bundle is small files, each of one extent, that lie one after the other in a pack: they are read in one go.
type bundle []*part

const mostBundled = 256

// takes tells whether a file of one extent belongs to the bundle.
func (b bundle) takes(e layout.Extent) bool {
	return len(b) == 0 || len(b) < mostBundled && follows(b[len(b)-1].extents[0], e)
}

// begin has the bundle be laid out, and begins another.
func (w *workers) begin() {
	b := w.bundle
	w.bundle = nil
	if len(b) == 0 {
		return
	}
	w.group.Go(func() error {
		frames := make([]vault.Frame, len(b))
		for i, p := range b {
			frames[i] = vault.Frame{Offset: p.extents[0].Offset, Length: p.extents[0].Length}
		}
		left := 0 // the first that is not over
		err := w.packs.Read(w.ctx, b[0].extents[0].Pack, frames, func(i int, content []byte, tag layout.Hash) error {
			p := b[i]
			left = i + 1
			err := p.of.open()
			if err == nil {
				err = p.of.put(p, 0, p.extents[0], content, tag)
			}
			return w.done(p, p.of.finish(p, err))
		})
		for _, p := range b[left:] {
			err = errors.Join(err, p.of.done(1))
		}
		return err
	})
}

// place finds the name of a file in the trees; a path that leads out of its tree is refused.
func (t Trees) place(f *layout.File) (string, error) {
	rel := filepath.FromSlash(f.Path)
	if !filepath.IsLocal(rel) || rel != filepath.Clean(rel) {
		return "", fmt.Errorf("%w: the manifest names %q, which leads out of the directory or about in it", layout.ErrCorrupt, f.Path)
	}
	if f.Place == layout.InConfig {
		return filepath.Join(t.Config, rel), nil
	}
	if below, ok := strings.CutPrefix(rel, "pg_tblspc"+string(filepath.Separator)); ok {
		return filepath.Join(t.Tablespaces, below), nil
	}
	return filepath.Join(t.Data, rel), nil
}

// makeDirs makes a directory and those between it and its tree's root, as far as they are missing.
func makeDirs(t Trees, path string) error {
	if slices.Contains(t.roots(), path) {
		return nil
	}
	if _, err := t.Look(path); err == nil {
		return nil
	}
	if err := makeDirs(t, filepath.Dir(path)); err != nil {
		return err
	}
	return t.MakeDir(path, 0o700)
}

// Content writes what a file of a base backup holds, in order, and verifies it.
func Content(ctx context.Context, packs *vault.Packs, key layout.HashKey, f *layout.File, to io.Writer) error {
	if err := vault.CheckSheets(f); err != nil {
		return err
	}
	n, crc := 0, uint32(0)
	put := func(content []byte) error {
		if want := min(f.Size-int64(n)*layout.ExtentSize, layout.ExtentSize); int64(len(content)) != want {
			return fmt.Errorf("%w: extent %d has %d bytes of %d", layout.ErrCorrupt, n, len(content), want)
		}
		n++
		crc = crc32.Update(crc, pg.Castagnoli, content)
		_, err := to.Write(content)
		return err
	}
	err := vault.EachSheet(ctx, packs, f, func(_ int, extents []layout.Extent) error {
		for len(extents) > 0 {
			run := 1
			for run < len(extents) && follows(extents[run-1], extents[run]) {
				run++
			}
			left := func() int64 { return f.Size - int64(n)*layout.ExtentSize }
			if err := readRun(ctx, packs, key, extents[:run], put, left); err != nil {
				return err
			}
			extents = extents[run:]
		}
		return nil
	})
	if err == nil && f.CRC32C != nil && *f.CRC32C != crc {
		err = fmt.Errorf("%w: its content has checksum %08X, but %08X was read from the original server", layout.ErrCorrupt, crc, *f.CRC32C)
	}
	return err
}

// Some reads some extents of a file of a base backup, by their rising numbers. The content is good until the next.
func Some(ctx context.Context, packs *vault.Packs, key layout.HashKey, f *layout.File, extents []layout.Extent, which []int,
	put func(n int, content []byte) error) error {
	length := func(n int) int64 { return min(f.Size-int64(n)*layout.ExtentSize, layout.ExtentSize) }
	for len(which) > 0 {
		run := []layout.Extent{extents[which[0]]}
		for len(run) < len(which) && follows(run[len(run)-1], extents[which[len(run)]]) {
			run = append(run, extents[which[len(run)]])
		}
		i := 0
		err := readRun(ctx, packs, key, run, func(content []byte) error {
			n := which[i]
			if i++; int64(len(content)) != length(n) {
				return fmt.Errorf("%w: extent %d has %d bytes of %d", layout.ErrCorrupt, n, len(content), length(n))
			}
			return put(n, content)
		}, func() int64 { return length(which[min(i, len(which)-1)]) })
		if err != nil {
			return err
		}
		which = which[len(run):]
	}
	return nil
}

// readRun reads extents that are read together. left is how many bytes of the file are still to come.
func readRun(ctx context.Context, packs *vault.Packs, key layout.HashKey, run []layout.Extent, put func([]byte) error,
	left func() int64) error {
	if run[0].Zero() {
		for range run {
			if err := put(zeroes[:min(left(), layout.ExtentSize)]); err != nil {
				return err
			}
		}
		return nil
	}
	frames := make([]vault.Frame, len(run))
	for i, e := range run {
		frames[i] = vault.Frame{Offset: e.Offset, Length: e.Length}
	}
	return packs.Read(ctx, run[0].Pack, frames, func(i int, content []byte, tag layout.Hash) error {
		if key == nil && tag != run[i].Hash {
			return fmt.Errorf("%w: an extent is another than its map says", layout.ErrCorrupt)
		}
		return put(content)
	})
}
