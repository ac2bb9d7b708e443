// Package repair lays right files over damaged or lost ones of a stopped cluster, and only those, so that its server recovers to its
// own latest.
//
// Invariant: nothing is overwritten or removed before what stood there is kept aside, durably. While files are being changed the
// cluster has no control file under its own name, and no server can start on it; a repair that was interrupted is begun again and goes
// on. What is right of what lies there is core/repair's to say.
package repair

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"velvetrewind/core/blocks"
	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/repair"
	"velvetrewind/core/task"
	"velvetrewind/core/wal"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Order is a repair of one cluster, as the host carries it out on which its files are.
type Order struct {
	Cluster     string            `json:"cluster"`
	Base        string            `json:"base"`
	Original    host.Original     `json:"original"`
	SegmentSize pg.SegmentSize    `json:"segmentSize"`
	Directory   string            `json:"directory"` // in each tablespace, of the version
	Start       pg.LSN            `json:"start"`     // of the base
	End         pg.LSN            `json:"end"`       // of the WAL that there is
	Changed     []blocks.Changed  `json:"changed"`   // by the WAL
	Gone        []wal.RelationRef `json:"gone"`      // relations that it drops
	Databases   []uint32          `json:"databases"` // that it drops
	Segments    []pg.Segment      `json:"segments"`  // that replay needs, in order
	Captured    pg.LSN            `json:"captured"`  // how far they are captured; beyond that the cluster's own are all there is
	Checksums   bool              `json:"checksums"` // the cluster has data checksums
	Only        []string          `json:"only"`      // paths as pathOnly gives them; nil for everything
	Apply       bool              `json:"apply"`     // else nothing is changed
	Aside       string            `json:"aside"`     // what is appended to the names of directories in which is kept what stood there
}

// Timeline is the one that the cluster is on.
func (o *Order) Timeline() pg.Timeline { return o.Segments[len(o.Segments)-1].Timeline }

// Source is where a repair takes from.
type Source struct {
	Vault *vault.Vault
	// Segment reads a captured segment, or as much of it as there is.
	Segment func(ctx context.Context, s pg.Segment) (io.ReadCloser, error)
	// Allowed refuses a directory that must not be changed; nil where there is none such.
	Allowed func(dir string) error
}

// Finding is a file that is not as it has to be.
type Finding struct {
	Path    string `json:"path"`    // relative to the data directory
	Why     string `json:"why"`     // what is wrong with it
	Renewed bool   `json:"renewed"` // nothing says that it is wrong: replay makes it anew from the base's
	Missing bool   `json:"missing"`
	Removed bool   `json:"removed"` // it is moved aside
	Pages   int64  `json:"pages"`   // that are written; 0 where the file is written whole
	Bytes   int64  `json:"bytes"`   // that are written
}

// Outcome is what was found, and done where it was to be.
type Outcome struct {
	Findings []Finding `json:"findings"` // by path; the renewed last
	More     int       `json:"more"`     // findings that are not listed
	Files    int64     `json:"files"`    // that were compared
	Bytes    int64     `json:"bytes"`    // that were read of them
	Newer    int64     `json:"newer"`    // pages that were left, for the WAL since the base changes them and they are whole
	Segments []string  `json:"segments"` // WAL files that were lacking, or other than captured
	Aside    []string  `json:"aside"`    // directories in which is kept what stood there
	Strict   string    `json:"strict"`   // why pages that differ from the base were not left
}

// mostListed is how many findings are listed one by one.
const mostListed = 5000

// workers compare files at once.
const workers = 3

// run is one repair.
type run struct {
	Order
	Source
	ctx    context.Context
	host   *host.Host // with the cluster's OS user
	ground repair.Ground
	packs  *vault.Packs
	key    layout.HashKey
	roots  roots
	named  map[layout.Hash]bool // paths that the base has
	needs  map[string]int64     // bytes, by the directory of the root
	report task.Report

	mu    sync.Mutex
	out   Outcome
	total int64
}

// Run compares, and repairs if that was ordered: then everything is compared once before, so that what cannot be read, or has no room,
// is known while nothing is changed. Nothing may run on the directory.
func Run(ctx context.Context, h *host.Host, from Source, o Order, report task.Report) (out Outcome, err error) {
	own, err := h.As(o.Original.User)
	if err != nil {
		return out, err
	}
	look := newRun(ctx, own, from, o, report)
	look.Apply = false
	if out, err = look.through(look.compare); err != nil || !o.Apply {
		return out, err
	}
	if err := look.room(); err != nil {
		return out, err
	}
	r := newRun(ctx, own, from, o, report)
	return r.through(r.repair)
}

