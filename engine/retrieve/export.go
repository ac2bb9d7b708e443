package retrieve

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/journal"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/restore/copies"
)

// The forms in which rows are written elsewhere.
const (
	FormCSV     = "csv"
	FormParquet = "parquet"
	FormSQL     = "sql"
)

// Export is rows of one table of a copy on their way elsewhere. It reads the copy alone; the live cluster may be down.
type Export struct {
	conn    *pgx.Conn
	table   rescue.Exported
	columns []column
	parts   []part // in the order in which they are written
	form    string
}

// part is a stretch of rows of one table or partition.
type part struct {
	oid  uint32
	rows []changes.RowPlace // nil for all
}

// ExportWish is what is to be written.
type ExportWish struct {
	Database string
	Table    journal.Table
	Entry    *changes.Entry // only the rows that it took; nil for every row
	Apart    bool           // as a Wish has it
	Where    string         // a condition, "" for none
	Form     string
	Into     journal.Table // what SQL calls the table; none for its own name
}

const exportTitle = "nothing was written"

// Exporting opens the copy and finds the table and its rows. What it returns has to be closed.
func (r *Retriever) Exporting(ctx context.Context, w ExportWish) (e *Export, err error) {
	conn, err := copies.Connect(ctx, r.Host, r.Copy, r.Cluster, w.Database)
	if err != nil {
		return nil, err
	}
	x := &Export{form: w.Form, conn: conn}
	defer func() {
		if err != nil {
			x.Close()
		}
	}()
	if _, err = x.conn.Exec(ctx, texts+"; set default_transaction_read_only = on"); err != nil {
		return nil, err
	}
	s := &session{Retriever: r, old: x.conn}
	old, err := s.exported(ctx, w)
	if err != nil {
		return nil, err
	}
	if x.columns, err = s.columns(ctx, x.conn, old.OID); err != nil {
		return nil, err
	}
	if len(x.columns) == 0 {
		return nil, problem.New(problem.Invalid, "", exportTitle, "%s.%s has no column", old.Schema, old.Name)
	}
	x.table = rescue.Exported{Schema: old.Schema, Name: old.Name, Where: w.Where, IntoSchema: w.Into.Schema,
		IntoName: w.Into.Name}
	for _, c := range x.columns {
		x.table.Columns = append(x.table.Columns, rescue.ExportedColumn{Name: c.Name, Type: c.Type})
	}
	if x.parts, err = s.exportedParts(ctx, old, w); err != nil {
		return nil, err
	}
	err = s.confine(ctx, w.Where)
	if x.conn = s.old; err != nil {
		return nil, err
	}
	return x, x.try(ctx)
}

// exported finds the table on the copy.
func (s *session) exported(ctx context.Context, w ExportWish) (*relation, error) {
	rows, err := s.old.Query(ctx, `select c.oid, c.oid, n.nspname::pg_catalog.text, c.relname::pg_catalog.text, c.relkind::pg_catalog.text,
		0::pg_catalog.oid, '' from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
		where c.relkind operator(pg_catalog.=) any ('{r,p,m}') and c.relpersistence operator(pg_catalog.=) 'p' order by 3, 4`)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToAddrOfStructByPos[relation])
	if err != nil {
		return nil, err
	}
	all = slices.DeleteFunc(all, func(old *relation) bool {
		return !w.Table.Covers(journal.Name{Database: w.Database, Schema: old.Schema, Table: old.Name})
	})
	switch len(all) {
	case 0:
		return nil, problem.New(problem.NotFound, "Name it as [schema.]table, and its database with --database.", exportTitle,
			"the copy has no table %s in database %s", w.Table, w.Database)
	case 1:
		return all[0], nil
	}
	return nil, problem.New(problem.Invalid, "Name it with its schema.", exportTitle, "%s is %s.%s, and also %s.%s", w.Table,
		all[0].Schema, all[0].Name, all[1].Schema, all[1].Name)
}

