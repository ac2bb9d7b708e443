package prove

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"velvetrewind/core/blocks"
	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/core/wal"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/copies"
)

// file is a relation file of the copy's: one part of one fork.
type file struct {
	name string // in the copy's tree
	rel  string // for its server
	pg.RelationFile
	size int64
}

// files checks that what should lie on disk does, and nothing else.
func (r *run) files(ctx context.Context) error {
	started := time.Now()
	if err := r.survey(ctx); err != nil {
		return err
	}
	r.known = make(map[wal.RelationRef]*relation)
	for i := range r.databases {
		for j := range r.databases[i].relations {
			n := &r.databases[i].relations[j]
			r.known[n.ref] = n
		}
	}
	marks, maps := proof.Observed{Unit: "version files"}, proof.Observed{Unit: "relation maps"}
	err := copies.Walk(r.tree, func(name string, size int64, rel string) error {
		if f, ok := pg.ParseRelationFile(rel); ok {
			r.found = append(r.found, file{name, rel, f, size})
			return nil
		}
		switch path.Base(rel) {
		case "PG_VERSION":
			r.mark(name, rel, &marks)
		case "pg_filenode.map":
			r.relationMap(name, rel, &maps)
		}
		return nil
	})
	if err != nil {
		return err
	}
	r.add(r.control(), started)
	r.add(proof.Judge(proof.Marks, &marks), started)
	r.add(proof.Judge(proof.Maps, &maps), started)
	started = time.Now()
	r.add(proof.Judge(proof.FilesWhole, r.whole(ctx, r.found, r.known)), started)
	return nil
}

// everyPage checks the pages of the files.
func (r *run) everyPage(ctx context.Context) error {
	started := time.Now()
	n := r.pages(ctx, r.found, r.known)
	r.add(proof.Pages(&n), started)
	return nil
}

// control checks the copy's control file.
func (r *run) control() proof.Check {
	o := proof.Observed{Unit: "control file", Seen: 1}
	const where = "global/pg_control"
	switch c, err := copies.Control(r.tree); {
	case err != nil:
		o.Wrong.Add(where, "%v", err)
	case c.SystemID != r.Cluster.SystemID:
		o.Wrong.Add(where, "it is of the cluster with the system identifier %d, not %d", c.SystemID, r.Cluster.SystemID)
	case c.Version.Major != r.Cluster.Major():
		o.Wrong.Add(where, "it is of PostgreSQL %d, not %d", c.Version.Major, r.Cluster.Major())
	}
	return proof.Judge(proof.ControlFile, &o)
}

func (r *run) mark(name, rel string, o *proof.Observed) {
	content, err := r.tree.ReadFile(name)
	if err != nil {
		o.LeftOut.Add(rel, "%v", err)
		return
	}
	o.Seen++
	if got, want := strings.TrimSpace(string(content)), strconv.Itoa(r.Cluster.Major()); got != want {
		o.Wrong.Add(rel, "it says %q, not %q", got, want)
	}
}

func (r *run) relationMap(name, rel string, o *proof.Observed) {
	content, err := r.tree.ReadFile(name)
	if err != nil {
		o.LeftOut.Add(rel, "%v", err)
		return
	}
	o.Seen++
	if err := pg.CheckRelationMap(content, r.Cluster.Version()); err != nil {
		o.Wrong.Add(rel, "%v", err)
	}
}

// Tablespaces that every cluster has.
const (
	defaultSpace = 1663
	globalSpace  = 1664
)

// refOf is the relation that a file is of.
func refOf(rel string, f pg.RelationFile) wal.RelationRef {
	ref := wal.RelationRef{Space: defaultSpace, Database: f.Database, Filenode: f.Filenode}
	switch parts := strings.Split(rel, "/"); parts[0] {
	case "global":
		ref.Space = globalSpace
	case "pg_tblspc":
		if n, err := strconv.ParseUint(parts[1], 10, 32); err == nil {
			ref.Space = uint32(n)
		}
	}
	return ref
}