func newRun(ctx context.Context, own *host.Host, from Source, o Order, report task.Report) *run {
	r := &run{Order: o, Source: from, ctx: ctx, host: own, packs: from.Vault.Packs(o.Cluster), key: from.Vault.HashKey(o.Cluster),
		named: make(map[layout.Hash]bool), needs: make(map[string]int64), report: report}
	r.ground = repair.Ground{Start: o.Start, End: o.End, Changed: new(blocks.Set), Gone: make(map[wal.RelationRef]bool),
		GoneDatabases: make(map[uint32]bool)}
	for _, c := range o.Changed {
		r.ground.Changed.Add(c)
	}
	for _, ref := range o.Gone {
		r.ground.Gone[ref] = true
	}
	for _, db := range o.Databases {
		r.ground.GoneDatabases[db] = true
	}
	return r
}

// through does it with the directories open.
func (r *run) through(do func() error) (Outcome, error) {
	if err := r.openRoots(); err != nil {
		r.roots.close()
		return r.out, err
	}
	defer r.roots.close()
	err := do()
	r.sort()
	return r.out, err
}

// room makes sure that what was found has room: new files, and pages that are kept beside, take as much as is written.
func (r *run) room() error {
	for dir, need := range r.needs {
		at := dir
		for at != "/" { // a tablespace's may be lost
			if _, err := r.host.Spot(at); err == nil {
				break
			}
			at = filepath.Dir(at)
		}
		free, err := r.host.FreeSpace(at)
		if err != nil {
			return err
		}
		if need > free {
			return problem.New(problem.Full, "Free space there, and begin again.", title, "%s needs %s more, and %s are free", dir,
				figures.Size(need), figures.Size(free))
		}
	}
	return nil
}

// repair changes what has to be.
func (r *run) repair() error {
	if err := r.lock(); err != nil {
		return err
	}
	err := r.label()
	if err == nil {
		err = r.compare()
	}
	if err == nil {
		err = r.roots.sync()
	}
	if err != nil {
		return fmt.Errorf("%w; the server of %s cannot start until a repair is through: begin it again, and it goes on", err,
			r.Original.DataDir)
	}
	return r.unlock()
}

// locked is the name of the control file for as long as no server may start.
const locked = host.LockedControl

// lock takes the control file's name away, and makes sure that no server has started meanwhile.
func (r *run) lock() error {
	data := r.roots.data.tree
	if _, err := data.Lstat(locked); err == nil {
		return r.idle() // a repair before this one did
	}
	if err := errors.Join(data.Rename(repair.ControlFile, locked), data.SyncDir("global")); err != nil {
		return err
	}
	if err := r.idle(); err != nil {
		return errors.Join(err, r.unlock())
	}
	return nil
}

func (r *run) unlock() error {
	data := r.roots.data.tree
	return errors.Join(data.Rename(locked, repair.ControlFile), data.SyncDir("global"))
}

// idle makes sure that no process of a server works in the directory.
func (r *run) idle() error {
	works, err := r.host.WorkedIn(r.Original.DataDir)
	if runs, e := r.host.OriginalRunning(r.Original); err == nil && e == nil && (works || runs) {
		err = fmt.Errorf("a server has been started on %s meanwhile", r.Original.DataDir)
	} else {
		err = errors.Join(err, e)
	}
	return err
}

// labelFile has the server begin its replay where the base does.
const labelFile = "backup_label"

// label puts the base's label in place.
func (r *run) label() error {
	var content strings.Builder
	err := r.manifest(layout.Visit{File: func(f *layout.File) error {
		if f.Place != layout.InData || f.Path != labelFile {
			return nil
		}
		return restore.Content(r.ctx, r.packs, r.key, f, &content)
	}})
	if err != nil {
		return err
	}
	label, err := pg.ParseBackupLabel([]byte(content.String()))
	if err == nil && label.Start != r.Start {
		err = fmt.Errorf("base %s begins at %s, and its label says %s", r.Base, r.Start, label.Start)
	}
	if err != nil {
		return err
	}
	return r.roots.data.tree.WriteFile(labelFile, []byte(content.String()), 0o600)
}

