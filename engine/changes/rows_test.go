package changes_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/value"
	"velvetrewind/engine/changes"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// samples are values of every type of the server's that a table can have a column of, but for aclitem and jsonpath, which
// are not decoded. What a type is shown as where that is not its text follows its name.
var samples = []struct {
	kind   string
	values []string
}{
	{"bool", []string{"true", "false"}},
	{"bytea", []string{`'\x00ff10'`, `''`}},
	{`"char"`, []string{"'x'", "''"}},
	{"name", []string{"'tide'", "'Ebb & Flow'"}},
	{"int8", []string{"9223372036854775807", "-9223372036854775808"}},
	{"int2", []string{"-32768", "7"}},
	{"int4", []string{"-2147483648", "41"}},
	{"text", []string{"'two\nlines, \"quoted\" ☂'", "repeat('x', 126)", "repeat('y', 127)"}},
	{"oid", []string{"4294967295"}}, {"regclass=oid", []string{"'pg_class'"}}, {"regrole=oid", []string{"10"}},
	{"tid", []string{"'(4294967294,65535)'"}}, {"xid", []string{"'4294967295'"}}, {"cid", []string{"'7'"}},
	{"json", []string{`'{"a":  [1, null]}'`}}, {"xml", []string{"'<a>b</a>'"}},
	{"point", []string{"'(1.5,-0)'"}}, {"lseg", []string{"'[(1,2),(3,4e300)]'"}}, {"path", []string{"'[(1,2),(3,4)]'", "'((1,2),(3,4))'"}},
	{"box", []string{"'(1,2),(3,4)'"}}, {"polygon", []string{"'((1,2),(3,4),(5,6))'"}}, {"line", []string{"'{1,-2,3.25}'"}},
	{"circle", []string{"'<(1,2),3>'"}},
	{"cidr", []string{"'10.1.0.0/16'", "'2001:db8::/32'", "'::/0'"}},
	{"inet", []string{"'10.1.2.3'", "'10.1.2.3/8'", "'::1'", "'::ffff:1.2.3.4/100'", "'::1.2.3.4'", "'1:0:0:2::3'", "'1:2:3:4:5:6:7:8'",
		"'fe80:0:0:0:1::'"}},
	{"float4", []string{"0.1", "1e6", "123456.7", "1e-5", "-0.0001", "'NaN'"}},
	{"float8", []string{"0.1", "1e15", "123456789012345", "1e-5", "'-Infinity'", "2.5e-300", "1e100"}},
	{"macaddr", []string{"'08:00:2b:01:02:03'"}}, {"macaddr8", []string{"'08:00:2b:01:02:03:04:05'"}},
	{"money=numeric", []string{"'-1234.56'", "'0.07'"}},
	{"char(5)", []string{"'ab'"}}, {"varchar(40)", []string{"'Über'"}}, {"refcursor", []string{"'c1'"}},
	{"date", []string{"'2026-02-28'", "'4713-01-01 BC'", "'infinity'", "'5874897-12-31'", "'0001-12-31 BC'", "'-infinity'",
		"'2000-02-29'"}},
	{"time", []string{"'24:00:00'", "'01:02:03.04'"}}, {"timetz", []string{"'01:02:03.5-03:30'", "'01:02:03+11'", "'01:02:03+01:02:03'"}},
	{"timestamp", []string{"'1999-12-31 23:59:59.999999'", "'294276-12-31 23:59:59'", "'4000-01-01 01:02:03 BC'", "'-infinity'"}},
	{"timestamptz", []string{"'2026-11-23 14:03:07.25+01'", "'infinity'", "'1066-10-14 BC'"}},
	{"interval", []string{"'1 year -2 mons 3 days -04:05:06.7'", "'-1 day +00:00:01'", "'0'", "'-00:00:00.5'", "'14 mons'", "'1 day'",
		"'100000:00:54'", "'-3 years 2 days'"}},
	{"bit(11)", []string{"'10110000111'"}}, {"varbit", []string{"'1'", "''", "'111100001'"}},
	{"numeric", []string{"0", "-0.00012300", "12345678901234567890.5", "'NaN'", "1e-40", "1e200", "10000", "0.5", "100.00", "'-Infinity'"}},
	{"uuid", []string{"'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"}}, {"txid_snapshot", []string{"'10:20:10,14,15'"}},
	{"pg_snapshot", []string{"'10:20:'"}}, {"pg_lsn", []string{"'16/B374D848'"}}, {"xid8", []string{"'18446744073709551615'"}},
	{"tsvector", []string{`'a:1A,2 ''fat cat'':3B it''s'`, "''"}},
	{"tsquery", []string{"'fat & (rat | !cat:*AB) <2> (dog <-> (x & y))'", "'!(a | b)'", "''"}},
	{"jsonb", []string{`'{"b": [1, -2.50, {"c": null}], "a": "x\ny\u0001", "": true, "n": 1e30}'`, "'[]'", "'{}'", `'"scalar"'`,
		"'12.5'", "'null'",
		"(select jsonb_agg(jsonb_build_object('k' || n, n * 1.5, 'x', repeat('z', n))) from generate_series(1, 70) n)"}},
	{"int4range", []string{"'[1,5)'", "'empty'", "'(,)'"}}, {"numrange", []string{"'(1.5,22.75]'", "'[1,)'"}},
	{"tsrange", []string{"'[2026-01-01 10:00, 2026-01-02 11:30)'"}}, {"tstzrange", []string{"'[2026-01-01 10:00+00,infinity)'"}},
	{"daterange", []string{"'[2026-01-01,2026-02-01)'"}}, {"int8range", []string{"'[1,50000000000)'"}},
	{"int4multirange", []string{"'{[1,3),[5,7),[9,12)}'", "'{}'"}},
	{"nummultirange", []string{"(select range_agg(numrange(n, n + 0.5)) from generate_series(1, 40) n)"}},
	{"datemultirange", []string{"'{[2026-01-01,2026-02-01),[2026-03-01,)}'"}}, {"int8multirange", []string{"'{(,1),[3,4)}'"}},
	{"tsmultirange", []string{"'{[2026-01-01,2026-01-02),[2026-01-03,2026-01-04)}'"}},
	{"tstzmultirange", []string{"'{[2026-01-01,2026-01-02)}'"}},
	{"int4[]", []string{"'{1,NULL,3}'", "'{}'", "'[0:1][2:3]={{1,2},{3,4}}'"}},
	{"text[]", []string{`'{"a b",NULL,"null","","{","\\","q\""}'`}}, {"bool[]", []string{"'{t,f,NULL,t}'"}},
	{"numeric[]", []string{"'{1.5,NaN,-7}'"}}, {"timestamptz[]", []string{"'{2026-01-01 00:00+00}'"}},
	{"box[]", []string{"'{(1,2),(3,4);(5,6),(7,8)}'"}},
	{"jsonb[]", []string{`array['{"a": 1}'::jsonb, '[2]']`}}, {"int4range[]", []string{`array['[1,2)'::int4range, 'empty']`}},
	{"uuid[]", []string{"'{a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11}'"}}, {"int2vector", []string{"'1 2 3'"}}, {"oidvector", []string{"'7'"}},
	{"mood", []string{"'calm'", "'rough'"}}, {"knots", []string{"17"}},
}

