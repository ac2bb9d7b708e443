package prove

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/server/access"
)

// tables reads every table of every database on the copy to its end, and counts
// the same tables on the live cluster beside it.
func (p *Prover) tables(ctx context.Context, conn *pgx.Conn, k catalog.Copy, report task.Report) (proof.Check, error) {
	rows, err := conn.Query(ctx, `select datname::pg_catalog.text from pg_catalog.pg_database
		where datallowconn and datname operator(pg_catalog.<>) 'template0' order by datname`)
	if err != nil {
		return proof.Check{}, err
	}
	databases, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return proof.Check{}, err
	}
	var all []proof.Table
	liveProblem := ""
	for _, db := range databases {
		tables, err := p.database(ctx, k, db, report)
		if err != nil {
			return proof.Check{}, fmt.Errorf("database %s: %w", db, err)
		}
		if err := p.compare(ctx, db, tables, report); err != nil && liveProblem == "" && len(tables) > 0 {
			liveProblem = fmt.Sprintf("database %s: %s", db, access.Remedy(err))
		}
		all = append(all, tables...)
	}
	return proof.Tables(all, time.Now(), liveProblem), nil
}

// database counts the rows of every table of one database on the copy.
func (p *Prover) database(ctx context.Context, k catalog.Copy, db string, report task.Report) ([]proof.Table, error) {
	conn, err := copies.Connect(ctx, k, p.Cluster, db)
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	names, err := tableNames(ctx, conn)
	if err != nil {
		return nil, err
	}
	if err := readWhole(ctx, conn); err != nil {
		return nil, err
	}
	owners := &ownSessions{copy: k, database: db, open: make(map[string]*pgx.Conn)}
	defer owners.close(ctx)
	var tables []proof.Table
	for i, n := range names {
		report.Progress(int64(i), int64(len(names)), task.Tables, fmt.Sprintf("reading %s in %s", n, db))
		t := proof.Table{Database: db, Name: n.String()}
		as := conn
		var err error
		if !n.harmless() {
			as, err = owners.of(ctx, n)
		}
		if err == nil {
			err = count(ctx, as, n, &t.Copy)
		}
		if err != nil {
			if ctx.Err() != nil {
				return nil, context.Cause(ctx)
			}
			t.Problem, t.Locked, t.Unsafe = err.Error(), isLocked(err), errors.Is(err, errUnsafe)
			report.Warn("%s in %s could not be read to the end: %v", n, db, err)
		}
		tables = append(tables, t)
	}
	return tables, nil
}

// errUnsafe is that of a table that cannot be read without calling what belongs to its owner.
var errUnsafe = errors.New("reading it calls functions of its owner's, who may not log in")

// ownSessions are sessions on a copy of the owners of tables: what planning a scan of theirs calls
// is called with their rights.
type ownSessions struct {
	copy     catalog.Copy
	database string
	open     map[string]*pgx.Conn
}

func (o *ownSessions) of(ctx context.Context, t table) (*pgx.Conn, error) {
	if !t.Login {
		return nil, errUnsafe
	}
	if conn := o.open[t.Owner]; conn != nil {
		return conn, nil
	}
	conn, err := copies.ConnectAs(ctx, o.copy, t.Owner, o.database)
	if err != nil {
		return nil, fmt.Errorf("%w (as %s: %w)", errUnsafe, t.Owner, err)
	}
	o.open[t.Owner] = conn
	return conn, readWhole(ctx, conn)
}

func (o *ownSessions) close(ctx context.Context) {
	for _, conn := range o.open {
		_ = conn.Close(context.WithoutCancel(ctx))
	}
}

// compare counts the tables on the live cluster. A table that is gone there, or may
// not be read, or not without calling what is its owner's, is left without a figure.
func (p *Prover) compare(ctx context.Context, db string, tables []proof.Table, report task.Report) error {
	if len(tables) == 0 {
		return nil
	}
	conn, err := p.Access.SQL(ctx, db)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if _, err := conn.Exec(ctx, `set lock_timeout = '5s'`); err != nil {
		return err
	}
	names, err := tableNames(ctx, conn)
	if err != nil {
		return err
	}
	live := make(map[string]table, len(names))
	for _, n := range names {
		live[n.String()] = n
	}
	var refused error
	for i := range tables {
		n, ok := live[tables[i].Name]
		if !ok || !n.harmless() || n.Policies {
			continue
		}
		report.Progress(int64(i), int64(len(tables)), task.Tables, fmt.Sprintf("counting %s in the live %s", n, db))
		var rows int64
		if err := count(ctx, conn, n, &rows); err != nil {
			refused = errors.Join(refused, err)
			continue
		}
		tables[i].Live = &rows
	}
	if refused != nil {
		report.Warn("not every table of the live %s could be counted: %v", db, refused)
	}
	return nil
}

// table is a table of somebody's.
type table struct {
	Schema, Name, Owner string
	// Login says that the owner may log in, Super that it is a superuser, and Calls that planning a
	// scan calls functions: the server folds the expressions of indexes and statistics as it plans.
	Login, Super, Calls bool
	Policies            bool // rows are hidden from some
}

func (t table) String() string { return t.Schema + "." + t.Name }

// harmless tells whether a scan calls nothing that belongs to people of less rights than whoever scans.
func (t table) harmless() bool { return t.Super || !t.Calls }

// tableNames lists ordinary tables and materialised views with storage of their
// own, without the system's and without unlogged ones, which are empty after recovery.
func tableNames(ctx context.Context, conn *pgx.Conn) ([]table, error) {
	rows, err := conn.Query(ctx, `select n.nspname::pg_catalog.text, c.relname::pg_catalog.text, a.rolname::pg_catalog.text, a.rolcanlogin,
		a.rolsuper,
			exists (select from pg_catalog.pg_index i where i.indrelid operator(pg_catalog.=) c.oid and (i.indexprs is not null
			or i.indpred is not null))
			or exists (select from pg_catalog.pg_statistic_ext s where s.stxrelid operator(pg_catalog.=) c.oid and s.stxexprs is not null),
			c.relrowsecurity
		from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
		join pg_catalog.pg_roles a on a.oid operator(pg_catalog.=) c.relowner
		where c.relkind operator(pg_catalog.=) any ('{r, m}') and c.relpersistence operator(pg_catalog.=) 'p'
		and (c.relkind operator(pg_catalog.=) 'r' or c.relispopulated)
		and n.nspname operator(pg_catalog.<>) all ('{pg_catalog, information_schema}') and n.nspname operator(pg_catalog.!~~) 'pg\_toast%'
		and n.nspname operator(pg_catalog.!~~) 'pg\_temp%'
		order by 1, 2`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[table])
}

// readWhole has counting read the tables themselves and not an index, and not wait for
// tables that replay will hold for as long as it is paused.
func readWhole(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, `set enable_indexscan = off; set enable_indexonlyscan = off; set enable_bitmapscan = off;
		set lock_timeout = '5s'`)
	return err
}

func isLocked(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "55P03"
}

func count(ctx context.Context, conn *pgx.Conn, t table, rows *int64) error {
	return conn.QueryRow(ctx, "select pg_catalog.count(*) from only "+pgx.Identifier{t.Schema, t.Name}.Sanitize()).Scan(rows)
}