// manifest reads the base's.
func (r *run) manifest(visit layout.Visit) error {
	m, err := r.Vault.Open(r.ctx, store.ManifestKey(r.Cluster, r.Base))
	if err != nil {
		return err
	}
	defer func() { _ = m.Close() }()
	_, err = layout.ReadManifest(m, visit)
	return err
}

// compare goes through everything, and changes it if that was ordered.
func (r *run) compare() error {
	for _, s := range r.Segments {
		if err := r.segment(s); err != nil {
			return fmt.Errorf("segment %s: %w", s.Name(r.SegmentSize), err)
		}
	}
	if err := r.measure(); err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(r.ctx)
	group.SetLimit(workers)
	whole := r.ctx
	r.ctx = ctx
	err := r.manifest(layout.Visit{File: func(f *layout.File) error {
		if f.Place != layout.InData {
			return nil
		}
		if !fs.ValidPath(f.Path) {
			return fmt.Errorf("%w: the manifest names %q, which leads out of the directory or about in it", layout.ErrCorrupt, f.Path)
		}
		r.named[hashOf(f.Path)] = true
		if f.Dir {
			return r.directory(f)
		}
		group.Go(func() error {
			if err := r.file(f); err != nil {
				return fmt.Errorf("%s: %w", f.Path, err)
			}
			return nil
		})
		return ctx.Err()
	}})
	if e := group.Wait(); e != nil {
		err = e // what made the reading of the manifest end, too
	}
	r.ctx = whole
	if err == nil {
		err = r.others()
	}
	return err
}

// measure sums up what is to be compared, and learns how far the base can be relied on.
func (r *run) measure() error {
	return r.manifest(layout.Visit{Head: func(h layout.Head) error {
		switch {
		case !r.Checksums:
			r.out.Strict = "the cluster has no data checksums, by which a page could be told to be whole"
		case !h.Checksums:
			r.out.Strict = "data checksums were switched on after the base"
		case r.ground.Changed.CopiesFiles():
			r.out.Strict = "a database was copied file by file since the base"
		}
		r.ground.Checksums, r.ground.Strict = r.Checksums && h.Checksums, r.out.Strict != ""
		return nil
	}, File: func(f *layout.File) error {
		if f.Place == layout.InData && r.selected(f.Path) {
			r.total += f.Size
		}
		return nil
	}})
}

func hashOf(name string) layout.Hash { return layout.HashOf([]byte(name)) }

// pathOnly gives a path as Order.Only takes it: of a directory with all below it, or of a relation with all of its files.
func pathOnly(path string, dir bool) string {
	if dir {
		return strings.TrimSuffix(path, "/") + "/"
	}
	return path
}

// selected tells whether a file is to be repaired. Prepared transactions are always: replay makes them anew.
func (r *run) selected(name string) bool {
	if r.Only == nil || strings.HasPrefix(name, "pg_twophase/") {
		return true
	}
	relation := ""
	if rel, ok := pg.ParseRelationFile(name); ok {
		relation = filepath.Join(filepath.Dir(name), fmt.Sprint(rel.Filenode))
	}
	return slices.ContainsFunc(r.Only, func(o string) bool {
		return strings.HasSuffix(o, "/") && strings.HasPrefix(name, o) || o == name || o == relation
	})
}

// found notes a file that is not as it has to be.
func (r *run) found(f Finding) {
	own, _ := r.roots.find(f.Path)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.needs[own.dir] += f.Bytes
	if len(r.out.Findings) >= mostListed {
		r.out.More++
		return
	}
	r.out.Findings = append(r.out.Findings, f)
}

// looked counts a file that was compared.
func (r *run) looked(name string, bytes int64) {
	r.mu.Lock()
	r.out.Files, r.out.Bytes = r.out.Files+1, r.out.Bytes+bytes
	done := r.out.Bytes
	r.mu.Unlock()
	verb := "comparing "
	if r.Apply {
		verb = "comparing and repairing "
	}
	r.report.Progress(min(done, r.total), r.total, task.Bytes, verb+name)
}

// sort puts the findings in order.
func (r *run) sort() {
	slices.SortFunc(r.out.Findings, func(a, b Finding) int {
		if a.Renewed != b.Renewed {
			if a.Renewed {
				return 1
			}
			return -1
		}
		return strings.Compare(a.Path, b.Path)
	})
	r.out.Aside = r.roots.asides()
}