// TestRows writes every value, of every type, on servers of every version: of rows inserted, updated and deleted, what the
// WAL holds is what the server shows.
func TestRows(t *testing.T) {
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		l := &life{Cluster: clusterbed.New(b)}
		l.Server.Exec("postgres", "create type mood as enum ('calm', 'rough')", "create domain knots as int check (value >= 0)")
		var columns, texts []string
		for i, s := range samples {
			kind, as, differs := strings.Cut(s.kind, "=")
			columns = append(columns, fmt.Sprintf("c%d %s", i, kind))
			text := fmt.Sprintf("c%d", i)
			if differs {
				text += "::" + as
			}
			texts = append(texts, fmt.Sprintf("case when c%d is not null then format('%%s', %s) end", i, text)) // as it is put out
		}
		l.Server.Exec("postgres", "create table log (id int primary key, note text, "+strings.Join(columns, ", ")+")",
			"alter database postgres set timezone = 'UTC'")
		l.Connect()
		l.Capture()
		l.Eventually("capture streams", func() bool { return l.State().Receives() })
		var statements []string
		for i, s := range samples {
			for _, v := range s.values {
				statements = append(statements, fmt.Sprintf("insert into log (id, c%d) values (%d, %s)", i, len(statements)+1, v))
			}
		}
		inserted := l.commit(statements...)
		show := "select array[id::text, note, " + strings.Join(texts, ", ") + "] from log order by id"
		want := testbed.All[[]*string](l.Bed, l.SQL, show)
		l.same(want, l.rows(inserted, "log", 1000), nil)
		l.record(l.rows(inserted, "log", 1000))

		l.Server.Exec("postgres", "checkpoint") // so that pages are written whole again
		updated := l.commit("update log set note = 'seen'")
		now := testbed.All[[]*string](l.Bed, l.SQL, show)
		l.same(now, l.rows(updated, "log", 1000), want)
		deleted := l.commit("delete from log")
		l.same(nil, l.rows(deleted, "log", 1000), now)
	})
}

