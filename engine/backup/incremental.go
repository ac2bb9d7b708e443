package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/blocks"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/core/wal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/changes"
)

// doubt is why an incremental backup would not surely be right: a full one is taken instead.
type doubt struct{ error }

func doubtful(format string, args ...any) error { return doubt{fmt.Errorf(format, args...)} }

// online is a base backup that the server was told of through SQL: between start and
// stop it writes whole pages to the WAL, so that what is read meanwhile can be replayed.
type online struct {
	conn     *pgx.Conn
	version  *pg.Version
	timeline pg.Timeline
	start    pg.LSN
	spaces   []layout.TablespaceEntry
	label    string
	spaceMap string
}

// incremental takes a backup that reads only what has changed since the former one. A
// doubt is returned before anything was written.
func (t *Taker) incremental(ctx context.Context, opt Options, old *former, report task.Report) (*writer, error) {
	conn, err := t.Access.Admin(ctx, "") // a checkpoint takes its time
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	src, err := t.openSource(ctx, conn)
	if err != nil {
		return nil, doubt{err}
	}
	defer func() { _ = src.close() }()
	started, err := t.serverNow(ctx, conn)
	if err != nil {
		return nil, err
	}
	t.awaitCheckpoint(ctx, opt, report)
	o, err := t.startOnline(ctx, conn, opt)
	if err != nil {
		return nil, err
	}
	report.Log("backup %s begins at %s on timeline %d; what has changed since base %s is read %s", opt.ID, o.start, o.timeline,
		old.id, src.about())
	changed, err := t.changedSince(ctx, old, o, report)
	if err != nil {
		return nil, err
	}
	w, err := t.newWriter(ctx, opt, layout.Incremental, o.spaces, old, report)
	if err != nil {
		return nil, err
	}
	stop, err := t.readChanged(ctx, w, src, o, changed)
	if err == nil {
		report.Log("the server ended the backup at %s; %d bytes of %d were read, %d pages", stop, w.tail.BytesRead,
			w.tail.BytesHeld, w.tail.Pages)
		w.tail.Timeline, w.tail.Start, w.tail.Stop, w.tail.StartTime = o.timeline, o.start, stop, started
		w.tail.StopTime, err = t.serverNow(ctx, conn)
	}
	if err == nil {
		err = t.awaitWAL(ctx, o.timeline, o.start, stop, report)
	}
	if err == nil {
		err = w.judgePages(ctx, rereadFrom(src))
	}
	if err != nil {
		w.abort()
		return nil, err
	}
	return w, nil
}

// startOnline begins a backup through SQL.
func (t *Taker) startOnline(ctx context.Context, conn *pgx.Conn, opt Options) (*online, error) {
	o := &online{conn: conn, version: t.Cluster.Version()}
	var start string
	if err := conn.QueryRow(ctx, `select `+o.version.StartBackup+`::pg_catalog.text`, "velvet "+opt.ID,
		opt.Checkpoint == Fast).Scan(&start); err != nil {
		return nil, doubtful("the server does not let this role begin a backup through SQL: %w", err)
	}
	var err error
	if o.start, err = pg.ParseLSN(start); err != nil {
		return nil, err
	}
	if err := conn.QueryRow(ctx, `select timeline_id from pg_catalog.pg_control_checkpoint()`).Scan(&o.timeline); err != nil {
		return nil, doubtful("the server's timeline: %w", err)
	}
	o.spaces, err = tablespaces(ctx, conn)
	return o, err
}

// tablespaces are those that lie outside the data directory; there must be no other.
func tablespaces(ctx context.Context, conn *pgx.Conn) ([]layout.TablespaceEntry, error) {
	rows, err := conn.Query(ctx, `select oid, pg_catalog.pg_tablespace_location(oid) from pg_catalog.pg_tablespace
		where pg_catalog.pg_tablespace_location(oid) operator(pg_catalog.<>) '' order by oid`)
	if err != nil {
		return nil, err
	}
	spaces, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (e layout.TablespaceEntry, err error) {
		return e, row.Scan(&e.OID, &e.Location)
	})
	for _, s := range spaces {
		if !strings.HasPrefix(s.Location, "/") {
			return nil, doubtful("tablespace %d lies within the data directory", s.OID)
		}
	}
	return spaces, err
}

