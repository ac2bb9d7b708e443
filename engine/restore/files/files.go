// Package files writes a base backup and the WAL up to a moment as a tar stream of ordinary files, for somebody who starts the
// server elsewhere, with public tools alone.
//
// Invariant: the stream ends in the list of its files' sums, so that one without it is not whole. What lies in it leaves
// the original alone: it archives nothing, follows nobody, and stops before the first transaction that is not wanted.
package files

import (
	"archive/tar"
	"bufio"
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"velvetrewind/core/handover"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Want is how the files are to lie.
type Want struct {
	Root        string            // directory that they will be unpacked in, where the server will run
	Debian      string            // name of a cluster in Debian's layout, below Root; "" for data, wal and tablespaces in Root
	Port        int               // 0 for the original's
	Owner       string            // user and group in the stream; "" for none
	Tablespaces map[string]string // where they will lie, by where they lay on the original
}

// What lies beside the data directory.
const (
	walDir      = "wal"
	tablespaces = "tablespaces"
	elsewhere   = "configuration" // files of the original that lay outside of its data directory, and are not used
)

// Writer writes the files of one moment.
type Writer struct {
	Store   *vault.Vault
	Archive *archive.Archive // on the way to the moment
	Plan    plan.Restore
	Want    Want
	Aside   io.ReadWriteSeeker // an empty file, for the list of sums: there may be a million of them

	ctx   context.Context
	out   *tar.Writer
	at    places
	head  layout.Head
	major int
	own   configuration
	sums  *bufio.Writer
	made  map[string]bool // directories
	now   time.Time
}

// places are the paths in the stream.
type places struct {
	data   string
	config string // where postgresql.conf lies
	side   string // where the rest lies; "" for the top
}

func (w *Writer) places() places {
	if w.Want.Debian == "" {
		return places{data: "data", config: "data"}
	}
	below := path.Join("postgresql", fmt.Sprint(w.major), w.Want.Debian)
	return places{data: path.Join("var/lib", below), config: path.Join("etc", below), side: path.Join("var/lib", below+".restored")}
}

// there is a path of the stream as the server will see it.
func (w *Writer) there(name string) string { return path.Join(w.Want.Root, name) }

// Prepare reads what depends on the base alone, and refuses what cannot be.
func (w *Writer) Prepare(ctx context.Context) error {
	w.ctx = ctx
	if err := w.readConfiguration(w.Store.Packs(w.Archive.Cluster.ID)); err != nil {
		return err
	}
	w.at = w.places()
	known := make(map[string]bool)
	for _, s := range w.head.Tablespaces {
		known[s.Location] = true
	}
	for from := range w.Want.Tablespaces {
		if !known[from] {
			return problem.New(problem.Invalid, "See where they lie with: velvet backup show "+w.Plan.Base, "nothing was written",
				"no tablespace of base %s lay in %s", w.Plan.Base, from)
		}
	}
	return nil
}

// Write writes the stream, once it is prepared.
func (w *Writer) Write(ctx context.Context, to io.Writer) error {
	w.ctx, w.out, w.made, w.now = ctx, tar.NewWriter(to), make(map[string]bool), time.Now()
	w.sums = bufio.NewWriter(w.Aside)
	packs := w.Store.Packs(w.Archive.Cluster.ID)
	if err := w.put(path.Join(w.at.side, handover.HowTo), 0o644, []byte(w.howTo())); err != nil {
		return err
	}
	if err := w.base(packs); err != nil {
		return err
	}
	for _, f := range w.configured() {
		if err := w.put(f.name, 0o600, f.content); err != nil {
			return err
		}
	}
	if err := w.wal(); err != nil {
		return err
	}
	if err := w.list(); err != nil {
		return err
	}
	return w.out.Close()
}

// list writes the list of sums, the last file.
func (w *Writer) list() error {
	if err := w.sums.Flush(); err != nil {
		return err
	}
	size, err := w.Aside.Seek(0, io.SeekCurrent)
	if err == nil {
		_, err = w.Aside.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	return w.file(path.Join(w.at.side, handover.Sums), 0o644, size, w.now, func(to io.Writer) error {
		_, err := io.Copy(to, w.Aside)
		return err
	})
}

// manifest reads the base's.
func (w *Writer) manifest(visit layout.Visit) error {
	m, err := w.Store.Open(w.ctx, store.ManifestKey(w.Archive.Cluster.ID, w.Plan.Base))
	if err != nil {
		return err
	}
	defer func() { _ = m.Close() }()
	_, err = layout.ReadManifest(m, visit)
	return err
}

// base writes what the base backup holds, but for configuration and what only the original's own start needs.
func (w *Writer) base(packs *vault.Packs) error {
	if err := w.dir(w.at.data, 0o700); err != nil {
		return err
	}
	for _, s := range w.head.Tablespaces { // one without files is not there yet
		if err := w.dir(path.Join(w.at.side, tablespaces, fmt.Sprint(s.OID)), 0o700); err != nil {
			return err
		}
	}
	return w.manifest(layout.Visit{File: func(f *layout.File) error {
		if isConfiguration(f) {
			return nil
		}
		name, err := w.place(f)
		if err != nil {
			return err
		}
		if f.Dir {
			return w.dir(name, fs.FileMode(f.Mode))
		}
		return w.file(name, fs.FileMode(f.Mode), f.Size, f.Modified, func(to io.Writer) error {
			return restore.Content(w.ctx, packs, w.Store.HashKey(w.Archive.Cluster.ID), f, to)
		})
	}})
}

// place is where a file of the base lies in the stream.
func (w *Writer) place(f *layout.File) (string, error) {
	if !fs.ValidPath(f.Path) {
		return "", leadsOut(f)
	}
	if below, ok := strings.CutPrefix(f.Path, "pg_tblspc/"); ok {
		return path.Join(w.at.side, tablespaces, below), nil
	}
	return path.Join(w.at.data, f.Path), nil
}

func leadsOut(f *layout.File) error {
	return fmt.Errorf("%w: the manifest names %q, which leads out of the directory or about in it", layout.ErrCorrupt, f.Path)
}

// wal writes the segments that are replayed, and the histories of their timelines.
func (w *Writer) wal() error {
	z := w.Archive.Cluster.SegmentSize
	dir := path.Join(w.at.side, walDir)
	if err := w.dir(dir, 0o700); err != nil {
		return err
	}
	histories := make(map[pg.Timeline]bool)
	for _, s := range w.Plan.Segments(w.Archive.Ancestors, z) {
		if s.Timeline > 1 && !histories[s.Timeline] {
			histories[s.Timeline] = true
			if err := w.history(dir, pg.HistoryName(s.Timeline)); err != nil {
				return err
			}
		}
		err := w.file(path.Join(dir, s.Name(z)), 0o600, int64(z), w.now, func(to io.Writer) error {
			content, err := w.Archive.OpenSegment(w.ctx, s)
			if err != nil {
				return err
			}
			defer func() { _ = content.Close() }()
			n, err := io.Copy(to, content)
			if err == nil {
				_, err = io.CopyN(to, zeroes{}, int64(z)-n) // of a cut one the rest was never written
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (w *Writer) history(dir, name string) error {
	content, err := feed.Open(w.ctx, w.Store, w.Archive.Cluster, name)
	if err != nil {
		return err
	}
	defer func() { _ = content.Close() }()
	all, err := io.ReadAll(content)
	if err != nil {
		return err
	}
	return w.put(path.Join(dir, name), 0o600, all)
}

type zeroes struct{}

func (zeroes) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}

// dir adds a directory, and those above it.
func (w *Writer) dir(name string, mode fs.FileMode) error {
	if name == "." || w.made[name] {
		return nil
	}
	above := fs.FileMode(0o755)
	if strings.HasPrefix(name, w.at.data+"/") || strings.HasPrefix(name, path.Join(w.at.side, tablespaces)+"/") {
		above = 0o700
	}
	if err := w.dir(path.Dir(name), above); err != nil {
		return err
	}
	w.made[name] = true
	return w.out.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: name + "/", Mode: int64(mode), ModTime: w.now,
		Uname: w.Want.Owner, Gname: w.Want.Owner, Format: tar.FormatPAX})
}

// put adds a file whose content is at hand.
func (w *Writer) put(name string, mode fs.FileMode, content []byte) error {
	return w.file(name, mode, int64(len(content)), w.now, func(to io.Writer) error {
		_, err := to.Write(content)
		return err
	})
}

// file adds a file, and its sum to the list.
func (w *Writer) file(name string, mode fs.FileMode, size int64, modified time.Time, write func(io.Writer) error) error {
	if err := w.dir(path.Dir(name), 0o755); err != nil {
		return err
	}
	err := w.out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: int64(mode), Size: size, ModTime: modified,
		Uname: w.Want.Owner, Gname: w.Want.Owner, Format: tar.FormatPAX})
	if err != nil {
		return err
	}
	sum := handover.NewSum()
	if err := write(io.MultiWriter(w.out, sum)); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	_, err = w.sums.WriteString(handover.SumLine(sum.Sum(nil), name))
	return err
}