// record writes what the newest server wrote, for the tests of core/value by itself.
func (l *life) record(found changes.Rows) {
	path := os.Getenv("VELVET_VALUES")
	if path == "" || l.Major != pg.Versions()[len(pg.Versions())-1].Major {
		return
	}
	book, err := l.Books.Of(context.Background(), l.Record.ID)
	require.NoError(l, err)
	known, err := book.ColumnsOf(context.Background(), found.List[0].New.Relation.Database, found.List[0].Table.OID)
	require.NoError(l, err)
	type recorded struct {
		Column value.Column
		Body   []byte
		Text   string
	}
	var list []recorded
	for _, r := range found.List {
		i := slices.IndexFunc(r.After, func(c value.Cell) bool { return !c.Null && c.Column != "id" })
		list = append(list, recorded{known[0].Columns[i], r.Change.After.Body(), r.After[i].Text})
	}
	content, err := json.MarshalIndent(list, "", " ")
	require.NoError(l, err)
	require.NoError(l, os.WriteFile(path, content, 0o644))
}

// rows asks for the rows of a transaction.
func (l *life) rows(k known, table string, limit int) changes.Rows {
	found, err := l.askRows(k, table, limit)
	require.NoError(l, err)
	return found
}

// askRows is rows where a table may not be known yet.
func (l *life) askRows(k known, table string, limit int) (changes.Rows, error) {
	l.Captured()
	t, err := journal.ParseTable(table)
	require.NoError(l, err)
	j := l.open()
	list, err := j.ByXID(context.Background(), k.xid)
	require.NoError(l, err)
	require.Len(l, list, 1)
	return j.Rows(context.Background(), list[0], t, limit)
}

// same holds rows against what the server showed of them after the transaction, and before it.
func (l *life) same(after [][]*string, found changes.Rows, before [][]*string) {
	l.Helper()
	rows := slices.Clone(found.List)
	slices.SortStableFunc(rows, func(a, b changes.Row) int { return strings.Compare(id(a), id(b)) })
	byID := func(list [][]*string) {
		slices.SortStableFunc(list, func(a, b []*string) int { return strings.Compare(padID(*a[0]), padID(*b[0])) })
	}
	byID(after)
	byID(before)
	require.Len(l, rows, max(len(after), len(before)))
	for i, r := range rows {
		if after != nil {
			l.sameCells(after[i], r.After, r.Why)
		} else {
			assert.Nil(l, r.After)
		}
		if before != nil {
			l.sameCells(before[i], r.Before, r.Why)
		} else {
			assert.Nil(l, r.Before)
		}
	}
}

func padID(s string) string { return fmt.Sprintf("%8s", s) }

func id(r changes.Row) string {
	if r.After != nil {
		return padID(r.After[0].Text)
	}
	if r.Before != nil {
		return padID(r.Before[0].Text)
	}
	return ""
}

func (l *life) sameCells(want []*string, have []value.Cell, why string) {
	l.Helper()
	require.Len(l, have, len(want), why)
	for i, w := range want {
		c := have[i]
		assert.Empty(l, c.Why, c.Column)
		if assert.Equal(l, w == nil, c.Null, "%s %s", c.Column, c.Text) && w != nil {
			assert.Equal(l, *w, c.Text, "%s of %s", c.Column, l.kindOf(c.Column))
		}
	}
}

