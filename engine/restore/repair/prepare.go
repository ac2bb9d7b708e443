package repair

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/reach"
	"velvetrewind/core/task"
	"velvetrewind/core/wal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/server/remains"
)

// Wish is what is to be repaired.
type Wish struct {
	Tablespaces []string // by oid or place; those and Relations nil for everything
	Relations   []string // by the path of their first file, as the server names it, or as DATABASE.SCHEMA.NAME
	Now         time.Time
}

// Past is what is known of the cluster.
type Past struct {
	Catalog *catalog.Catalog
	Archive *archive.Archive
	Journal *changes.Journal
	Book    *names.Book
}

const title = "nothing was changed"

func refuse(next, why string, args ...any) error {
	return problem.New(problem.Conflict, next, title, why, args...)
}

// Prepare makes sure that a repair is possible and would be right, and says by what the cluster is judged.
func Prepare(ctx context.Context, p Past, m host.Machine, w Wish, report task.Report) (o Order, err error) {
	k := p.Archive.Cluster
	if k.DataDirectory == "" {
		return o, refuse("Grant the registered role pg_read_all_settings: velvet cluster ready "+k.Name,
			"where the data directory of %s lies is not known", k.Name)
	}
	if o.Original, err = stopped(m, k); err != nil {
		return o, err
	}
	if err := p.knownTablespaces(ctx, &o); err != nil {
		return o, err
	}
	control, err := m.Control(o.Original.User, k.DataDirectory)
	if err != nil {
		return o, err
	}
	o.Cluster, o.SegmentSize, o.Checksums, o.Aside = k.ID, k.SegmentSize, control.DataChecksums, host.AsideName(w.Now)
	o.Directory = k.Version().TablespaceDirectory()
	if control.Timeline != p.Archive.Timeline {
		return o, refuse(instead(k), "the cluster is on timeline %d, and what was captured on %d", control.Timeline, p.Archive.Timeline)
	}
	whole, err := p.end(ctx, m, control, &o)
	if err != nil {
		return o, err
	}
	if err := p.base(ctx, &o, control); err != nil {
		return o, err
	}
	if o.Only, err = p.only(ctx, w, o.Original); err != nil {
		return o, err
	}
	if o.Only != nil && !whole && control.State != pg.ShutDown {
		report.Warn("everything is compared, and not only what was named: the WAL that the server wrote last is not in its directory, " +
			"and pages may be of a time that no WAL reaches")
		o.Only = nil
	}
	return o, nil
}

// instead is what to do where a repair cannot be right.
func instead(k catalog.Cluster) string {
	return "Restore all of it instead: velvet restore takeover " + k.Name + " latest"
}

// stopped makes sure that the cluster's server does not run, and that its directory is the cluster's.
func stopped(m host.Machine, k catalog.Cluster) (o host.Original, err error) {
	o, err = m.Inspect(k.DataDirectory, k.SystemID)
	switch {
	case errors.Is(err, host.ErrGone):
		return o, refuse(instead(k), "without its control file nothing tells whose directory %s is: %v", k.DataDirectory, err)
	case err != nil:
		return o, refuse("A repair needs the directory to be of an OS user of --run-as, and on a host with an agent to lie in one of the "+
			"directories that host.yaml there names as databases.", "the data directory %s: %v", k.DataDirectory, err)
	case o.Standby:
		return o, refuse("Make the standby anew, or repair its primary.", "%s is the directory of a standby", k.DataDirectory)
	}
	works, err := m.WorkedIn(k.DataDirectory)
	if err != nil {
		return o, err
	}
	if o.Running || works {
		how := "pg_ctl stop -D " + k.DataDirectory
		if o.Unit != "" {
			how = "systemctl stop " + o.Unit
		}
		return o, refuse("Stop it: "+how, "the server of %s runs", k.Name)
	}
	return o, nil
}

// knownTablespaces adds the tablespaces that the cluster had when it was last seen, and whose links are lost.
func (p Past) knownTablespaces(ctx context.Context, o *Order) error {
	seen, err := p.Catalog.Original(ctx, p.Archive.Cluster.ID)
	if err != nil || seen == nil {
		return err
	}
	was, err := seen.Server()
	if err != nil {
		return err
	}
	if was.DataDir != o.Original.DataDir {
		return nil
	}
	if o.Original.Tablespaces == nil {
		o.Original.Tablespaces = make(map[uint32]string)
	}
	for oid, at := range was.Tablespaces {
		if o.Original.Tablespaces[oid] == "" {
			o.Original.Tablespaces[oid] = at
		}
	}
	o.Original.Unit, o.Original.Log = was.Unit, was.Log
	if len(o.Original.Args) == 0 {
		o.Original.Args = was.Args
	}
	return nil
}

// waits is how long the cluster's last WAL may take to be taken in.
const waits = 20 * time.Second

