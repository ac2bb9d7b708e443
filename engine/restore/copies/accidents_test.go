package copies_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// accident is what somebody did, and the words by which it is found.
type accident struct {
	what   string
	before []string // what was there, and is no accident
	done   []string // in one transaction, or if alone is set without one
	alone  bool
	after  string // what was done then, and is no accident
	words  string
	note   string // what is said of the choice
	xid    pg.FullXID
	state  []string // of the server before
	from   pg.LSN   // it was committed after this
	to     pg.LSN   // and before this
}

var accidents = []*accident{
	{what: "DELETE without WHERE", before: []string{"delete from booking where id in (7, 8)"}, done: []string{"delete from booking"},
		words: "before delete of booking", note: "chosen over other deletes"},
	{
		what:   "UPDATE without WHERE",
		before: []string{"update fare set cents = cents + 1 where id < 100"},
		done:   []string{"update fare set cents = 1"},
		words:  "before the largest update of fare",
		note:   "the largest, where the next changed 99 rows",
	},
	{what: "a load into the wrong table", done: []string{"insert into crew.shift select n, 'spill' from generate_series(1, 800) n"},
		words: "before insert of crew.shift"},
	{what: "TRUNCATE", done: []string{"truncate berth"}, words: "before truncate of berth"},
	{
		what:  "TRUNCATE of several, with their sequences",
		done:  []string{"truncate lamp, buoy restart identity"},
		words: "before truncate of buoy",
	},
	{what: "TRUNCATE CASCADE, found by what went with it", done: []string{"truncate harbor cascade"}, words: "before truncate of mooring"},
	{what: "TRUNCATE of a partitioned table", done: []string{"truncate toll"}, words: "before truncate of toll"},
	{what: "TRUNCATE after a DELETE", done: []string{"delete from tide where id < 50", "truncate tide"}, words: "before truncate of tide"},
	{what: "DROP TABLE", done: []string{"drop table invoice"}, words: "before drop of invoice"},
	{
		what:  "DROP TABLE CASCADE, found by the foreign key that went",
		done:  []string{"drop table vessel cascade"},
		words: "before alter of voyage",
	},
	{what: "DROP of a partitioned table", done: []string{"drop table season"}, words: "before drop of season"},
	{what: "DROP of a partition, found by its parent", done: []string{"drop table ticket_2019"}, words: "before drop of ticket"},
	{what: "DROP SCHEMA CASCADE", before: []string{
		"do $$ begin drop schema shed cascade; insert into depot.crane values (0); end $$"},
		done: []string{"drop schema depot cascade"}, words: "before drop of schema depot"},
	{what: "DROP SCHEMA, of an empty one", done: []string{"drop schema slip"}, words: "before drop of schema slip"},
	{what: "DROP VIEW", before: []string{"drop view buoys"}, done: []string{"drop view crew.lamps"},
		words: "before drop of view crew.lamps"},
	{what: "DROP TABLE CASCADE, found by the view that went", done: []string{"drop table winch cascade"},
		words: "before drop of view winches"},
	{what: "DROP FUNCTION", done: []string{"drop function fee(int)"}, words: "before drop of function fee"},
	{what: "a function replaced by one of another kind", done: []string{"drop function toll_of(int)",
		"create function toll_of(int) returns text language sql as 'select null::text'"}, words: "before drop of function toll_of"},
	{what: "DROP INDEX", done: []string{"drop index tide_by_id"}, words: "before drop of index tide_by_id"},
	{what: "DROP INDEX CONCURRENTLY", done: []string{"drop index concurrently gull_by_id"}, alone: true,
		words: "before drop of index gull_by_id"},
	{what: "DROP SEQUENCE", done: []string{"drop sequence berth_number"}, words: "before drop of sequence berth_number"},
	{
		what: "DELETE from a table that had been dropped and made again",
		before: []string{"create table twin as select generate_series(1, 300) id", "delete from twin where id <= 200", "drop table twin",
			"create table twin as select generate_series(1, 300) id"},
		done:  []string{"delete from twin"},
		words: "before the largest delete of twin",
		note:  "the largest, where the next removed 200 rows",
	},
	{what: "DROP MATERIALIZED VIEW", done: []string{"drop materialized view catch"}, words: "before drop of catch"},
	{what: "a table renamed, found by its old name", done: []string{"alter table jetty rename to pier"}, words: "before alter of jetty"},
	{what: "DELETE, found by the name before it was renamed", done: []string{"delete from dory"}, after: "alter table dory rename to skiff",
		words: "before delete of dory"},
	{what: "DROP OWNED", done: []string{"drop owned by clerk"}, words: "before drop of ledger"},
	{what: "DROP DATABASE", done: []string{"drop database \"Outer Isles\""}, alone: true, words: `before drop of database "Outer Isles"`},
	{what: "DELETE through a partitioned table", done: []string{"delete from route where id % 2 = 0"}, words: "before delete of route"},
	{
		what:  "DELETE of one partition, found by its parent",
		done:  []string{"delete from only parcel_2026"},
		words: "before delete of parcel",
	},
	{what: "rows moved between partitions, an update", done: []string{"update pass set season = 2026"}, words: "before update of pass"},
	{what: "DELETE from a child by inheritance", done: []string{"delete from craft"}, words: "before delete of craft"},
	{what: "DELETE that cascades, found by the child", done: []string{"delete from customer"}, words: "before delete of customer_note"},
	{what: "DETACH PARTITION", done: []string{"alter table cargo detach partition cargo_2019"}, words: "before alter of cargo"},
	{what: "a column dropped", done: []string{"alter table crew.roster drop column note"}, words: "before alter of crew.roster"},
	{what: "a column retyped, which rewrites the table", done: []string{"alter table log_book alter column id type bigint"},
		words: "before alter of log_book"},
	{what: "a constraint dropped", done: []string{"alter table pilot drop constraint pilot_pkey"}, words: "before alter of pilot"},
	{
		what:  "a table made that should not be",
		done:  []string{"create table wreck as select generate_series(1, 9) n"},
		words: "before create of wreck",
	},
	{what: "VACUUM FULL", done: []string{"vacuum full anchor"}, alone: true, words: "before rewrite of anchor"},
	{what: "a script, in a function", done: []string{"do $$ begin delete from gull where id > 10; end $$"}, words: "before delete of gull"},
	{what: "DELETE in a savepoint", done: []string{"delete from sail where id = 1", "savepoint s", "delete from sail", "release s"},
		words: "before delete of sail"},
	{what: "a name that needs quotes", done: []string{`delete from "Old Invoice"`}, words: `before delete of "Old Invoice"`},
	{what: "the same name in two schemas", done: []string{"delete from crew.rope"}, words: "before delete of crew.rope"},
	{
		what:  "an upsert that changes all",
		done:  []string{"insert into price select n, 1 from generate_series(1, 300) n on conflict (id) do update set cents = 1"},
		words: "before update of price",
	},
}

