package names

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
)

// databases lists all, and which can be connected to. Shared relations belong to all of them.
const databases = `select oid, datname::pg_catalog.text, pg_catalog.pg_encoding_to_char(encoding)::pg_catalog.text,
	datallowconn and pg_catalog.has_database_privilege(datname, 'connect') from pg_catalog.pg_database order by datname`

// relations asks one database for its files: each relation with the table that it is
// part of, and the tables above that; a partitioned or foreign table has no file, and its oid stands for one in a
// tablespace 0. The server's estimate of rows is -1 for a table that was never analyzed.
const relations = `
with recursive up (oid, above, steps) as (select i.inhrelid, i.inhparent, 1 from pg_catalog.pg_inherits i
	union all select up.oid, i.inhparent, up.steps operator(pg_catalog.+) 1 from up join pg_catalog.pg_inherits i
	on i.inhrelid operator(pg_catalog.=) up.above where up.steps operator(pg_catalog.<) 100),
tree as (select up.oid, pg_catalog.array_agg(pn.nspname::pg_catalog.text order by up.steps, pc.oid) as schemas,
	pg_catalog.array_agg(pc.relname::pg_catalog.text order by up.steps, pc.oid) as tables
	from up join pg_catalog.pg_class pc on pc.oid operator(pg_catalog.=) up.above
	join pg_catalog.pg_namespace pn on pn.oid operator(pg_catalog.=) pc.relnamespace group by up.oid)
select case when c.relkind operator(pg_catalog.=) any ('{p, f}') then 0::pg_catalog.oid
	when c.reltablespace operator(pg_catalog.=) 0 then d.dattablespace else c.reltablespace end,
	case when c.relisshared then 0::pg_catalog.oid else d.oid end,
	coalesce(pg_catalog.pg_relation_filenode(c.oid), c.oid), o.oid, n.oid, d.oid, n.nspname, o.relname,
	case when c.relkind operator(pg_catalog.=) any ('{r, m, p, f}') then 0 when c.relkind operator(pg_catalog.=) 't'
	or c.relkind operator(pg_catalog.=) 'i' and t.relkind operator(pg_catalog.=) 't' then 1 when c.relkind operator(pg_catalog.=) 'i'
	then 2 when c.relkind operator(pg_catalog.=) 'S' then 5 else 3 end::smallint,
	(case when o.reltuples operator(pg_catalog.>=) 0 then o.reltuples else coalesce(s.n_live_tup, -1) end)::bigint,
	tree.schemas, tree.tables
from pg_catalog.pg_class c
join pg_catalog.pg_database d on d.datname operator(pg_catalog.=) pg_catalog.current_database()
left join pg_catalog.pg_index i on i.indexrelid operator(pg_catalog.=) c.oid
left join pg_catalog.pg_class t on t.oid operator(pg_catalog.=) i.indrelid and t.relkind operator(pg_catalog.=) 't'
left join pg_catalog.pg_class p on p.reltoastrelid operator(pg_catalog.=) case when c.relkind operator(pg_catalog.=) 't'
then c.oid else t.oid end
join pg_catalog.pg_class o on o.oid operator(pg_catalog.=) coalesce(p.oid, i.indrelid, c.oid)
join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) o.relnamespace
left join pg_catalog.pg_stat_all_tables s on s.relid operator(pg_catalog.=) o.oid and s.n_live_tup operator(pg_catalog.>) 0
left join tree on tree.oid operator(pg_catalog.=) o.oid
where (pg_catalog.pg_relation_filenode(c.oid) is not null or c.relkind operator(pg_catalog.=) any ('{p, f}'))
	and c.relpersistence operator(pg_catalog.<>) 't'`