// end learns how far the WAL reaches that is to be replayed, which is the cluster's own latest; whole says that its directory has what it
// wrote last.
func (p Past) end(ctx context.Context, m host.Machine, control pg.Control, o *Order) (whole bool, err error) {
	k := p.Archive.Cluster
	var state catalog.Capture
	for began := time.Now(); ; {
		if state, err = p.Catalog.Capture(ctx, k.ID); err != nil {
			return false, err
		}
		if state.FlushedLSN == 0 || state.Timeline != control.Timeline {
			return false, refuse(instead(k), "nothing was captured of timeline %d, on which the cluster is", control.Timeline)
		}
		o.Captured, o.End = state.FlushedLSN, state.FlushedLSN
		left, err := remains.Open(m, k.DataDirectory, k.SystemID, k.SegmentSize)
		if err != nil {
			break // a repair that was interrupted, or WAL that cannot be read
		}
		end, err := left.End(ctx, control.Timeline, state.FlushedLSN, nil)
		whole = err == nil && left.Has(pg.Segment{Timeline: control.Timeline, Number: k.SegmentSize.Number(state.FlushedLSN - 1)})
		_ = left.Close()
		if err == nil {
			o.End = max(o.End, end)
		}
		all := o.End == o.Captured && (control.State != pg.ShutDown || control.Checkpoint < o.End) // what was sent last may be on its way
		if all || !state.Wanted || time.Since(began) > waits {
			break
		}
		select {
		case <-ctx.Done():
			return false, context.Cause(ctx)
		case <-time.After(200 * time.Millisecond):
		}
	}
	if control.Checkpoint >= o.End {
		return whole, refuse(instead(k)+". It gives up what was committed after that.",
			"its control file is of %s, and WAL is known up to %s alone", control.Checkpoint, o.End)
	}
	return whole, nil
}

// base chooses the newest base backup that can be relied on, and gathers what the WAL since does.
func (p Past) base(ctx context.Context, o *Order, control pg.Control) error {
	k, a := p.Archive.Cluster, p.Archive
	told, err := p.Journal.Told(ctx)
	if err != nil {
		return err
	}
	bases := slices.Clone(a.Bases)
	slices.SortFunc(bases, func(x, y reach.Base) int { return cmp.Compare(y.Start, x.Start) }) // the newest first
	why := errors.New("there is no base backup of its timeline")
	for _, b := range bases {
		if b.Timeline != control.Timeline || b.Stop > told {
			continue
		}
		record, err := p.Catalog.Backup(ctx, b.ID)
		if err != nil {
			return err
		}
		if record.PageFaults > 0 {
			why = fmt.Errorf("base %s holds %d damaged pages", b.ID, record.PageFaults)
			continue
		}
		set, err := p.Journal.Blocks(ctx, b.Start, told)
		if err == nil {
			o.Gone, o.Databases, err = p.Journal.Removed(ctx, b.Start, told)
		}
		if err != nil {
			why = fmt.Errorf("the WAL since base %s is not whole: %w", b.ID, err)
			continue
		}
		o.Base, o.Start, o.Changed = b.ID, b.Start, set.List()
		for n := k.SegmentSize.Number(b.Start); n <= k.SegmentSize.Number(o.Captured-1); n++ {
			o.Segments = append(o.Segments, a.SegmentOf(n))
		}
		return nil
	}
	return refuse(instead(k), "%v", why)
}

// only tells which files are to be repaired.
func (p Past) only(_ context.Context, w Wish, o host.Original) (list []string, err error) {
	for _, t := range w.Tablespaces {
		found := false
		for oid, at := range o.Tablespaces {
			if at == t || strconv.FormatUint(uint64(oid), 10) == t {
				list, found = append(list, pathOnly(fmt.Sprintf("pg_tblspc/%d", oid), true)), true
			}
		}
		if !found {
			return nil, problem.New(problem.Invalid, "Name it by where it lies, or by its oid.", title,
				"%s has no tablespace %q; it has %v", p.Archive.Cluster.Name, t, o.Tablespaces)
		}
	}
	for _, name := range w.Relations {
		if _, ok := pg.ParseRelationFile(name); ok {
			list = append(list, pathOnly(name, false))
			continue
		}
		files := p.Book.Files(name)
		if len(files) == 0 {
			return nil, problem.New(problem.Invalid,
				"Name it as the server's message does, as base/16384/16385, or as DATABASE.SCHEMA.NAME.", title,
				"no relation %q is known", name)
		}
		for _, ref := range files {
			list = append(list, pathOf(ref, p.Archive.Cluster.Version()))
		}
	}
	return list, nil
}

// pathOf is the path of the first file of a relation.
func pathOf(ref wal.RelationRef, v *pg.Version) string {
	switch ref.Space {
	case wal.GlobalSpace:
		return fmt.Sprintf("global/%d", ref.Filenode)
	case wal.DefaultSpace:
		return fmt.Sprintf("base/%d/%d", ref.Database, ref.Filenode)
	}
	return fmt.Sprintf("pg_tblspc/%d/%s/%d/%d", ref.Space, v.TablespaceDirectory(), ref.Database, ref.Filenode)
}
