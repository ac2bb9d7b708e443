package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// odd are types with values of theirs that are easily spoilt.
var odd = [][2]string{
	{"int", "0|-2147483648|2147483647"}, {"smallint", "-32768|7"}, {"bigint", "9223372036854775807|-1"},
	{"numeric", "NaN|-0.00000000000000000001|123456789012345678901234567890.5|0"}, {"numeric(6,2)", "1.50|-9999.99"},
	{"double precision", "NaN|-0|1e308|0.1|-Infinity|4.9e-324"}, {"real", "3.4e38|0.1|NaN"}, {"money", "12.34|-0.01"},
	{"text", "|a|\ttab\\n\\|quo'te\"s|ünï|\\N|(a,b)|{x}|long:"}, {"varchar(9)", "x|   |NULL"}, {"char(5)", "ab|"}, {"name", "it|"},
	{"bytea", "\\x|\\x00ff5c"}, {"boolean", "t|f"}, {"date", "infinity|4713-01-01 BC|2026-11-28"},
	{"timestamptz", "-infinity|2026-10-25 01:30:00.000001+02|0044-03-15 00:00:00+00 BC"}, {"timestamp(3)", "2026-11-28 23:59:59.999"},
	{"time", "24:00:00|00:00:00.000001"}, {"timetz", "12:00:00+13:59"}, {"interval", "-1 mon +2 days -00:00:01.5|178000000 years"},
	{"uuid", "00000000-0000-0000-0000-0000000000ff"}, {"inet", "::1/64|10.0.0.1/8"}, {"cidr", "10.0.0.0/8"},
	{"macaddr8", "08:00:2b:01:02:03:04:05"},
	{"json", "{\"a\" :  1, \"a\": 2}|[]|null"}, {"jsonb", "{\"a\": [1, \"\\\\u00e9\", null]}|\"x\""}, {"xml", "<a b=\"c\">d</a>|plain"},
	{"int[]", "{}|{1,NULL,3}|[0:1]={1,2}|{{1,2},{3,4}}"}, {"text[]", "{\"\",NULL,\"NULL\",\"a\\\\\\\"b\",\"c,d\"}"},
	{"int4range", "empty|[1,5)|(,)"}, {"tstzrange", "[2026-01-01 00:00+00,)"}, {"nummultirange", "{}|{[1,2),[3,4.5]}"},
	{"point", "(1,-0)|(NaN,1e300)"}, {"box", "((1,1),(0,0))"}, {"tsvector", "'a':1A 'it''s':2"}, {"bit varying", "|0101"},
	{"\"char\"", "x|"},
	{"pg_lsn", "16/B374D848"}, {"jsonpath", "$.\"a\"[*] ? (@ > 1)"}, {"oid", "4294967295"}, {"class", "deck|it's"}, {"cents", "0|7"},
	{"place", "(x,deck)|(\"a,\"\"b\",)"},
}

// randomly is a table of a random schema.
type randomly struct {
	name    string
	key     []string // none for a table without
	columns []string // besides the key, and what refers to others
	types   []string
	moves   bool // its key may be changed: nothing refers to it
}

// wild makes random tables in a schema of their own, and accidents, and what others do meanwhile.
type wild struct {
	*stage
	*rand.Rand
	schema string
	tables []randomly
	serial int
}

// value is an expression for a random value of a column.
func (w *wild) value(t string) string {
	if w.IntN(5) == 0 {
		return "null"
	}
	for _, one := range odd {
		if one[0] == t {
			list := strings.Split(one[1], "|")
			v := list[w.IntN(len(list))]
			if v == "long:" {
				return fmt.Sprintf("(select string_agg(md5(n::text), '') from generate_series(%d, %d) n)", w.IntN(9), 9+w.IntN(400))
			}
			return "'" + strings.ReplaceAll(v, "'", "''") + "'::" + t
		}
	}
	panic(t)
}