// there is what the accidents are done to.
var there = []string{
	"create role clerk", "create schema crew", "create schema depot", "create schema shed", `create database "Outer Isles"`,
	"create table booking (id int primary key, note text)", "create table fare (id int primary key, cents int)",
	"create table crew.shift (id int, note text)", "create table berth (id int)", "create table lamp (id serial)",
	"create table buoy (id serial)",
	"create table harbor (id int primary key)", "create table mooring (id int primary key, harbor int references harbor)",
	"create table tide (id int)", "create table invoice (id int)", "create table vessel (id int primary key)",
	"create table voyage (id int primary key, vessel int references vessel)", "create table depot.crane (id int)",
	"create table shed.rake (id int)",
	"create table depot.rail (id int)",
	"create table ledger (id int)", "alter table ledger owner to clerk", "create table craft (id int)",
	"create table ferry (seats int) inherits (craft)",
	"create table customer (id int primary key)", "create table customer_note (id int references customer on delete cascade)",
	"create table crew.roster (id int, note text)", "create table log_book (id int, note text)", "create table pilot (id int primary key)",
	"create table anchor (id int)", "create table gull (id int)", "create table sail (id int)", `create table "Old Invoice" (id int)`,
	"create schema slip", "create view buoys as select id from buoy", "create view crew.lamps as select id from lamp",
	"create table winch (id int)", "create view winches as select * from winch", "create index tide_by_id on tide (id)",
	"create function fee(n int) returns int language sql as 'select n'", "create index gull_by_id on gull (id)",
	"create function toll_of(n int) returns int language sql as 'select n'", "create sequence berth_number",
	"create materialized view catch as select 1 as n", "create table jetty (id int)", "create table dory (id int)",
	"create table rope (id int)", "create table crew.rope (id int)", "create table price (id int primary key, cents int)",
}

