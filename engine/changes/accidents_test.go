package changes_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
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
	from   pg.LSN // it was committed after this
	to     pg.LSN // and before this
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
// the boundary lies before that very transaction.
func TestAccidents(t *testing.T) {
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		own := make([]*accident, len(accidents))
		for i, a := range accidents {
			one := *a
			own[i] = &one
		}
		l := &life{Cluster: clusterbed.New(b)}
		l.prepareAccidents()
		l.Capture()
		l.Eventually("capture streams", func() bool { return l.State().Receives() })
		l.commit("create table traffic (id int)")
		stop := l.others()
		for _, a := range own {
			l.happens(a)
		}
		stop()
		l.Captured()
		l.findAll(own)
	})
}

func (l *life) prepareAccidents() {
	l.Server.Exec("postgres", there...)
	fill := func(table, columns string) {
		l.Server.Exec("postgres", fmt.Sprintf("insert into %s select %s from generate_series(1, 300) n", table, columns))
	}
	for _, table := range []string{"fare", "price", "mooring", "voyage"} {
		if table == "mooring" || table == "voyage" {
			l.Server.Exec("postgres", "insert into harbor values (1) on conflict do nothing",
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
		l.Server.Exec("postgres", fmt.Sprintf("create table %s (id int, season int) partition by list (season)", p),
			fmt.Sprintf("create table %[1]s_2019 partition of %[1]s for values in (2019)", p),
			fmt.Sprintf("create table %[1]s_2026 partition of %[1]s for values in (2026)", p))
		fill(p, "n, case when n % 3 = 0 then 2019 else 2026 end")
	}
	l.Server.Exec("postgres", "select pg_switch_wal()", "checkpoint") // so that none of this is captured
}

// others write into tables of their own until they are stopped.
func (l *life) others() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	for range 2 {
		conn := l.Server.Connect("postgres")
		wg.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				if _, err := conn.Exec(context.Background(), fmt.Sprintf("insert into traffic values (%d)", n)); err != nil {
					l.Errorf("the traffic: %v", err)
					return
				}
			}
		})
	}
	return func() { cancel(); wg.Wait() }
}

// happens does what is no accident, and then the accident.
func (l *life) happens(a *accident) {
	for _, s := range a.before {
		l.commit(s)
	}
	a.from = l.Ended()
	if a.alone {
		l.Server.Exec("postgres", a.done...)
	} else {
		a.xid = l.commit(a.done...).xid
	}
	a.to = l.Ended()
	if a.after != "" {
		l.commit(a.after)
	}
}

func (l *life) findAll(own []*accident) {
	table, err := os.OpenFile(os.Getenv("VELVET_ACCIDENTS_TABLE"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		defer func() { _ = table.Close() }()
	}
	for _, a := range own {
		var said string
		l.Eventually(a.words+" can be asked", func() bool {
			b, note, err := l.resolve(l.open(), a.words)
			said = fmt.Sprint(note, err)
			if err != nil || b.FirstOut == nil {
				return false
			}
			require.True(l, a.xid == 0 || b.FirstOut.XID == a.xid, "%s: %s is before tx %d, the accident was %d", a.what, a.words,
				b.FirstOut.XID, a.xid)
			require.True(l, a.from <= b.FirstOut.LSN && b.FirstOut.LSN < a.to, "%s: %s", a.what, a.words)
			assert.LessOrEqual(l, b.LastIn.LSN, b.FirstOut.LSN, a.what)
			return true
		})
		assert.Contains(l, said, a.note, a.what)
		if err == nil {
			_, _ = fmt.Fprintf(table, "%d\t%s\t%s\n", l.Major, a.what, a.words)
		}
	}
}

// TestOneScript has a script and somebody else delete from one table: the moment is ambiguous, the candidates say who did
// each, and the script's are offered as one.
func TestOneScript(t *testing.T) {
	ctx := context.Background()
	l := &life{Cluster: clusterbed.New(testbed.New(t))}
	l.Server.Exec("postgres", "create table tally (n int)", "insert into tally select n from generate_series(1, 900) n")
	l.Capture()
	l.Eventually("capture streams", func() bool { return l.State().Receives() })
	script := l.Server.Connect("postgres")
	var first pg.FullXID
	for n := range 3 {
		tx, err := script.Begin(ctx)
		require.NoError(t, err)
		_, err = tx.Exec(ctx, fmt.Sprintf("set application_name = 'purge'; delete from tally where n %% 9 = %d; select pg_sleep(1.5)", n))
		require.NoError(t, err)
		var xid int64
		require.NoError(t, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&xid))
		require.NoError(t, tx.Commit(ctx))
		if n == 0 {
			first = pg.FullXID(xid)
		}
	}
	l.commit("delete from tally where n % 9 = 4", "select pg_sleep(1.5)")
	l.Captured()
	l.Eventually("the authors are kept", func() bool {
		_, _, err := l.resolve(l.open(), "before delete of tally")
		require.Error(t, err)
		return strings.Count(err.Error(), ", by ") == 4 && strings.Contains(err.Error(), fmt.Sprintf("\nbefore tx %d is before all 3 that "+
			"%s (purge) from 127.0.0.1 did in one session\nbefore tx %d is before all 4 of them", first, testbed.Superuser, first))
	})
}
