package names

import (
	"context"
	"encoding/json"
	"hash/maphash"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/value"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
)

// columnsSeed is of the hashes of columns.
var columnsSeed = maphash.MakeSeed()

// columns are what is known of tables' columns, of which only a hash is kept here.
type columns struct {
	known  map[tableOID]uint64     // nil until it was read from the catalogue
	change map[tableOID]pg.FullXID // of those that a transaction has changed since, the last one
	// wanted is in how many of the next samples columns are asked for: in two after each change, for a commit that is in the
	// WAL may not be seen by others yet.
	wanted int
}

type tableOID struct{ database, oid uint32 }

// Columns are what the columns of a table were in a snapshot of its server.
type Columns struct {
	Columns  []value.Column
	snapshot pg.Snapshot
}

// Sees tells whether a transaction had committed before these columns were asked for, if it has by now.
func (c *Columns) Sees(x pg.FullXID) bool { return c.snapshot.Sees(x) }

// ColumnsOf lists what is known of a table's columns, oldest first.
func (b *Book) ColumnsOf(ctx context.Context, database, oid uint32) ([]Columns, error) {
	list, err := b.catalog.ColumnsOf(ctx, b.cluster, database, oid)
	if err != nil {
		return nil, err
	}
	found := make([]Columns, len(list))
	for i, t := range list {
		if found[i].Columns, err = t.Read(); err != nil {
			return nil, err
		}
		if found[i].snapshot, err = pg.ParseSnapshot(t.Snapshot); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// noteChanged remembers tables whose columns a transaction may have changed: what they are now must be seen again, also
// where it is the same.
func (b *Book) noteChanged(t *journal.Transaction) {
	names := b.Now()
	if len(t.Altered) == 0 || !slices.ContainsFunc(t.Changes, func(c journal.Change) bool { return isColumns(names, c.Relation) }) {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.columns.wanted = 2
	if b.columns.change == nil {
		b.columns.change = make(map[tableOID]pg.FullXID)
	}
	for _, oid := range t.Altered {
		b.columns.change[tableOID{t.Database, oid}] = t.XID
	}
}

// isColumns tells whether a file is the catalog of columns.
func isColumns(names journal.Lookup, ref wal.RelationRef) bool {
	n, known := names(ref)
	return ref.Filenode == pgAttribute || known && n.System() && n.Table == "pg_attribute"
}

// pgAttribute is the file of the catalog of columns, until that is rewritten.
const pgAttribute = 1249

// wantColumns tells whether columns are to be asked for this time.
func (b *Book) wantColumns() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.columns.known == nil {
		b.columns.wanted++ // the first time
	}
	want := b.columns.wanted > 0
	b.columns.wanted = max(0, b.columns.wanted-1)
	return want
}

// wantAgain has columns be asked for the next time, because that failed now.
func (b *Book) wantAgain(columns bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if columns {
		b.columns.wanted++
	}
}

// columnsQuery lists the columns of a database's tables. Of what a column's older rows hold, and of what types are called, no
// function of a user is called: those of types below 16384 are the server's own.
const columnsQuery = `
with recursive up (domain, type) as (select t.oid, t.typbasetype from pg_catalog.pg_type t where t.typtype operator(pg_catalog.=) 'd'
	union all select up.domain, t.typbasetype from up join pg_catalog.pg_type t on t.oid operator(pg_catalog.=) up.type
	and t.typtype operator(pg_catalog.=) 'd'),
base as (select up.domain, up.type from up join pg_catalog.pg_type t on t.oid operator(pg_catalog.=) up.type
	and t.typtype operator(pg_catalog.<>) 'd'),
labels as (select e.enumtypid, pg_catalog.array_agg(e.oid order by e.oid) as oids,
	pg_catalog.array_agg(e.enumlabel::pg_catalog.text order by e.oid) as labels from pg_catalog.pg_enum e group by e.enumtypid)
select d.oid, c.oid, a.attname::pg_catalog.text, coalesce(base.type, a.atttypid),
	case when a.attisdropped then '' else pg_catalog.format_type(a.atttypid, null) end, a.attlen, a.attalign::pg_catalog.text,
	a.attisdropped, a.attgenerated operator(pg_catalog.=) 'v', a.atthasmissing,
	case when a.atthasmissing and coalesce(base.type, a.atttypid) operator(pg_catalog.<) 16384
	then (a.attmissingval::pg_catalog.text::pg_catalog._text)[1] end, labels.oids, labels.labels,
	pg_catalog.pg_encoding_to_char(d.encoding)
from pg_catalog.pg_class c
join pg_catalog.pg_database d on d.datname operator(pg_catalog.=) pg_catalog.current_database()
join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) c.oid and a.attnum operator(pg_catalog.>) 0
left join base on base.domain operator(pg_catalog.=) a.atttypid
left join labels on labels.enumtypid operator(pg_catalog.=) coalesce(base.type, a.atttypid)
where c.relkind operator(pg_catalog.=) any ('{r, m}') and c.relpersistence operator(pg_catalog.=) 'p'
	and c.oid operator(pg_catalog.>=) 16384
order by c.oid, a.attnum`

// plainText has values be written as core/value writes them.
const plainText = `select pg_catalog.set_config('datestyle', 'ISO', true), pg_catalog.set_config('timezone', 'UTC', true),
	pg_catalog.set_config('intervalstyle', 'postgres', true), pg_catalog.set_config('bytea_output', 'hex', true),
	pg_catalog.set_config('extra_float_digits', '1', true), pg_catalog.pg_current_snapshot()::pg_catalog.text,
	pg_catalog.clock_timestamp()`

// SeeColumns asks one database at once, and keeps what is new.
func (b *Book) SeeColumns(ctx context.Context, a access.Access, database string) error {
	b.sampling.Lock()
	defer b.sampling.Unlock()
	conn, err := connect(ctx, a, database)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	return b.sampleColumns(ctx, conn)
}

// sampleColumns asks one database, and keeps what is new.
func (b *Book) sampleColumns(ctx context.Context, conn *pgx.Conn) error {
	if err := b.readColumns(ctx); err != nil {
		return err
	}
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	var text string
	var at time.Time
	var ignored [5]string
	if err := tx.QueryRow(ctx, plainText).Scan(&ignored[0], &ignored[1], &ignored[2], &ignored[3], &ignored[4], &text, &at); err != nil {
		return err
	}
	s, err := pg.ParseSnapshot(text)
	if err != nil {
		return err
	}
	var fresh []catalog.TableColumns
	var oid uint32
	err = eachTable(ctx, tx, func(t tableOID, list []value.Column) error {
		encoded, err := json.Marshal(list)
		if oid = t.database; err == nil && b.isFresh(t, encoded, s) {
			fresh = append(fresh, catalog.TableColumns{Database: t.database, OID: t.oid, Since: at.UTC().Truncate(time.Microsecond),
				Snapshot: text, Columns: encoded})
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := b.catalog.AddTableColumns(ctx, b.cluster, fresh); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, t := range fresh {
		b.columns.known[tableOID{t.Database, t.OID}] = maphash.Bytes(columnsSeed, t.Columns)
	}
	maps.DeleteFunc(b.columns.change, func(t tableOID, by pg.FullXID) bool { return t.database == oid && s.Sees(by) })
	return nil
}

// isFresh tells whether the columns of a table are not the ones known, or are seen again after somebody has changed them.
func (b *Book) isFresh(t tableOID, encoded []byte, s pg.Snapshot) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	by, changed := b.columns.change[t]
	before, known := b.columns.known[t]
	return changed && s.Sees(by) || !known || before != maphash.Bytes(columnsSeed, encoded)
}

// readColumns reads what the catalogue knows, once.
func (b *Book) readColumns(ctx context.Context) error {
	if b.columns.known != nil {
		return nil
	}
	known := make(map[tableOID]uint64)
	err := b.catalog.EachNewestColumns(ctx, b.cluster, func(t catalog.TableColumns) {
		list, err := t.Read()
		if err != nil {
			return
		}
		if encoded, err := json.Marshal(list); err == nil { // jsonb writes it in an order of its own
			known[tableOID{t.Database, t.OID}] = maphash.Bytes(columnsSeed, encoded)
		}
	})
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.columns.known = known
	return nil
}

// eachTable visits the tables of the database with their columns.
func eachTable(ctx context.Context, tx pgx.Tx, visit func(tableOID, []value.Column) error) error {
	rows, err := tx.Query(ctx, columnsQuery)
	if err != nil {
		return err
	}
	defer rows.Close()
	var last tableOID
	var list []value.Column
	for rows.Next() {
		var t tableOID
		var c value.Column
		var added bool
		var oids []uint32
		var labels []string
		if err := rows.Scan(&t.database, &t.oid, &c.Name, &c.Type, &c.TypeName, &c.Length, &c.Align, &c.Dropped, &c.Virtual, &added,
			&c.Missing, &oids, &labels, &c.Encoding); err != nil {
			return err
		}
		if c.Encoding == "UTF8" {
			c.Encoding = ""
		}
		c.MissingUnknown = added && c.Missing == nil
		for i, oid := range oids {
			if c.Labels == nil {
				c.Labels = make(map[uint32]string)
			}
			c.Labels[oid] = labels[i]
		}
		if t != last && list != nil {
			if err := visit(last, list); err != nil {
				return err
			}
			list = nil
		}
		last, list = t, append(list, c)
	}
	if list != nil && rows.Err() == nil {
		return visit(last, list)
	}
	return rows.Err()
}
