package retrieve

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
	"velvetrewind/engine/restore/copies"
)

// CompareWish is what is to be compared, and how.
type CompareWish struct {
	Database string
	Tables   []journal.Table // with those of Schemas; none for all
	Schemas  []string
	Where    string // a condition that rows have to meet on both sides, "" for none
	Since    pg.LSN // where the copy stands
	Shown    int    // so many rows that differ are shown of a table; all are counted
}

// usuallyShown is how many rows that differ are shown where nobody says how many.
const usuallyShown = 20

// Compare holds tables of a database of the copy against the live ones. Rows are divided into shares by
// their keys, and only of shares that do not add up to the same are rows transferred. Nothing is changed.
func (r *Retriever) Compare(ctx context.Context, w CompareWish, report task.Report) (list []rescue.Comparison, err error) {
	database, tables := w.Database, w.Tables
	err = r.reading(ctx, database, report, func(s *session) error {
		if err := s.confine(ctx, w.Where); err != nil {
			return err
		}
		rows, err := s.old.Query(ctx, `select c.oid, c.oid, n.nspname::pg_catalog.text, c.relname::pg_catalog.text,
			c.relkind::pg_catalog.text, 0::pg_catalog.oid, '' from pg_catalog.pg_class c
			join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
			where c.relkind operator(pg_catalog.=) any ('{r,p}') and not c.relispartition
			and c.relpersistence operator(pg_catalog.=) 'p' and c.oid operator(pg_catalog.>=) 16384::pg_catalog.oid order by 3, 4`)
		if err != nil {
			return err
		}
		all, err := pgx.CollectRows(rows, pgx.RowToAddrOfStructByPos[relation])
		if err != nil {
			return err
		}
		held, err := r.Copy.Part()
		if err != nil {
			return err
		}
		named := func(old *relation, t journal.Table) bool {
			return t.Covers(journal.Name{Database: database, Schema: old.Schema, Table: old.Name})
		}
		if held != nil { // it can be compared with what it has
			whole, err := heldWhole(ctx, s.old, held.OIDs)
			if err != nil {
				return err
			}
			all = slices.DeleteFunc(all, func(old *relation) bool { return !slices.Contains(whole, old.OID) })
			for _, t := range tables {
				if !slices.ContainsFunc(all, func(old *relation) bool { return named(old, t) }) {
					return copies.Whole(r.Copy, t.String()+" was not compared")
				}
			}
		}
		for i, old := range all {
			if len(tables)+len(w.Schemas) > 0 && !slices.Contains(w.Schemas, old.Schema) && !slices.ContainsFunc(tables,
				func(t journal.Table) bool { return named(old, t) }) {
				continue
			}
			report.Progress(int64(i), int64(len(all)), task.Tables, "comparing "+old.Schema+"."+old.Name)
			c, err := s.compare(ctx, old, w)
			if err != nil {
				return fmt.Errorf("%s.%s: %w", old.Schema, old.Name, remedy(err))
			}
			list = append(list, c)
		}
		if len(list) == 0 {
			return problem.New(problem.NotFound, "Name tables as [schema.]table, and the database with --database.", "nothing was compared",
				"the copy has no such table, nor any in such a schema, in database %s", database)
		}
		return nil
	})
	return list, err
}

// heldWhole are the tables that a partial copy holds, and partitioned ones of which it holds every partition.
func heldWhole(ctx context.Context, conn *pgx.Conn, oids []uint32) ([]uint32, error) {
	rows, err := conn.Query(ctx, `select oid from pg_catalog.pg_class c where oid operator(pg_catalog.=) any ($1)
		or relkind operator(pg_catalog.=) 'p' and not exists (select from pg_catalog.pg_partition_tree(c.oid)
			where isleaf and relid::pg_catalog.oid operator(pg_catalog.<>) all ($1))`, oids)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uint32])
}

// compare holds one table of the copy against the live one.
func (s *session) compare(ctx context.Context, old *relation, w CompareWish) (c rescue.Comparison, err error) {
	c = rescue.Comparison{Table: old.Schema + "." + old.Name, Sample: []rescue.Difference{}}
	live, renamed, err := s.counterpart(ctx, old)
	if err != nil {
		return c, err
	}
	if live == nil {
		c.Notes = []string{"the live cluster has no such table any more"}
		return c, nil
	}
	t, err := s.newSide(ctx, old, live)
	if err != nil {
		return c, err
	}
	if c.Notes = t.notes; renamed {
		c.Notes = append(c.Notes, "it is called "+live.Schema+"."+live.Name+" now")
	}
	for i, k := range t.Key {
		if i > 0 {
			c.Key += ", "
		}
		c.Key += k.Name
	}
	from := rescue.Table{Schema: old.Schema, Name: old.Name, Partitioned: old.Kind == "p"}
	then := &rescue.Side{Table: t.Table, From: from.From(), Copy: true, Where: w.Where}
	now := &rescue.Side{Table: t.Table, From: t.From(), Where: w.Where}
	err = s.old.QueryRow(ctx, `select greatest(1, least(50000, reltuples operator(pg_catalog./) 200))::pg_catalog.int8
		from pg_catalog.pg_class where oid operator(pg_catalog.=) $1`, old.OID).Scan(&then.Shares)
	if err != nil {
		return c, err
	}
	now.Shares = then.Shares
	by, err := s.differences(ctx, &c, cmp.Or(w.Shown, usuallyShown), then, now)
	if err != nil {
		return c, err
	}
	if s.Strange {
		return c, nil
	}
	return c, s.explain(ctx, &c, t, w.Database, w.Since, by)
}

