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
	"time"

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

// bytes checks what lies on disk.
func (r *run) bytes(ctx context.Context) error {
	started := time.Now()
	if err := r.survey(ctx); err != nil {
		return err
	}
	known := make(map[wal.RelationRef]*relation)
	for i := range r.databases {
		for j := range r.databases[i].relations {
			n := &r.databases[i].relations[j]
			known[n.ref] = n
		}
	}
	marks, maps := proof.Observed{Unit: "version files"}, proof.Observed{Unit: "relation maps"}
	var files []file
	err := copies.Walk(r.tree, func(name, rel string) error {
		if f, ok := pg.ParseRelationFile(rel); ok {
			info, err := r.tree.Lstat(name)
			if err != nil {
				return err
			}
			files = append(files, file{name, rel, f, info.Size()})
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
	r.add(proof.Judge(proof.FilesWhole, r.whole(ctx, files, known)), started)
	started = time.Now()
	n := r.pages(ctx, files, known)
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
	_, j, err := r.Open(ctx)
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
	n := proof.PageCounts{Checksums: r.checksums()}
	var total, read int64
	for _, f := range files {
		total += f.size / pg.BlockSize
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for c := range r.chunks(ctx, files) {
		if c.err != nil {
			n.Unreadable = c.err.Error()
			return n
		}
		if c.block == c.of.FirstBlock() {
			n.Files++
			r.report.Progress(read, total, task.Pages, "reading the pages of "+c.of.rel)
			read += c.of.size / pg.BlockSize
		}
		layout := pg.OtherPage
		if k := known[refOf(c.of.rel, c.of.RelationFile)]; k != nil && c.of.Fork == "" {
			layout = k.layout()
		}
		r.chunk(&c, layout, &n)
		c.done()
	}
	return n
}

// chunk is pages of a file that follow one another, from block on.
type chunk struct {
	of    *file
	block uint32
	pages []byte
	err   error
	done  func() // with the pages
}

// chunks reads files, a little ahead of whoever looks at what was read, until ctx ends. The last chunk has the error, if any.
func (r *run) chunks(ctx context.Context, files []file) <-chan chunk {
	const size, ahead = 64 * pg.BlockSize, 3
	free := make(chan []byte, ahead)
	for range ahead {
		free <- make([]byte, size)
	}
	read := make(chan chunk, ahead+1) // with room for the error
	go func() {
		defer close(read)
		for i := range files {
			if err := r.readFile(ctx, &files[i], free, read); err != nil {
				read <- chunk{err: fmt.Errorf("%s: %w", files[i].rel, err)}
				return
			}
		}
	}()
	return read
}

func (r *run) readFile(ctx context.Context, f *file, free chan []byte, read chan<- chunk) error {
	in, err := r.tree.Open(f.name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // dropped in an open copy since it was listed
	}
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	for block := f.FirstBlock(); ; {
		var buf []byte
		select {
		case <-ctx.Done():
			return ctx.Err()
		case buf = <-free:
		}
		got, err := io.ReadFull(in, buf)
		if ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF); err != nil && !ended {
			return err
		}
		read <- chunk{of: f, block: block, pages: buf[:got-got%pg.BlockSize], done: func() { free <- buf }}
		if err != nil {
			return nil
		}
		block += uint32(got / pg.BlockSize)
	}
}

// chunk checks pages that were read.
func (r *run) chunk(c *chunk, layout pg.Layout, n *proof.PageCounts) {
	for at, block := 0, c.block; at < len(c.pages); at, block = at+pg.BlockSize, block+1 {
		n.Pages++
		fault := checkPage(c.pages[at:at+pg.BlockSize], block, layout, n.Checksums)
		if fault == "" || r.wholeNow(c.of, block, layout, n.Checksums) {
			continue
		}
		where := fmt.Sprintf("%s, block %d", c.of.rel, block)
		if c.of.Fork == "fsm" {
			n.Harmless.Add(where, "%s", fault)
			continue
		}
		n.Wrong.Add(where, "%s", fault)
		r.damaged[refOf(c.of.rel, c.of.RelationFile)] = where
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
func (r *run) wholeNow(f *file, block uint32, layout pg.Layout, checksums bool) bool {
	const tries, pause = 3, 20 * time.Millisecond
	in, err := r.tree.Open(f.name)
	if err != nil {
		return false
	}
	defer func() { _ = in.Close() }()
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