// exportedParts are the rows to be written: all, or those that the transaction took from the table and its partitions.
func (s *session) exportedParts(ctx context.Context, old *relation, w ExportWish) (list []part, err error) {
	if w.Entry == nil {
		return []part{{oid: old.OID}}, nil
	}
	rows, err := s.old.Query(ctx, `select relid::pg_catalog.oid from pg_catalog.pg_partition_tree($1::pg_catalog.oid::pg_catalog.regclass)
		union select $1::pg_catalog.oid`, old.OID)
	if err != nil {
		return nil, err
	}
	below, err := pgx.CollectRows(rows, pgx.RowTo[uint32])
	if err != nil {
		return nil, err
	}
	places, err := s.Journal.Places(ctx, *w.Entry, w.Apart, func(n journal.Name) bool { return slices.Contains(below, n.OID) })
	if err != nil {
		return nil, err
	}
	for _, c := range w.Entry.Tables {
		if slices.Contains(below, c.OID) && c.Counts[journal.Truncate]+c.Counts[journal.Drop] > 0 {
			list = append(list, part{oid: c.OID})
		}
	}
	for _, p := range places {
		if !slices.ContainsFunc(list, func(q part) bool { return q.oid == p.Table.OID }) && len(p.List) > 0 {
			list = append(list, part{p.Table.OID, p.List})
		}
	}
	if len(list) == 0 {
		err = problem.New(problem.NotFound, "Have every row of it written: --every-row", exportTitle,
			"transaction %d took no row of %s.%s", w.Entry.XID, old.Schema, old.Name)
	}
	return list, err
}

// try has the copy look at the query, so that what is wrong with it is told before anything is written.
func (e *Export) try(ctx context.Context) error {
	for _, p := range e.parts {
		name, err := e.name(ctx, p)
		if err != nil {
			return err
		}
		_, err = e.conn.Exec(ctx, e.table.Looking(name))
		var pgErr *pgconn.PgError
		if errors.As(err, &pgErr) {
			return problem.New(problem.Invalid, "See what the copy holds with: velvet copy show", exportTitle, "the copy refused it: %s",
				pgErr.Message)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// name is what a part's table is called in SQL.
func (e *Export) name(ctx context.Context, p part) (name string, err error) {
	err = e.conn.QueryRow(ctx, `select pg_catalog.quote_ident(n.nspname) operator(pg_catalog.||) '.' operator(pg_catalog.||)
		pg_catalog.quote_ident(c.relname) from pg_catalog.pg_class c join pg_catalog.pg_namespace n
		on n.oid operator(pg_catalog.=) c.relnamespace where c.oid operator(pg_catalog.=) $1`, p.oid).Scan(&name)
	return name, err
}

// Write writes the rows.
func (e *Export) Write(ctx context.Context, to io.Writer) error {
	if e.form == FormParquet {
		return e.parquet(ctx, to)
	}
	out := bufio.NewWriterSize(to, 64<<10)
	if _, err := out.WriteString(e.table.Before(e.form == FormSQL)); err != nil {
		return err
	}
	err := e.each(ctx, func(from string) error {
		_, err := e.conn.PgConn().CopyTo(ctx, out, e.table.Copying(from, e.form == FormSQL))
		return err
	})
	if err != nil {
		return err
	}
	if _, err := out.WriteString(e.table.After(e.form == FormSQL)); err != nil {
		return err
	}
	return out.Flush()
}

// each hands over what to select from, a stretch of rows at a time.
func (e *Export) each(ctx context.Context, do func(from string) error) error {
	for _, p := range e.parts {
		name, err := e.name(ctx, p)
		if err != nil {
			return err
		}
		if p.rows == nil {
			if err := do(e.table.All(name)); err != nil {
				return err
			}
			continue
		}
		for rows := range slices.Chunk(p.rows, placesAtOnce) {
			places := make([]string, len(rows))
			for i, r := range rows {
				places[i] = fmt.Sprintf("(%d,%d)", r.Block, r.Offset)
			}
			if err := do(e.table.At(name, strings.Join(places, `","`))); err != nil {
				return err
			}
		}
	}
	return nil
}

// Close closes the session on the copy.
func (e *Export) Close() { _ = e.conn.Close(context.Background()) }