var partitioned = []string{"toll", "season", "ticket", "route", "parcel", "pass", "cargo"}

// TestAccidents does every accident on a real server of every version, while other sessions write, and finds each by its words:
// the boundary lies before that very transaction. A copy there, opened, is what the server was before the accident. Each
// accident is rewound on one version, and with VELVET_ACCIDENTS_TABLE, which is given a file for the table, on all of them.
func TestAccidents(t *testing.T) {
	path := os.Getenv("VELVET_ACCIDENTS_TABLE")
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		d := &day{Cluster: clusterbed.New(b)}
		d.prepare()
		d.Capture()
		d.Eventually("capture streams", func() bool { return d.State().Receives() })
		d.Take(layout.Full)
		d.commit("create table traffic (id int)")
		stop := d.others()
		list := make([]*accident, len(accidents))
		for i, a := range accidents {
			one := *a
			list[i] = &one
			d.happens(&one)
		}
		stop()
		d.Captured()
		table := ""
		for i, a := range list {
			d.find(a)
			rewound := path != "" || i%len(pg.Versions()) == b.Major-pg.Versions()[0].Major
			if rewound {
				d.rewind(a)
			}
			table += fmt.Sprintf("%d\t%s\t%s\t%t\n", d.Major, a.what, a.words, rewound)
		}
		if path != "" {
			f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
			require.NoError(t, err)
			_, err = f.WriteString(table)
			require.NoError(t, errors.Join(err, f.Close()))
		}
	})
}

// day is a real cluster on the day of the accidents.
type day struct{ *clusterbed.Cluster }

// commit runs statements in one transaction, and gives its id.
func (d *day) commit(statements ...string) pg.FullXID {
	tx, err := d.SQL.Begin(ctx)
	require.NoError(d, err)
	for _, s := range statements {
		_, err := tx.Exec(ctx, s)
		require.NoError(d, err, s)
	}
	var xid int64
	require.NoError(d, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&xid))
	require.NoError(d, tx.Commit(ctx))
	return pg.FullXID(xid)
}

func (d *day) prepare() {
	d.Server.Exec("postgres", there...)
	fill := func(table, columns string) {
		d.Server.Exec("postgres", fmt.Sprintf("insert into %s select %s from generate_series(1, 300) n", table, columns))
	}
	for _, table := range []string{"fare", "price", "mooring", "voyage"} {
		if table == "mooring" || table == "voyage" {
			d.Server.Exec("postgres", "insert into harbor values (1) on conflict do nothing",
				"insert into vessel values (1) on conflict do nothing")
			fill(table, "n, 1")
			continue
		}
		fill(table, "n, 100 + n")
	}
	for _, table := range []string{"berth", "lamp", "buoy", "tide", "invoice", "depot.crane", "depot.rail", "ledger", "customer",
		"customer_note",
		"pilot", "anchor", "gull", "sail", "jetty", "dory", `"Old Invoice"`, "rope", "crew.rope"} {
		fill(table, "n")
	}
	fill("booking", "n, 'tide'")
	fill("ferry", "n, n")
	fill("crew.roster", "n, 'crew'")
	fill("log_book", "n, 'log'")
	for _, p := range partitioned {
		d.Server.Exec("postgres", fmt.Sprintf("create table %s (id int, season int) partition by list (season)", p),
			fmt.Sprintf("create table %[1]s_2019 partition of %[1]s for values in (2019)", p),
			fmt.Sprintf("create table %[1]s_2026 partition of %[1]s for values in (2026)", p))
		fill(p, "n, case when n % 3 = 0 then 2019 else 2026 end")
	}
	d.Server.Exec("postgres", "select pg_switch_wal()", "checkpoint") // so that none of this is captured
}

// others write into tables of their own until they are stopped.
func (d *day) others() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	for range 2 {
		conn := d.Server.Connect("postgres")
		wg.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				if _, err := conn.Exec(context.Background(), fmt.Sprintf("insert into traffic values (%d)", n)); err != nil {
					d.Errorf("the traffic: %v", err)
					return
				}
			}
		})
	}
	return func() { cancel(); wg.Wait() }
}