func (w *wild) create(n int) {
	w.schema = fmt.Sprintf("wild_%d", n)
	say := []string{"create schema " + w.schema, "set search_path = " + w.schema + ", public",
		"create table touched (tab text, key text)",
		"create table seen (tab text, what text)",
		`create function note() returns trigger language plpgsql as $$ begin
			if current_setting('ferries.who', true) = 'innocent' then
				insert into ` + w.schema + `.touched select tg_argv[0], ` + w.schema + `.key_of(r, tg_argv[1])
					from (values (to_jsonb(old)), (to_jsonb(new))) x(r) where r is not null;
			else insert into ` + w.schema + `.seen values (tg_argv[0], tg_op); end if; return null; end $$`,
		`create function key_of(r jsonb, names text) returns text language sql immutable as
			$$ select string_agg(coalesce(r ->> k, ''), '/' order by n)
			from unnest(string_to_array(names, ',')) with ordinality x(k, n) $$`}
	forms := []struct{ key, extra, after string }{
		{"id", "", ""},
		{"id", "parent int references t0 on delete cascade", ""},
		{"id", "parent int references t2 on delete cascade, uni int unique", ""},
		{"a,b", "", ""},
		{"", "", ""},
		{"id", "", "partition by range (id)"},
		{"id", "other int", ""}, {"id", "other int references t6 on delete set null", ""},
	}
	w.tables = nil
	for i, f := range forms {
		t := randomly{name: fmt.Sprintf("t%d", i), moves: i == 3 || i == 5}
		var list []string
		switch f.key {
		case "id":
			t.key, list = []string{"id"}, []string{"id int primary key"}
		case "a,b":
			t.key, list = []string{"a", "b"}, []string{"a int", "b text", "primary key (b, a)"}
		}
		if f.extra != "" {
			list = append(list, f.extra)
		}
		for c := range 1 + w.IntN(6) {
			kind := odd[w.IntN(len(odd))][0]
			t.columns, t.types = append(t.columns, fmt.Sprintf(`"C %d"`, c)), append(t.types, kind)
			list = append(list, t.columns[c]+" "+kind)
		}
		if w.IntN(3) == 0 && i != 5 {
			list = append(list, "calc int generated always as (1 + 1) stored")
		}
		say = append(say, fmt.Sprintf("create table %s (%s) %s", t.name, strings.Join(list, ", "), f.after))
		if f.after != "" {
			say = append(say, "create table p1 partition of t5 for values from (-1000000) to (40)",
				"create table p2 partition of t5 for values from (40) to (1000000)")
		}
		if len(t.key) > 0 {
			say = append(say, fmt.Sprintf("create trigger note after insert or update or delete on %s for each row "+
				"execute function note('%s', '%s')", t.name, t.name, strings.Join(t.key, ",")))
		}
		w.tables = append(w.tables, t)
	}
	say = append(say, "alter table t6 add foreign key (other) references t7 on delete set null")
	w.ferries.Exec("postgres", strings.Join(say, ";\n"))
	for i := range w.tables {
		for range 60 {
			w.run("innocent", w.insert(i))
		}
	}
}

// insert inserts a row with a key of its own.
func (w *wild) insert(i int) string {
	t := w.tables[i]
	w.serial++
	var names, values []string
	for k := range t.key {
		names, values = append(names, t.key[k]), append(values, strconv.Itoa(w.serial))
	}
	refers := map[int][2]string{1: {"parent", "t0"}, 2: {"parent", "t2"}, 6: {"other", "t7"}, 7: {"other", "t6"}}
	if r, has := refers[i]; has && w.IntN(4) > 0 {
		names, values = append(names, r[0]), append(values, "(select id from "+r[1]+" order by random() limit 1)")
	}
	if i == 2 {
		names, values = append(names, "uni"), append(values, strconv.Itoa(w.serial))
	}
	for c, name := range t.columns {
		names, values = append(names, name), append(values, w.value(t.types[c]))
	}
	return fmt.Sprintf("insert into %s (%s) values (%s)", t.name, strings.Join(names, ", "), strings.Join(values, ", "))
}

func (w *wild) update(i int, where string) string {
	t := w.tables[i]
	c := w.IntN(len(t.columns))
	return fmt.Sprintf("update %s set %s = %s%s", t.name, t.columns[c], w.value(t.types[c]), where)
}