// objects asks one database for what is no table: each with the oid of the catalog that tells of it, as journal.ByObject has it.
const objects = `
with d as (select oid from pg_catalog.pg_database where datname operator(pg_catalog.=) pg_catalog.current_database())
select case when c.relkind operator(pg_catalog.=) 'v' then 2618 else 2610 end::pg_catalog.oid, d.oid, c.oid, c.oid, n.oid, d.oid,
	n.nspname, c.relname
	from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace cross join d
	where c.relkind operator(pg_catalog.=) any ('{v, i, I}') and c.oid operator(pg_catalog.>=) 16384
	and c.relpersistence operator(pg_catalog.<>) 't' and n.nspname operator(pg_catalog.<>) 'pg_toast'
union all select 1255, d.oid, p.oid, p.oid, n.oid, d.oid, n.nspname, p.proname from pg_catalog.pg_proc p
	join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) p.pronamespace cross join d
	where p.oid operator(pg_catalog.>=) 16384
union all select 2615, d.oid, n.oid, n.oid, n.oid, d.oid, '', n.nspname from pg_catalog.pg_namespace n cross join d
	where n.oid operator(pg_catalog.>=) 16384 or n.nspname operator(pg_catalog.=) 'public'`

// Sample asks every database of the cluster, and keeps what is new.
func (b *Book) Sample(ctx context.Context, a access.Access) (err error) {
	b.sampling.Lock()
	defer b.sampling.Unlock()
	columns := b.wantColumns()
	defer func() {
		if err != nil {
			b.wantAgain(columns)
		}
	}()
	conn, err := a.SQL(ctx, "")
	if err != nil {
		return err
	}
	list, err := ask(ctx, conn, databases, pgx.RowToStructByPos[struct {
		OID            uint32
		Name, Encoding string
		Open           bool
	}])
	_ = conn.Close(context.WithoutCancel(ctx))
	if err != nil {
		return err
	}
	for _, db := range list {
		b.meetDatabase(db.OID, db.Name, db.Encoding)
		if !db.Open {
			continue
		}
		// What one of them cannot tell is no reason to know nothing of the others.
		err = errors.Join(err, b.sampleDatabase(ctx, a, db.Name, columns))
	}
	return errors.Join(err, b.Save(ctx))
}

// meetDatabase takes over what a database is called, and in which encoding its texts are.
func (b *Book) meetDatabase(oid uint32, name, encoding string) {
	if encoding == "UTF8" {
		encoding = ""
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.databases[oid] = database{whole(name), encoding}
}

// asItIs has a database that is in no encoding tell its texts as they are: the server would rather fail than tell what is not
// valid in ours.
const asItIs = `select pg_catalog.set_config('client_encoding', 'SQL_ASCII', false) from pg_catalog.pg_database
	where datname operator(pg_catalog.=) pg_catalog.current_database()
	and pg_catalog.pg_encoding_to_char(encoding) operator(pg_catalog.=) 'SQL_ASCII'`

// connect opens a connection on which a database tells names.
func connect(ctx context.Context, a access.Access, database string) (*pgx.Conn, error) {
	conn, err := a.SQL(ctx, database)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, asItIs); err != nil {
		return nil, errors.Join(err, conn.Close(context.WithoutCancel(ctx)))
	}
	return conn, nil
}

// whole gives a name that can be kept, also of one that is of any bytes.
func whole(name string) string { return strings.ToValidUTF8(name, "\uFFFD") }