// whole holds the files against the catalogs, and against what the base and the WAL since say of their lengths.
func (r *run) whole(ctx context.Context, files []file, known map[wal.RelationRef]*relation) *proof.Observed {
	o := &proof.Observed{Unit: "relation files"}
	pages := make(map[wal.RelationRef]uint32) // of main forks
	there := make(map[wal.RelationRef]map[string]bool)
	var strange, strangeBytes int64
	for _, f := range files {
		o.Seen++
		ref := refOf(f.rel, f.RelationFile)
		if there[ref] == nil {
			there[ref] = make(map[string]bool)
		}
		there[ref][f.Fork] = true
		if f.Fork == "" {
			pages[ref] = max(pages[ref], f.FirstBlock()+uint32(f.size/pg.BlockSize))
		}
		if f.size%pg.BlockSize != 0 {
			o.Wrong.Add(f.rel, "it ends within a page, after %s bytes", figures.Count(f.size))
		}
		if known[ref] == nil && r.surveyed(f.Database) {
			strange, strangeBytes = strange+1, strangeBytes+f.size
		}
	}
	if strange > 0 {
		o.Notes = append(o.Notes, fmt.Sprintf("%s with %s belong to no relation: of transactions that were open at the moment, or left "+
			"on the original by a crash", figures.Of(int(strange), "file"), figures.Size(strangeBytes)))
	}
	for ref, n := range known {
		fork := ""
		if n.Persistence == "u" {
			fork = "init" // from which a server that ends its recovery makes the rest
		}
		if !there[ref][fork] {
			o.Wrong.Add(n.where(), "its file with the number %d is missing", ref.Filenode)
			r.damaged[ref] = "it is missing"
		}
	}
	if err := r.lengths(ctx, pages, known, o); err != nil {
		o.LeftOut.Add("lengths", "what they should be could not be read: %v", err)
	}
	return o
}

// surveyed tells whether the catalogs of a database were read. Shared relations are in all of them.
func (r *run) surveyed(oid uint32) bool {
	return slices.ContainsFunc(r.databases, func(db database) bool { return oid == 0 || db.OID == oid })
}

// lengths finds files that are shorter than the base and the WAL make them.
func (r *run) lengths(ctx context.Context, pages map[wal.RelationRef]uint32, known map[wal.RelationRef]*relation, o *proof.Observed) error {
	if r.copy.State == catalog.CopyOpen {
		o.Notes = append(o.Notes, "the copy is open: that files are as long as when it was opened cannot be told any more")
		return nil
	}
	_, j, err := r.Open(ctx, r.plan.Boundary.Timeline)
	if err != nil {
		return err
	}
	set, err := j.Until(ctx, r.plan.Start, r.plan.Boundary.End)
	if err != nil {
		return err
	}
	base := make(map[wal.RelationRef]uint32)
	_, err = backup.ReadManifest(ctx, r.Store, r.Cluster.ID, r.plan.Base, layout.Visit{File: func(f *layout.File) error {
		if at, ok := pg.ParseRelationFile(f.Path); ok && f.Place == layout.InData && at.Fork == "" {
			ref := refOf(f.Path, at)
			base[ref] = max(base[ref], at.FirstBlock()+uint32(f.Size/pg.BlockSize))
		}
		return nil
	}})
	if err != nil {
		return err
	}
	for ref, n := range known {
		if n.Persistence == "u" {
			continue
		}
		if least := set.Least(blocks.Fork{Relation: ref}, base[ref]); pages[ref] < least {
			o.Wrong.Add(n.where(), "it has %s pages, but the base backup and the WAL make it at least %s", figures.Count(int64(pages[ref])),
				figures.Count(int64(least)))
			r.damaged[ref] = "it is too short"
		}
	}
	return nil
}