// some is a condition that some rows of a keyed table meet.
func (w *wild) some(i, of int) string {
	return fmt.Sprintf(" where abs(hashtext(%s::text)) %% %d = %d", w.tables[i].key[0], of, w.IntN(of))
}

// accident is what one transaction did.
func (w *wild) accidents() (list []string) {
	for range 1 + w.IntN(4) {
		i := w.IntN(len(w.tables))
		t := w.tables[i]
		switch kind := w.IntN(8); {
		case len(t.key) == 0:
			list = append(list, []string{"delete from t4 where random() < 0.5", w.update(4, " where random() < 0.5"),
				"delete from t4"}[w.IntN(3)])
		case kind < 2:
			list = append(list, "delete from "+t.name+w.some(i, 1+w.IntN(3)))
		case kind < 5:
			list = append(list, w.update(i, w.some(i, 1+w.IntN(3))), w.update(i, w.some(i, 1+w.IntN(3))))
		case kind == 5 && t.moves:
			list = append(list, fmt.Sprintf("update %s set %s = %s - 100000%s", t.name, t.key[0], t.key[0], w.some(i, 3)))
		case kind == 6:
			list = append(list, "savepoint s", "delete from "+t.name, "rollback to s", w.update(i, w.some(i, 2)))
		case kind == 7 && i == 3:
			list = append(list, "delete from t3 where a % 2 = 0",
				"insert into t3 (a, b) select n, n::text from generate_series(2, 90, 8) n on conflict do nothing")
		default:
			list = append(list, w.update(i, ""))
		}
	}
	return append(list, w.update(3, w.some(3, 2)))
}

// innocent is what others did.
func (w *wild) innocent() string {
	i := w.IntN(len(w.tables))
	switch kind := w.IntN(4); {
	case kind == 0 || len(w.tables[i].key) == 0:
		return w.insert(i)
	case kind == 1:
		return "delete from " + w.tables[i].name + w.some(i, 25)
	}
	return w.update(i, w.some(i, 12))
}

func (w *wild) run(who string, statements ...string) (tx string) {
	conn := w.ferries.Connect("postgres")
	defer func() { _ = conn.Close(context.Background()) }()
	begun, err := conn.Begin(context.Background())
	require.NoError(w, err)
	lead := fmt.Sprintf("set local search_path = %s, public; set local ferries.who = '%s'", w.schema, who)
	for _, sql := range append([]string{lead}, statements...) {
		_, err := begun.Exec(context.Background(), sql)
		require.NoError(w, err, sql)
	}
	require.NoError(w, begun.QueryRow(context.Background(), "select pg_current_xact_id()::text").Scan(&tx))
	require.NoError(w, begun.Commit(context.Background()))
	return tx
}

// rows are all rows of a table by their key, or where it has none, by themselves.
func (w *wild) rows(t randomly) map[string]string {
	key := "row_number() over () || ' ' || x::text"
	if len(t.key) > 0 {
		key = w.schema + ".key_of(to_jsonb(x), '" + strings.Join(t.key, ",") + "')"
	}
	rows, err := w.db.Query(context.Background(), "select "+key+", x::text from (select * from "+w.schema+"."+t.name+
		" y order by y::text) x")
	require.NoError(w, err)
	all := make(map[string]string)
	var k, text string
	_, err = pgx.ForEachRow(rows, []any{&k, &text}, func() error { all[k] = text; return nil })
	require.NoError(w, err)
	return all
}

func (w *wild) touched() map[string]bool {
	rows, err := w.db.Query(context.Background(), "select tab || ' ' || key from "+w.schema+".touched")
	require.NoError(w, err)
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(w, err)
	all := make(map[string]bool)
	for _, one := range list {
		all[one] = true
	}
	return all
}

// TestRandomRescues brings back what random accidents in random schemas took, and holds the live cluster against a model: every
// row is as it was before, but for what others did, which stays.
func TestRandomRescues(t *testing.T) {
	rounds := 15
	if n, err := strconv.Atoi(os.Getenv("VELVET_RESCUES")); err == nil {
		rounds = n
	}
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) { rescueAtRandom(t, b, rounds/5) })
}