func (l *life) kindOf(column string) string {
	var n int
	if _, err := fmt.Sscanf(column, "c%d", &n); err != nil || n >= len(samples) {
		return column
	}
	return fmt.Sprint(l.Major, " ", samples[n].kind)
}

// TestWhatTheWALHoldsOfRows has rows of every form changed: values outside their rows, columns added and dropped, partitions,
// rows whose page was written before the captured WAL, and those of which only the key is kept.
func TestWhatTheWALHoldsOfRows(t *testing.T) {
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		logical := b.Major%2 == 1
		l := &life{Cluster: clusterbed.New(b, "wal_level = "+map[bool]string{true: "logical", false: "replica"}[logical])}
		l.Server.Exec("postgres", "create table quiet (id int primary key, note text)", "create table silent (id int, note text)",
			"insert into quiet values (1, 'tide'), (2, null)", "insert into silent values (1, 'tide')",
			"create table letter (id int, body text, plain text, gone int, note text)",
			"alter table letter alter plain set storage external", "create table fare (season int, cents int) partition by list (season)",
			"create table fare_2019 partition of fare for values in (2019)",
			"create table fare_2026 partition of fare for values in (2026)",
			"create table crew (id int, gone int, rank text)", "insert into crew select n, n, 'mate' from generate_series(1, 3) n",
			"alter system set full_page_writes = off", "select pg_reload_conf()", "vacuum quiet, silent", "select pg_switch_wal()",
			"checkpoint")
		if testbed.One[bool](b, l.SQL, "select 'lz4' = any (enumvals) from pg_settings where name = 'default_toast_compression'") {
			l.Server.Exec("postgres", "alter table letter alter body set compression lz4")
		}
		l.Capture()
		l.Eventually("capture streams", func() bool { return l.State().Receives() })
		cell := func(cells []value.Cell) (s string) {
			for _, c := range cells {
				s += fmt.Sprintf("%s=%s%s%s ", c.Column, c.Text, map[bool]string{true: "NULL"}[c.Null],
					map[bool]string{true: "?"}[c.Why != ""])
			}
			return strings.TrimSpace(s)
		}

		// What the WAL does not hold is not guessed.
		lost := l.rows(l.commit("delete from silent"), "silent", 9).List
		require.Len(t, lost, 1)
		assert.Nil(t, lost[0].Before)
		assert.Contains(t, lost[0].Why, "only a part")
		assert.EqualValues(t, 1, lost[0].Old.Offset, "there it lay")
		keys := l.rows(l.commit("delete from quiet"), "quiet", 9).List
		require.Len(t, keys, 2)
		assert.Equal(t, logical, keys[0].OnlyKey)
		assert.Equal(t, map[bool]string{true: "id=1"}[logical], cell(keys[0].Before))

		l.Server.Exec("postgres", "alter system reset full_page_writes", "select pg_reload_conf()")

		// Values inside and outside their rows, compressed and not.
		letters := l.commit("insert into letter values (1, repeat('tide ', 600), 'short', 5, null), (2, (select "+
			"string_agg(md5(n::text) || repeat('~', 40), '') from generate_series(1, 1500) n), (select string_agg(md5(n::text), '') "+
			"from generate_series(1, 500) n), null, 'x')", "savepoint s", "insert into letter values (3)", "rollback to s",
			"savepoint s", "insert into letter values (4)", "release s")
		show := "select array[id::text, body, plain, gone::text, note] from letter order by id"
		want := testbed.All[[]*string](b, l.SQL, show)
		found := l.rows(letters, "letter", 1000)
		l.same(want, found, nil)
		require.Len(t, l.rows(letters, "letter", 2).List, 2)
		assert.True(t, l.rows(letters, "letter", 2).More)
		assert.False(t, found.More)
		l.Server.Exec("postgres", "checkpoint")
		l.same(nil, l.rows(l.commit("delete from letter"), "letter", 1000), want)

		undone, err := l.SQL.Begin(context.Background())
		require.NoError(t, err)
		xid := testbed.One[int64](b, undone.Conn(), "insert into letter values (9, 'undone') returning pg_current_xact_id()::text::bigint")
		require.NoError(t, undone.Rollback(context.Background()))
		gone := l.rows(known{xid: pg.FullXID(xid)}, "letter", 9).List
		require.Len(t, gone, 1)
		assert.Equal(t, "id=9 body=undone plain=NULL gone=NULL note=NULL", cell(gone[0].After))

		// Columns that came and went.
		l.Server.Exec("postgres", "alter table crew add pay numeric default 12.5", "alter table crew add home text", "checkpoint")
		first := l.commit("delete from crew where id = 1")
		told := func(k known) func() bool {
			return func() bool { return l.rows(k, "crew", 9).List[0].Why == "" }
		}
		l.Eventually("somebody saw the columns that were added", told(first))
		assert.Equal(t, "id=1 gone=1 rank=mate pay=12.5 home=NULL", cell(l.rows(first, "crew", 9).List[0].Before))
		l.Server.Exec("postgres", "alter table crew drop gone", "alter table crew rename rank to grade")
		second := l.commit("update crew set home = 'pier' where id = 2")
		l.Eventually("somebody saw that one is gone", told(second))
		assert.Equal(t, "id=1 gone=1 rank=mate pay=12.5 home=NULL", cell(l.rows(first, "crew", 9).List[0].Before))
		assert.Equal(t, "id=2 grade=mate pay=12.5 home=NULL", cell(l.rows(second, "crew", 9).List[0].Before))
		assert.Equal(t, "id=2 grade=mate pay=12.5 home=pier", cell(l.rows(second, "crew", 9).List[0].After))
		both := l.rows(l.commit("update crew set home = null", "alter table crew add last int"), "crew", 9)
		require.Len(t, both.List, 2)
		assert.Equal(t, "the transaction changed the table's columns itself", both.List[0].Why)

		loaded := l.commit("create table load (n int, note text)", "insert into load values (1, 'x')")
		l.Eventually("the columns of a table that it made are known", func() bool {
			rows := l.rows(loaded, "load", 9).List
			return len(rows) == 1 && cell(rows[0].After) == "n=1 note=x"
		})
		spoilt := l.rows(l.commit("create table spoilt (n int, gone int)", "insert into spoilt values (1, 2)",
			"alter table spoilt drop gone", "insert into spoilt values (3)"), "spoilt", 9)
		require.Len(t, spoilt.List, 2)
		assert.NotEmpty(t, spoilt.List[0].Why)

		// In another encoding.
		l.Server.Exec("postgres", "create database isles encoding 'LATIN1' lc_collate 'C' lc_ctype 'C' template template0")
		isles := l.Server.Connect("isles")
		testbed.All[string](b, isles, "set client_encoding = 'UTF8'")
		testbed.All[string](b, isles, "create table \"note_é\" (body text)")
		latin := known{xid: pg.FullXID(testbed.One[int64](b, isles,
			"insert into \"note_é\" values ('Ã© é') returning pg_current_xact_id()::text::bigint"))}
		l.Eventually("the columns of another database are known", func() bool {
			rows, err := l.askRows(latin, "isles.public.note_é", 9)
			return err == nil && len(rows.List) == 1 && cell(rows.List[0].After) == "body=Ã© é"
		})

		// Many at once, and from one partition to another.
		fares := l.commit("insert into fare select 2019, n from generate_series(1, 50) n")
		l.Eventually("the partitions are known", func() bool {
			rows := l.rows(fares, "fare", 100).List
			return len(rows) == 50 && cell(rows[49].After) == "season=2019 cents=50"
		})
		moved := l.rows(l.commit("update fare set season = 2026 where cents = 7 and ctid = '(0,7)'"), "fare", 9).List
		require.Len(t, moved, 2)
		assert.Equal(t, []string{"fare_2019", "fare_2026"}, []string{moved[0].Table.Table, moved[1].Table.Table})
		assert.True(t, moved[0].Moved)
		assert.Equal(t, "season=2026 cents=7", cell(moved[1].After))
	})
}