// stop ends the backup: its label belongs into it.
func (o *online) stop(ctx context.Context) (stop pg.LSN, err error) {
	var at string
	err = o.conn.QueryRow(ctx, `select lsn::pg_catalog.text, labelfile, coalesce(spcmapfile, '') from `+o.version.StopBackup).Scan(&at,
		&o.label, &o.spaceMap)
	if err != nil {
		return 0, fmt.Errorf("end the backup: %w", err)
	}
	return pg.ParseLSN(at)
}

// changedSince gathers the pages that the WAL between the starts of both backups changes.
func (t *Taker) changedSince(ctx context.Context, old *former, o *online, report task.Report) (*blocks.Set, error) {
	if old.tail.Timeline != o.timeline {
		return nil, doubtful("base %s is of timeline %d, the server is on %d", old.id, old.tail.Timeline, o.timeline)
	}
	if old.tail.Start > o.start {
		return nil, doubtful("base %s begins after this one", old.id)
	}
	if err := t.awaitWAL(ctx, o.timeline, old.tail.Start, o.start, report); err != nil {
		return nil, doubt{err}
	}
	set, err := t.changedBetween(ctx, o.timeline, old.tail.Start, o.start)
	if err != nil {
		return nil, doubtful("what has changed since base %s is not known for certain: %w", old.id, err)
	}
	return set, nil
}

// changedBetween gathers the pages that a stretch of captured WAL changes.
func (t *Taker) changedBetween(ctx context.Context, timeline pg.Timeline, from, to pg.LSN) (*blocks.Set, error) {
	a, err := archive.Open(ctx, t.Catalog, t.Store, t.Spool, t.Cluster)
	if err != nil {
		return nil, err
	}
	if a.Timeline != timeline {
		return nil, fmt.Errorf("capture is on timeline %d, the server on %d", a.Timeline, timeline)
	}
	book, err := t.Books.Of(ctx, t.Cluster.ID)
	if err != nil {
		return nil, err
	}
	j, err := changes.Open(ctx, a, t.Codec, book)
	if err != nil {
		return nil, err
	}
	return j.Blocks(ctx, from, to)
}

// readChanged feeds every file: what has changed of it is read, the rest is taken over.
func (t *Taker) readChanged(ctx context.Context, w *writer, src source, o *online, changed *blocks.Set) (stop pg.LSN, err error) {
	err = walk(ctx, src, o.version, o.spaces, func(f layout.File) error {
		if f.Dir {
			return w.file(f, nil)
		}
		return w.changedFile(ctx, src, f, changed)
	})
	if err != nil {
		return 0, err
	}
	if err := w.control(ctx, src); err != nil {
		return 0, err
	}
	if stop, err = o.stop(ctx); err != nil {
		return 0, err
	}
	for name, content := range map[string]string{labelFile: o.label, "tablespace_map": o.spaceMap} {
		if content == "" {
			continue
		}
		f := layout.File{Path: name, Mode: 0o600, Size: int64(len(content)), Modified: time.Now().UTC()}
		if err := w.file(f, strings.NewReader(content)); err != nil {
			return 0, err
		}
	}
	if err := t.saveConfiguration(ctx, w); err != nil {
		return 0, err
	}
	return stop, w.drain()
}

// control feeds pg_control, which the server may be writing at this moment.
func (w *writer) control(ctx context.Context, src source) error {
	f, err := src.open(ctx, controlFile)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	part := make([]byte, pg.ControlFileSize)
	for try := 0; ; try++ {
		if _, err := f.ReadAt(part, 0); err != nil {
			return fmt.Errorf("%s: %w", controlFile, err)
		}
		if _, err = pg.ParseControl(part); err == nil {
			break
		}
		if try == 20 {
			return fmt.Errorf("%s: %w", controlFile, err)
		}
	}
	entry := layout.File{Path: controlFile, Mode: 0o600, Size: int64(len(part)), Modified: time.Now().UTC()}
	return w.file(entry, strings.NewReader(string(part)))
}