func rescueAtRandom(t *testing.T, b *testbed.Bed, rounds int) {
	s := newStageOn(b)
	s.ferries.Exec("postgres", "create type class as enum ('deck', 'it''s')", "create domain cents as bigint check (value >= 0)",
		"create type place as (port text, pier class)")
	s.protect()
	s.take()
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("VELVET_SEED"), 10, 64); err == nil {
		seed = n
	}
	t.Logf("VELVET_SEED=%d", seed)
	w := &wild{stage: s, Rand: rand.New(rand.NewPCG(seed, 1))}
	for round := range rounds {
		if round%5 == 0 {
			w.create(round)
		}
		w.rescue(round)
		if t.Failed() {
			return
		}
	}
}

func (w *wild) rescue(round int) {
	w.ferries.Exec("postgres", "truncate "+w.schema+".touched")
	before := make(map[string]map[string]string)
	for _, t := range w.tables {
		before[t.name] = w.rows(t)
	}
	list := w.accidents()
	tx := w.run("accident", list...)
	for range w.IntN(12) {
		w.run("innocent", w.innocent())
	}
	touched := w.touched()
	middle := make(map[string]map[string]string)
	for _, t := range w.tables {
		middle[t.name] = w.rows(t)
	}
	w.captured()
	args := []string{"rescue", "apply", "ferries", "before tx " + tx, "--settle", "keep-live", "--confirm", "ferries", "--as",
		testbed.Superuser, "--as-password-file", w.superuserPassword()}
	if w.IntN(3) == 0 {
		args = append(args, "--at-once", strconv.Itoa(1+w.IntN(30)))
	}
	r := w.service.VelvetWith("", args...)
	require.Zero(w, r.Code, "round %d\n%s\n%s\n%s", round, strings.Join(list, ";\n"), r.Out, r.Err)
	for _, t := range w.tables {
		if len(t.key) == 0 {
			continue
		}
		after := w.rows(t)
		want := make(map[string]string)
		for k, row := range before[t.name] {
			want[k] = row
		}
		for k, row := range middle[t.name] {
			if _, was := before[t.name][k]; touched[t.name+" "+k] || !was && w.stays(t, list) {
				want[k] = row
			}
		}
		for k := range before[t.name] {
			if _, is := middle[t.name][k]; is {
				continue
			}
			moved := w.moved(t, k)
			if touched[t.name+" "+k] || touched[t.name+" "+moved] {
				delete(want, k)
			}
			if row, is := middle[t.name][moved]; is { // under the key that the accident gave it
				if delete(want, moved); touched[t.name+" "+moved] {
					want[moved] = row
				}
			}
		}
		for k := range after {
			if want[k] != after[k] {
				w.differs(round, t, k, want[k], after[k], list, r.Out)
				return
			}
		}
		for k := range want {
			if _, is := after[k]; !is && !strings.Contains(r.Out, "its parent is gone") {
				w.differs(round, t, k, want[k], "", list, r.Out)
				return
			}
		}
	}
	var copies []api.Copy
	w.service.JSON(&copies, "copy", "list")
	for _, k := range copies {
		w.service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	}
}

// moved is the key that an accident may have given a row.
func (w *wild) moved(t randomly, key string) string {
	first, rest, several := strings.Cut(key, "/")
	n, err := strconv.Atoi(first)
	require.NoError(w, err)
	if !t.moves {
		return ""
	}
	if several {
		rest = "/" + rest
	}
	return strconv.Itoa(n-100000) + rest
}

// stays tells whether rows that the accident inserted may be there still: nobody has said that they are wrong.
func (w *wild) stays(t randomly, list []string) bool {
	return strings.Contains(strings.Join(list, ";"), "insert into "+t.name+" ")
}

func (w *wild) differs(round int, t randomly, key, want, is string, list []string, out string) {
	assert.Equal(w, want, is, "round %d: %s %s after\n%s\n%s", round, t.name, key, strings.Join(list, ";\n"), out)
}