// happens does what is no accident, and then the accident.
func (d *day) happens(a *accident) {
	for _, s := range a.before {
		d.commit(s)
	}
	a.state = d.state(d.SQL)
	a.from = d.Ended()
	if a.alone {
		d.Server.Exec("postgres", a.done...)
	} else {
		a.xid = d.commit(a.done...)
	}
	a.to = d.Ended()
	if a.after != "" {
		d.commit(a.after)
	}
}

// find asks for the accident by its words.
func (d *day) find(a *accident) {
	m, err := moment.Parse(a.words, moment.Caller{})
	require.NoError(d, err)
	var said string
	d.Eventually(a.words+" can be asked", func() bool {
		_, j := d.Journal()
		b, note, err := j.Resolve(ctx, m)
		if said = fmt.Sprint(note, err); err != nil || b.FirstOut == nil {
			return false
		}
		assert.True(d, a.xid == 0 || b.FirstOut.XID == a.xid, "%s: %s is before tx %d, the accident was %d", a.what, a.words,
			b.FirstOut.XID, a.xid)
		assert.True(d, a.from <= b.FirstOut.LSN && b.FirstOut.LSN < a.to, "%s: %s", a.what, a.words)
		assert.LessOrEqual(d, b.LastIn.LSN, b.FirstOut.LSN, a.what)
		return true
	})
	assert.Contains(d, said, a.note, a.what)
}

// rewind has a copy be what the server was before the accident.
func (d *day) rewind(a *accident) {
	maker := d.Maker()
	k := d.Copy(maker, a.words)
	require.NoError(d, maker.Open(ctx, d.Record, k, task.Silent), a.what)
	conn, err := copies.Connect(ctx, d.Host, k, d.Record, "postgres")
	require.NoError(d, err)
	is := d.state(conn)
	only := func(in, not []string) []string {
		return slices.DeleteFunc(slices.Clone(in), func(s string) bool { return slices.Contains(not, s) })
	}
	assert.Empty(d, only(a.state, is), "%s: %s", a.what, a.words)
	assert.Empty(d, only(is, a.state), "%s: %s", a.what, a.words)
	require.NoError(d, conn.Close(ctx))
	require.NoError(d, maker.Remove(ctx, d.Record, d.Seen(k)))
}

// state is everything that is in a server but what others write: its databases, and of the database postgres the rows of each
// table, the columns, constraints, indexes, views, functions, schemas and sequences, and what stands below what.
func (d *day) state(conn *pgx.Conn) []string {
	_, err := conn.Exec(ctx, "set search_path = pg_catalog")
	require.NoError(d, err)
	defer func() { _, _ = conn.Exec(ctx, "reset search_path") }()
	rows, err := conn.Query(ctx, `
		with mine as (select oid, nspname from pg_namespace where nspname !~ '^pg_|^information_schema$')
		select 'database ' || datname from pg_database union all select 'schema ' || nspname from mine
		union all select 'table ' || c.oid::regclass || query_to_xml(format(
			'select count(*), md5(string_agg(t::text, '' '' order by t::text)) from only %s t', c.oid::regclass), true, false, '')
			from pg_class c join mine on mine.oid = relnamespace where relkind in ('r', 'm') and relname <> 'traffic'
		union all select format('column %s.%s %s %s', attrelid::regclass, attname,
			format_type(atttypid, atttypmod), attnotnull) from pg_attribute
			join pg_class c on c.oid = attrelid join mine on mine.oid = relnamespace where attnum > 0 and not attisdropped
		union all select 'constraint ' || conname || conrelid::regclass || pg_get_constraintdef(c.oid)
			from pg_constraint c join mine on mine.oid = connamespace
		union all select format('relation %s %s %s', relkind, c.oid::regclass, pg_get_viewdef(c.oid))
			from pg_class c join mine on mine.oid = relnamespace
		union all select 'function ' || pg_get_functiondef(p.oid) from pg_proc p join mine on mine.oid = pronamespace
		union all select format('%s below %s', inhrelid::regclass, inhparent::regclass)
			from pg_inherits
		order by 1`)
	require.NoError(d, err)
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(d, err)
	return list
}