// differences finds the shares that do not add up to the same, and the rows in them that differ. It gives which transaction's the live
// ones are that are shown.
func (s *session) differences(ctx context.Context, c *rescue.Comparison, shown int, then, now *rescue.Side) (by map[string]pg.XID,
	err error) {
	type sums struct {
		tally map[int64]rescue.Tally
		err   error
	}
	add := func(conn *pgx.Conn, side *rescue.Side) (r sums) {
		r.tally = make(map[int64]rescue.Tally)
		rows, err := conn.Query(ctx, side.Sums())
		if err == nil {
			var share int64
			var t rescue.Tally
			_, err = pgx.ForEachRow(rows, []any{&share, &t.Rows, &t.Sum}, func() error { r.tally[share] = t; return nil })
		}
		r.err = err
		return r
	}
	other := make(chan sums, 1)
	go func() { other <- add(s.old, then) }()
	live := add(s.tx.Conn(), now)
	copied := <-other
	if err := cmp.Or(live.err, copied.err); err != nil {
		return nil, err
	}
	var differ []int64
	for share, t := range copied.tally {
		if c.Copy += t.Rows; live.tally[share] != t {
			differ = append(differ, share)
		}
	}
	for share, t := range live.tally {
		if c.Live += t.Rows; copied.tally[share].Rows == 0 {
			differ = append(differ, share)
		}
	}
	if len(differ) == 0 {
		return nil, nil
	}
	if err := s.merge(ctx, c, shown, then, now, differ); err != nil {
		return nil, err
	}
	return s.sample(ctx, c, then, now)
}

// counted is a row, or several that are alike.
type counted struct {
	share int64
	key   string
	hash  int64
	n     int64
}

func (r *counted) before(o *counted) bool {
	if r.share != o.share {
		return r.share < o.share
	}
	if r.key != o.key {
		return r.key < o.key
	}
	return false
}

// merge goes over the rows of both sides in one order.
func (s *session) merge(ctx context.Context, c *rescue.Comparison, shown int, then, now *rescue.Side, differ []int64) error {
	old, err := s.old.Query(ctx, then.Rows(), differ)
	if err != nil {
		return err
	}
	defer old.Close()
	live, err := s.tx.Query(ctx, now.Rows(), differ)
	if err != nil {
		return err
	}
	defer live.Close()
	next := func(rows pgx.Rows) (*counted, error) {
		if !rows.Next() {
			return nil, rows.Err()
		}
		var r counted
		return &r, rows.Scan(&r.share, &r.key, &r.hash, &r.n)
	}
	a, err := next(old)
	if err != nil {
		return err
	}
	b, err := next(live)
	for err == nil && (a != nil || b != nil) {
		switch {
		case b == nil || a != nil && a.before(b):
			note(c, shown, rescue.IsMissing, a.key, a.n, &c.Missing)
			a, err = next(old)
			continue
		case a == nil || b.before(a):
			note(c, shown, rescue.IsAdded, b.key, b.n, &c.Added)
			b, err = next(live)
			continue
		case a.hash != b.hash:
			note(c, shown, rescue.IsChanged, a.key, 1, &c.Changed)
		case a.n > b.n:
			note(c, shown, rescue.IsMissing, a.key, a.n-b.n, &c.Missing)
		case a.n < b.n:
			note(c, shown, rescue.IsAdded, a.key, b.n-a.n, &c.Added)
		}
		if a, err = next(old); err == nil {
			b, err = next(live)
		}
	}
	return err
}

func note(c *rescue.Comparison, shown int, how, key string, n int64, to *int64) {
	if *to += n; len(c.Sample) < shown {
		c.Sample = append(c.Sample, rescue.Difference{How: how, Key: key})
	}
}

// sample reads the rows that are shown, and which transaction's the live ones are.
func (s *session) sample(ctx context.Context, c *rescue.Comparison, then, now *rescue.Side) (by map[string]pg.XID, err error) {
	by = make(map[string]pg.XID)
	keys := make([]string, len(c.Sample))
	for i, d := range c.Sample {
		keys[i] = d.Key
	}
	read := func(conn *pgx.Conn, side *rescue.Side, to func(*rescue.Difference) *string) error {
		rows, err := conn.Query(ctx, side.Shown(), keys)
		if err != nil {
			return err
		}
		var key, row string
		var xmin int64
		_, err = pgx.ForEachRow(rows, []any{&key, &row, &xmin}, func() error {
			if !side.Copy {
				by[key] = pg.XID(xmin)
			}
			if i := slices.Index(keys, key); i >= 0 {
				*to(&c.Sample[i]) = row
			}
			return nil
		})
		return err
	}
	if err := read(s.old, then, func(d *rescue.Difference) *string { return &d.Copy }); err != nil {
		return nil, err
	}
	return by, read(s.tx.Conn(), now, func(d *rescue.Difference) *string { return &d.Live })
}