func (b *Book) sampleDatabase(ctx context.Context, a access.Access, database string, columns bool) error {
	conn, err := connect(ctx, a, database)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	list, err := b.unknown(ctx, conn, relations, nil, func(row pgx.CollectableRow, n *sampled) error {
		n.DBName = database
		var schemas, tables []string
		err := row.Scan(&n.Space, &n.Database, &n.Filenode, &n.OID, &n.schema, &n.database, &n.Schema, &n.Name, &n.Part, &n.Rows,
			&schemas, &tables)
		n.Above = above(schemas, tables)
		return err
	})
	if err != nil {
		return fmt.Errorf("the names of database %s: %w", database, err)
	}
	list, err = b.unknown(ctx, conn, objects, list, func(row pgx.CollectableRow, n *sampled) error {
		n.DBName, n.Rows = database, -1
		err := row.Scan(&n.Space, &n.Database, &n.Filenode, &n.OID, &n.schema, &n.database, &n.Schema, &n.Name)
		n.Part = int16(journal.PartOf(n.Space))
		return err
	})
	if err != nil {
		return fmt.Errorf("the names of objects of database %s: %w", database, err)
	}
	if err := b.keep(ctx, conn, list); err != nil {
		return err
	}
	if !columns {
		return nil
	}
	if err := b.sampleColumns(ctx, conn); err != nil {
		return fmt.Errorf("the columns of tables of database %s: %w", database, err)
	}
	return nil
}

// mostAbove bounds how many tables above one are kept: of those from which it inherits their owner can make any number.
const mostAbove = 16

// above writes the tables of which one is a partition or child. What is called over several lines is left out: its name
// would be read as others'.
func above(schemas, tables []string) string {
	var list []string
	for i := range schemas {
		t := journal.Table{Schema: schemas[i], Name: tables[i]}.String()
		if len(list) < mostAbove && !strings.Contains(t, "\n") && !slices.Contains(list, t) {
			list = append(list, t)
		}
	}
	return strings.Join(list, "\n")
}

// sampled is a name with the oids of its schema and database.
type sampled struct {
	catalog.RelationName
	schema, database uint32
}

// unknown appends to list what a query finds that is not known under its name: of tens of thousands, a few.
func (b *Book) unknown(ctx context.Context, conn *pgx.Conn, query string, list []sampled,
	scan func(pgx.CollectableRow, *sampled) error) ([]sampled, error) {
	rows, err := conn.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var n sampled
		if err := scan(rows, &n); err != nil {
			return nil, err
		}
		n.DBName, n.Schema, n.Name, n.Above = whole(n.DBName), whole(n.Schema), whole(n.Name), whole(n.Above)
		if !b.meet(&n) {
			list = append(list, n)
		}
	}
	return list, rows.Err()
}

// meet takes over what is true of a name whether or not it is new, and tells whether it is known.
func (b *Book) meet(n *sampled) (known bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.schemas[schema{n.database, n.schema}] = n.Schema
	if journal.Part(n.Part) == journal.Schema {
		b.schemas[schema{n.database, n.schema}] = n.Name
	}
	b.noteRows(&n.RelationName)
	return b.knows(&n.RelationName)
}

// keep learns a list and remembers what was new in it, since the present of the server: what was seen before it may have
// been changed just before it was seen.
func (b *Book) keep(ctx context.Context, conn *pgx.Conn, list []sampled) error {
	var now time.Time
	if err := conn.QueryRow(ctx, `select pg_catalog.clock_timestamp()`).Scan(&now); err != nil {
		return err
	}
	now = now.UTC().Truncate(time.Microsecond) // as the catalogue keeps it
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, n := range list {
		n.Since = now
		if b.learn(n.RelationName) {
			b.unsaved = append(b.unsaved, n.RelationName)
		}
	}
	return nil
}

func ask[T any](ctx context.Context, conn *pgx.Conn, query string, read pgx.RowToFunc[T]) ([]T, error) {
	rows, err := conn.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, read)
}

// NextXID asks for the next transaction id, with its epoch.
func NextXID(ctx context.Context, a access.Access) (pg.FullXID, error) {
	conn, err := a.SQL(ctx, "")
	if err != nil {
		return 0, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	list, err := ask(ctx, conn, `select pg_catalog.pg_snapshot_xmax(pg_catalog.pg_current_snapshot())::pg_catalog.text::bigint`,
		pgx.RowTo[int64])
	if err != nil || len(list) == 0 {
		return 0, err
	}
	return pg.FullXID(list[0]), nil
}
