package copies

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"velvetrewind/core/figures"
	"velvetrewind/core/partial"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/feed"
)

// lacksFile, in the directory of a copy, lists what it lacks, and so marks it as partial.
const lacksFile = "lacks"

// part is what a partial copy holds, and lacks; nil for a whole one.
type part struct {
	spec  *partial.Spec
	lacks partial.Lacks
}

// MakePart makes a copy that holds nothing but some tables and the catalogs. Where that cannot be done surely it makes a whole one,
// and says why. On an error nothing of it is left.
func (c *Maker) MakePart(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, p plan.Restore, spec *partial.Spec,
	lacks partial.Lacks, report task.Report) (err error) {
	defer func() { c.undo(ctx, cluster, k, err, report) }()
	own, err := c.of(k)
	if err != nil {
		return err
	}
	backup, err := c.Catalog.Backup(ctx, k.BackupID)
	if err != nil {
		return err
	}
	wanted, less := &part{spec, lacks}, backup
	if less.BytesHeld, err = restore.PartSize(ctx, c.Store, backup.ClusterID, backup.ID, lacks); err != nil {
		return err
	}
	err = own.make(ctx, cluster, &k, less, p, wanted, report)
	if err == nil {
		err = own.holds(ctx, cluster, k, wanted)
	}
	if err == nil || ctx.Err() != nil {
		return err
	}
	if why := own.whyNot(k); why != "" {
		err = errors.New(why)
	}
	report.Warn("a partial copy could not be made, so that it becomes a whole one: %v", err)
	if err := own.Host.Stop(ctx, Server(k, cluster.Major()), host.Immediate); err != nil {
		return err
	}
	err = errors.Join(own.Host.DropSocketDir(k.Directory), own.Host.RemoveTree(k.Directory), c.Catalog.MakeWhole(ctx, k.ID))
	if err != nil {
		return err
	}
	k.State, k.Partial, k.ReplayedLSN, k.PausedLSN, k.ReplayedTo.Valid = catalog.CopyLayingOut, nil, 0, 0, false
	if err := own.save(ctx, k); err != nil {
		return err
	}
	return own.make(ctx, cluster, &k, backup, p, nil, report)
}

// whyNot is what a delivery has noted that a partial copy could not be given; "" for nothing.
func (c *Maker) whyNot(k catalog.Copy) string {
	t, err := c.Host.Files(k.Directory) // in which its OS user may have put a link
	if err != nil {
		return ""
	}
	defer func() { _ = t.Close() }()
	why, err := t.ReadFile(filepath.Join(feedDir, feed.WhyFile))
	if err != nil {
		return ""
	}
	return string(why)
}

// layOutPart lays out what a partial copy holds, after the list of what it lacks.
func (c *Maker) layOutPart(ctx context.Context, k catalog.Copy, backup catalog.Backup, t restore.Trees, part *part,
	report task.Report) (laid restore.Laid, err error) {
	report.Log("of it only %s; %s in all", part.spec, figures.Size(backup.BytesHeld))
	if err := put(t, lacksFile, part.lacks); err != nil {
		return laid, err
	}
	return c.layOut(ctx, k, backup, t, false, part, report)
}

// ReadLacks reads the list of what a partial copy lacks from its directory.
func ReadLacks(f host.Files, name string) (partial.Lacks, error) {
	written, err := f.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return partial.Read(written)
}

// follows refuses WAL that a partial copy cannot be given.
func (p *part) follows(segments []pg.Segment) error {
	if p != nil && segments[0].Timeline != segments[len(segments)-1].Timeline {
		return fmt.Errorf("%w: it goes over from timeline %d to %d", wal.ErrSieve, segments[0].Timeline, segments[len(segments)-1].Timeline)
	}
	return nil
}

// settings are what a partial copy is configured with besides: were it opened by hand, it would still not be written to.
func (p *part) settings() string {
	if p == nil {
		return ""
	}
	return "\n# It holds only some tables: " + lacksFile + " beside the data directory lists the files that it lacks.\n" +
		"default_transaction_read_only = on\n"
}

// holds makes sure that a copy has every file of the tables that it was made for, and that none of them was left out.
func (c *Maker) holds(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, part *part) error {
	conn, err := Connect(ctx, c.Host, k, cluster, part.spec.Database)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	rows, err := conn.Query(ctx, `with own as (select oid from pg_catalog.pg_class where oid operator(pg_catalog.=) any ($1)),
		toasts as (select c.reltoastrelid as oid from own join pg_catalog.pg_class c on c.oid operator(pg_catalog.=) own.oid
			where c.reltoastrelid operator(pg_catalog.<>) 0),
		tables as (select oid from own union select oid from toasts),
		files as (select oid from tables union select i.indexrelid from tables
			join pg_catalog.pg_index i on i.indrelid operator(pg_catalog.=) tables.oid)
		select c.oid::pg_catalog.regclass::pg_catalog.text, pg_catalog.pg_relation_filepath(c.oid),
			(pg_catalog.pg_stat_file(pg_catalog.pg_relation_filepath(c.oid), true)).size is not null
		from files join pg_catalog.pg_class c on c.oid operator(pg_catalog.=) files.oid
		where pg_catalog.pg_relation_filepath(c.oid) is not null and c.relpersistence operator(pg_catalog.=) 'p'`, part.spec.OIDs)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, path string
		var there bool
		if err := rows.Scan(&name, &path, &there); err != nil {
			return err
		}
		if !there || part.lacks.HasFile(path) {
			return fmt.Errorf("it lacks the file of %s, %s", name, path)
		}
	}
	return rows.Err()
}

// Whole refuses a partial copy where a whole one is needed.
func Whole(k catalog.Copy, title string) error {
	spec, err := k.Part()
	if err != nil || spec == nil {
		return err
	}
	return problem.New(problem.Conflict, "Make a whole one: velvet restore start CLUSTER MOMENT", title,
		"the copy %s is partial: it holds only %s", k.Name, spec)
}