// pages reads every page of every relation file in the copy's data directory.
func (r *run) pages(ctx context.Context, files []file, known map[wal.RelationRef]*relation) proof.PageCounts {
	read := &reading{run: r, known: known, counts: proof.PageCounts{Checksums: r.checksums(), Files: int64(len(files))}}
	for i := range files {
		read.total += files[i].size / pg.BlockSize
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(pageReaders)
	for i := range files {
		f := &files[i]
		for from := int64(0); from == 0 || from < f.size; from += stretch { // the first, too, of what is empty
			group.Go(func() error { return read.stretch(ctx, f, from) })
		}
	}
	if err := group.Wait(); err != nil {
		read.counts.Unreadable = err.Error()
	}
	slices.SortFunc(read.counts.Wrong.List, func(a, b proof.Finding) int { return strings.Compare(a.Where, b.Where) })
	return read.counts
}

// Pages are read by a few at once, each a stretch of bytes at a time, whose pages it checks while they are in the processor's cache.
const (
	pageReaders = 2
	stretch     = 1024 * pg.BlockSize
)

// reading is what those who read pages have in common.
type reading struct {
	*run
	known   map[wal.RelationRef]*relation
	total   int64 // pages
	buffers sync.Pool

	mu     sync.Mutex
	counts proof.PageCounts
}

// stretch checks the pages of a file from an offset on.
func (r *reading) stretch(ctx context.Context, f *file, from int64) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	in, err := r.tree.Open(f.name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // dropped in an open copy since it was listed
	}
	if err != nil {
		return fmt.Errorf("%s: %w", f.rel, err)
	}
	defer func() { _ = in.Close() }()
	buf, _ := r.buffers.Get().(*[64 * pg.BlockSize]byte)
	if buf == nil {
		buf = new([64 * pg.BlockSize]byte)
	}
	defer r.buffers.Put(buf)
	layout := pg.OtherPage
	if k := r.known[refOf(f.rel, f.RelationFile)]; k != nil && f.Fork == "" {
		layout = k.layout()
	}
	var pages int64
	for at := from; at < from+stretch; at += int64(len(buf)) {
		got, err := in.ReadAt(buf[:], at)
		pages += int64(got / pg.BlockSize)
		r.check(in, f, at, buf[:got], layout)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("%s: %w", f.rel, err)
		}
	}
	r.mu.Lock()
	r.counts.Pages += pages
	done := r.counts.Pages
	r.mu.Unlock()
	r.report.Progress(done, r.total, task.Pages, "reading the pages of "+f.rel)
	return nil
}

// check checks pages that were read at an offset.
func (r *reading) check(in io.ReaderAt, f *file, at int64, pages []byte, layout pg.Layout) {
	for block := f.FirstBlock() + uint32(at/pg.BlockSize); len(pages) >= pg.BlockSize; pages, block = pages[pg.BlockSize:], block+1 {
		fault := checkPage(pages[:pg.BlockSize], block, layout, r.counts.Checksums)
		if fault == "" || wholeNow(in, f, block, layout, r.counts.Checksums) {
			continue
		}
		where := fmt.Sprintf("%s, block %d", f.rel, block)
		r.mu.Lock()
		if f.Fork == "fsm" {
			r.counts.Harmless.Add(where, "%s", fault)
		} else {
			r.counts.Wrong.Add(where, "%s", fault)
			r.damaged[refOf(f.rel, f.RelationFile)] = where
		}
		r.mu.Unlock()
	}
}

// checksums tells whether the copy's pages have checksums. They may have been switched since.
func (r *run) checksums() bool {
	control, err := copies.Control(r.tree)
	if err != nil {
		return r.Cluster.DataChecksums
	}
	return control.DataChecksums
}

// checkPage looks at the items of a page where there is no checksum that would tell.
func checkPage(page []byte, block uint32, layout pg.Layout, checksums bool) pg.PageFault {
	fault := pg.CheckPage(page, block, checksums)
	if fault == "" && !checksums && (layout != pg.ItemPage || block > 0) { // the first page of an index is its own
		fault = pg.CheckItems(page, layout)
	}
	return fault
}

// wholeNow reads a page once more: the copy's server may have been writing it.
func wholeNow(in io.ReaderAt, f *file, block uint32, layout pg.Layout, checksums bool) bool {
	const tries, pause = 3, 20 * time.Millisecond
	page := make([]byte, pg.BlockSize)
	for range tries {
		<-time.After(pause)
		if _, err := in.ReadAt(page, int64(block-f.FirstBlock())*pg.BlockSize); err != nil {
			return false
		}
		if checkPage(page, block, layout, checksums) == "" {
			return true
		}
	}
	return false
}