// changedFile feeds a file of the data directory. One that is gone meanwhile is left
// out: the WAL says so too.
func (w *writer) changedFile(ctx context.Context, src source, f layout.File, changed *blocks.Set) error {
	want, err := w.wanted(&f, changed)
	if err != nil {
		return err
	}
	var in content
	if !want.none() {
		in, err = src.open(ctx, f.Path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		defer func() { _ = in.Close() }()
	}
	return w.feedParts(&f, want, in)
}

// parts are the extents of a file that must be read; all of them if list is nil and all is set.
type parts struct {
	all  bool
	list map[int]bool
	from int // and all from this one on
}

func (p parts) none() bool     { return !p.all && len(p.list) == 0 }
func (p parts) has(n int) bool { return p.all || n >= p.from || p.list[n] }

// wanted tells which extents of a file must be read.
func (w *writer) wanted(f *layout.File, changed *blocks.Set) (parts, error) {
	old, err := w.former.find(f)
	if err != nil {
		return parts{}, err
	}
	fork, first, covered := forkOf(f.Path)
	if old == nil || !covered || f.Size%pg.BlockSize != 0 || old.Size%pg.BlockSize != 0 {
		return parts{all: true}, nil
	}
	f.Mode = old.Mode
	pages := uint32(f.Size / pg.BlockSize)
	const each = layout.ExtentSize / pg.BlockSize
	list, cut := changed.Since(fork, first, first+pages)
	p := parts{list: make(map[int]bool), from: f.Extents()}
	for _, b := range list {
		p.list[int(b-first)/each] = true
	}
	for _, d := range w.former.tail.Damaged { // known until it is seen whole
		if d.Path == f.Path && d.Block >= first && d.Block < first+pages {
			p.list[int(d.Block-first)/each] = true
		}
	}
	// Behind what it had, or what was cut off meanwhile, nothing can be taken over.
	known := min(cut-first, uint32(old.Size/pg.BlockSize), pages)
	if known < pages || old.Size != f.Size {
		p.from = int(known) / each
		for n := p.from; n < f.Extents(); n++ {
			p.list[n] = true
		}
	}
	return p, nil
}

// forkOf tells of which fork a file holds pages, and from which on. covered is false
// where the WAL does not tell of every change: there a file is read as a whole.
func forkOf(name string) (f blocks.Fork, first uint32, covered bool) {
	relation, rel, ok := wal.RelationOf(name)
	if !ok || rel.Fork == "fsm" || rel.Fork == "vm" {
		return f, 0, false
	}
	const initFork = 3
	f.Relation = relation
	if rel.Fork == "init" {
		f.Number = initFork
	}
	return f, rel.FirstBlock(), true
}

// feedParts feeds a file: the extents that are wanted from in, the others as they were.
func (w *writer) feedParts(entry *layout.File, want parts, in content) error {
	f, err := w.begin(entry)
	if err != nil {
		return err
	}
	total := max(1, entry.Extents())
	for n := 0; n < total; {
		if entry.Size > 0 && !want.has(n) {
			next := n
			for next < total && !want.has(next) {
				next++
			}
			if err := w.feedKept(f, n, next, next == total); err != nil {
				return err
			}
			n = next
			continue
		}
		p, err := f.take(n, min(entry.Size-int64(n)*layout.ExtentSize, layout.ExtentSize))
		if err != nil {
			return err
		}
		if err := readFull(in, p.plain, int64(n)*layout.ExtentSize); err != nil {
			return fmt.Errorf("%s: %w", entry.Path, err)
		}
		n++
		p.last = n == total
		if err := w.give(p); err != nil {
			return err
		}
	}
	return nil
}

// feedKept takes the extents numbered from to before next over as they were.
func (w *writer) feedKept(f *feeding, from, next int, last bool) error {
	for n := from; n < next; {
		p, err := f.take(n, 0)
		if err != nil {
			return err
		}
		end := min(next, (n/layout.SheetExtents+1)*layout.SheetExtents)
		for ; n < end; n++ {
			e, ok, err := f.old.at(w.ctx, n)
			if err != nil {
				return err
			}
			if !ok {
				return fmt.Errorf("%s: base %s has no extent %d to take over", f.entry.Path, f.old.former.id, n)
			}
			p.kept = append(p.kept, e)
		}
		p.last = last && n == next
		if err := w.give(p); err != nil {
			return err
		}
	}
	return nil
}

// readFull reads a part of a file. What was cut off meanwhile is zeroes, as in the
// server's own base backups: replay cuts it off too.
func readFull(in content, part []byte, at int64) error {
	if len(part) == 0 {
		return nil
	}
	n, err := in.ReadAt(part, at)
	if errors.Is(err, io.EOF) || errors.Is(err, fs.ErrNotExist) {
		clear(part[n:])
		return nil
	}
	return err
}

func rereadFrom(src source) reread {
	return func(ctx context.Context, path string, offset, length int64) ([]byte, error) {
		f, err := src.open(ctx, path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		defer func() { _ = f.Close() }()
		part := make([]byte, length)
		n, err := f.ReadAt(part, offset)
		if errors.Is(err, io.EOF) || errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return part[:n], err
	}
}
