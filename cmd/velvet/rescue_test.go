package main

import (
	"context"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// TestRescue brings back what one transaction took, while others go on, and what they did stays.
func TestRescue(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres",
		"create role owner login password 'tide'", "create schema fleet authorization owner",
		"grant all on schema public to owner",
		`create table fleet.fare (route text, class text, cents int not null, primary key (route, class))`,
		`create table fleet.ticket (id bigint generated always as identity primary key, booking int not null references booking on delete
		cascade,
			parent bigint references fleet.ticket on delete cascade, seat text unique, twice text generated always as (seat || seat)
			stored)`,
		`create table fleet.remark (at timestamptz, text text)`,
		`create table fleet.tide (port text, day date, cm int, primary key (port, day)) partition by range (day)`,
		`create table fleet.tide_a partition of fleet.tide for values from ('2026-01-01') to ('2026-07-01')`,
		`create table fleet.tide_b partition of fleet.tide for values from ('2026-07-01') to ('2027-01-01')`,
		"alter table fleet.fare owner to owner", "alter table fleet.ticket owner to owner", "alter table fleet.remark owner to owner",
		"alter table fleet.tide owner to owner", "alter table booking owner to owner",
		"insert into fleet.fare select 'route ' || n, c, n * 100 from generate_series(1, 500) n, (values ('deck'), ('cabin')) v(c)",
		"insert into fleet.ticket (booking, seat) select n, 'seat ' || n from generate_series(1, 2000) n",
		"insert into fleet.ticket (booking, parent, seat) select 1, 5, 'child'",
		"insert into fleet.remark select '2026-01-01', 'the same' from generate_series(1, 10)",
		"insert into fleet.tide select 'port ' || n % 5, '2026-01-01'::date + n, n from generate_series(181, 361) n")
	s.protect()
	s.take()
	tables := []string{"booking", "fleet.ticket", "fleet.fare", "fleet.remark", "fleet.tide"}
	// The model has what was there, and what everybody but the accident did.
	s.ferries.Exec("postgres", "create schema model")
	for _, name := range tables {
		_, bare, _ := strings.Cut("."+name, ".")
		bare = bare[strings.LastIndex(bare, ".")+1:]
		s.ferries.Exec("postgres", "create table model."+bare+" as table "+name)
	}
	tx := s.accident("delete from booking where id <= 1500", "update fleet.fare set cents = 2", "update fleet.fare set cents = cents - 1",
		"delete from fleet.remark where text = 'the same'", "update fleet.tide set day = day - 181",
		"update fleet.remark set text = upper(text)",
		"update fleet.tide set cm = 0 where port = 'port 1'", "insert into fleet.ticket (booking, seat) values (2000, 'its own')",
		"delete from fleet.ticket where seat = 'its own'")
	for _, sql := range []string{"insert into booking values (50000, 'later')", "update fare set cents = 777 where route = 'route 7'",
		"insert into remark values ('2026-02-01', 'later')", "delete from fare where route = 'route 8'",
		"update booking set note = 'later' where id = 1800", "delete from booking where id = 1900",
		"insert into tide values ('port 9', '2026-09-09', 9)"} {
		s.ferries.Exec("postgres", "set search_path = fleet, public; "+sql, "set search_path = model; "+sql)
	}
	s.ferries.Exec("postgres", "insert into booking values (3, 'made anew')", "update model.booking set note = 'made anew' where id = 3",
		"delete from model.ticket where booking = 1900")
	s.captured()
	moment := "before tx " + tx
	as := []string{"--as", "owner", "--as-password-file", s.Path("owner-password")}
	require.NoError(t, os.WriteFile(as[3], []byte("tide\n"), 0o600))

	plan := s.service.Must("rescue", "plan", "ferries", moment)
	for _, says := range []string{`public.booking +1,500 deleted +1,499 +0 +0 +1 `, `fleet.ticket +1,502 deleted +1,501 `,
		`fleet.fare:\("route 7",deck\) +changed since: cents was 700, is 777 +\(stop\)`, `fleet.fare:\("route 8",deck\) +deleted since`,
		`public.booking:3 +changed since: note was "tide tide tide ", is "made anew"`, `fleet.remark has no key`} {
		assert.Regexp(t, says, plan)
	}
	assert.NotContains(t, plan, "inserted into fleet.tide_a", "they were moved there")
	s.refused(1, []string{"live has changed since", "1 row of public.booking, 4 rows of fleet.fare", "--settle"},
		append([]string{"rescue", "apply", "ferries", moment, "--confirm", "ferries"}, as...)...)
	s.refused(3, []string{"rows that transaction " + tx + " took", "confirm with the cluster's name: ferries", "rows are back"},
		append([]string{"rescue", "apply", "ferries", moment, "--settle", "keep-live"}, as...)...)
	same := func() (differ []string) {
		for _, name := range tables {
			bare := name[strings.LastIndex(name, ".")+1:]
			n := testbed.One[int](s.Bed, s.db, "select count(*) from ((table "+name+" except all table model."+bare+
				") union all (table model."+bare+" except all table "+name+")) d")
			if n > 0 {
				differ = append(differ, name)
			}
		}
		return differ
	}
	require.Equal(t, tables, same(), "nothing is back yet")
	out := s.service.Must(append([]string{"rescue", "apply", "ferries", moment, "--settle", "keep-live", "--confirm", "ferries"}, as...)...)
	for _, says := range []string{"the rows are back, by transaction", `rows are back +passed`, `others untouched +passed`,
		`constraints +passed`,
		`nothing elsewhere +passed +no other table was written`} {
		assert.Regexp(t, says, out)
	}
	assert.Empty(t, same())
	assert.Contains(t, s.service.Must("rescue", "list", "ferries"), "applied")
	compared := s.service.Must("rescue", "compare", "ferries-1", "--database", "postgres", "--table", "fleet.fare",
		"--table", "fleet.remark", "--table", "tide")
	for _, says := range []string{`fleet.fare +route, class +1,000 +998 +2 +2 +0\n`, `fleet.remark +whole rows +10 +11 +0 +0 +1\n`,
		`fleet.tide +port, day +181 +182 +0 +0 +1\n`, `missing +\("route 8",`,
		`changed +\("route 7",deck,700\)\n +to +\("route 7",deck,777\) +by tx \d+\n`,
		`fleet.fare was written since the copy by:`,
		tx + ` .* +0 +2,000 +0\n`} {
		assert.Regexp(t, says, compared)
	}
	part := s.service.Must("rescue", "compare", "ferries-1", "--database", "postgres", "--table", "fleet.fare", "--where",
		"route = 'route 8' -- only this", "--shown", "1")
	assert.Regexp(t, `fleet.fare +route, class +2 +0 +2 +0 +0\n\nof fleet.fare:\n`+
		` +missing +\("route 8",cabin,800\)\n[^(]*$`, part)
	s.refused(1, []string{"refused it"}, "rescue", "compare", "ferries-1", "--database", "postgres", "--table", "fleet.fare",
		"--where", "pg_logical_emit_message(true, 'x', 'y') is not null")
	s.refused(1, []string{"permission denied"}, "rescue", "export", "ferries-1", "--table", "fleet.fare", "--where",
		"pg_reload_conf()")
	s.captured()
	assert.Empty(t, s.cluster().Incidents, "the accident was looked at, and the rescue is none")
	s.service.Must("copy", "discard", "ferries-1", "--confirm", "ferries")
}

// TestRescueIsKilled kills the service at any time in a rescue: the rows are all back or none, once, what is recorded says which,
// and another rescue brings them back, once.
func TestRescueIsKilled(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create table remark (text text)", "insert into remark select 'the same' from generate_series(1, 20000)")
	s.protect()
	s.take()
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	outcomes := map[bool]int{}
	for round := range 3 {
		tx := s.accident("delete from booking where id % 2 = 0", "delete from remark", "update payment set cents = 0")
		s.captured()
		args := []string{"rescue", "apply", "ferries", "before tx " + tx, "--confirm", "ferries", "--as", testbed.Superuser,
			"--as-password-file", s.superuserPassword()}
		s.service.Must("rescue", "plan", "ferries", "before tx "+tx) // the copy is there
		done := make(chan struct{})
		go func() {
			defer close(done)
			s.service.VelvetWith("", args...)
		}()
		s.Eventually("it began to write", func() bool {
			var list []api.Rescue
			s.service.JSON(&list, "rescue", "list", "ferries")
			return list[0].Transaction == must(strconv.ParseUint(tx, 10, 64)) && list[0].State != "planned"
		})
		time.Sleep(time.Duration(random.IntN(2500)) * time.Millisecond)
		s.service.Kill()
		<-done
		s.Eventually("its session is gone", func() bool {
			return testbed.One[int](s.Bed, s.db, "select count(*) from pg_stat_activity where xact_start < now() "+
				"and application_name = 'velvet' and query not like '%pg_stat_activity%'") == 0
		})
		back := testbed.One[int](s.Bed, s.db, "select count(*) from booking") == 20000
		outcomes[back]++
		rows := map[bool]string{true: "20000 20000 true", false: "10000 0 false"}
		const all = `select (select count(*) from booking) || ' ' || (select count(*) from remark) || ' ' ||
			(select count(*) > 0 from payment where cents > 0)`
		assert.Equal(t, rows[back], testbed.One[string](s.Bed, s.db, all), "all or nothing")
		s.service.Start()
		s.Eventually("what became of it is recorded", func() bool {
			var list []api.Rescue
			s.service.JSON(&list, "rescue", "list", "ferries")
			return list[0].EndedAt != nil && (list[0].State == "applied") == back
		})
		s.service.Must(args...)
		assert.Equal(t, rows[true], testbed.One[string](s.Bed, s.db, all), "round %d: back, and nothing twice", round)
		var copies []api.Copy
		s.service.JSON(&copies, "copy", "list")
		s.discard(copies[0])
		s.streaming()
	}
	t.Logf("killed: %v", outcomes)
}

// TestRescueInBatches brings rows back in many transactions, the service killed between them: the same command goes on after those that
// are committed, and nothing comes back twice, not even of a table whose rows are all the same.
func TestRescueInBatches(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create table remark (text text)", "insert into remark select 'the same' from generate_series(1, 20000)",
		"create table knot (id int primary key, above int references knot)",
		"insert into knot select n, nullif(n / 2, 0) from generate_series(1, 5000) n",
		"create table log as select n from generate_series(1, 9000) n")
	s.protect()
	s.take()
	tx := s.accident("delete from booking where id % 2 = 0", "delete from remark", "delete from knot", "update payment set cents = 0")
	s.captured()
	args := []string{"rescue", "apply", "ferries", "before tx " + tx, "--confirm", "ferries", "--as", testbed.Superuser,
		"--as-password-file", s.superuserPassword(), "--at-once", "3000"}
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.service.VelvetWith("", append(args, "--pause", "1s")...)
	}()
	latest := func() (r api.Rescue) {
		var list []api.Rescue
		if s.service.JSON(&list, "rescue", "list", "ferries"); len(list) > 0 {
			r = list[0]
		}
		return r
	}
	s.Eventually("some batches are committed", func() bool { return len(latest().Batches) >= 3 })
	s.service.Kill()
	<-done
	s.service.Start()
	s.Eventually("how far it came is recorded", func() bool { return latest().EndedAt != nil })
	first := latest()
	require.Equal(t, "partly", first.State)
	require.Positive(t, first.Left)
	var k api.Copy
	s.service.JSON(&k, "copy", "show", first.Copy)
	s.refused(1, []string{"together with others or without them"}, append([]string{"rescue", "plan", k.Name, "--transaction", tx + "," +
		s.accident("delete from booking where id = 1")}, args[6:10]...)...)
	out := s.service.Must(args...)
	assert.Contains(t, out, "the rows are back, by ")
	last := latest()
	require.Equal(t, []any{"applied", 0}, []any{last.State, last.Left})
	for _, own := range last.Batches {
		assert.NotContains(t, first.Batches, own)
	}
	assert.Equal(t, "20000 20000 5000 true", testbed.One[string](s.Bed, s.db, `select (select count(*) + 1 from booking) || ' ' ||
		(select count(*) from remark) || ' ' || (select count(*) from knot) || ' ' || (select bool_and(cents > 0) from payment)`))
	s.service.Must("copy", "discard", k.Name, "--confirm", "ferries")

	tx = s.accident("truncate log")
	s.captured()
	args[3] = "before tx " + tx
	s.service.Must(args...)
	assert.Len(t, latest().Batches, 3+1, "by the blocks in which they lie")
	assert.Equal(t, "9000 9000", testbed.One[string](s.Bed, s.db, "select count(*) || ' ' || count(distinct n) from log"))
	tx = s.accident("drop table log")
	s.captured()
	args[3] = "before tx " + tx
	s.refused(1, []string{"in one transaction", "Leave --at-once out"}, args...)
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestRescueOfSeveral undoes two transactions together, between and after which others wrote.
func TestRescueOfSeveral(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create table ticket (id int primary key, note text)",
		"insert into ticket select n, 'valid' from generate_series(1, 100) n", "create table pier as select 1 as n")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	by := func(q string) string {
		return testbed.One[string](s.Bed, s.db, "with w as ("+q+" returning 1) select pg_current_xact_id()::text")
	}
	first := by("delete from ticket where id <= 10")
	s.exec("update ticket set note = 'upgraded' where id between 11 and 20")
	s.exec("insert into ticket values (5, 'issued anew')")
	second := by("update ticket set note = 'void' where id between 16 and 30")
	s.exec("update ticket set note = 'refunded' where id = 25")
	third := ""
	func() {
		tx, err := s.db.Begin(context.Background())
		require.NoError(t, err)
		_, err = tx.Exec(context.Background(), "truncate pier")
		require.NoError(t, err)
		require.NoError(t, tx.QueryRow(context.Background(), "select pg_current_xact_id()::text").Scan(&third))
		require.NoError(t, tx.Commit(context.Background()))
	}()
	s.captured()
	s.refused(1, []string{"transaction " + first + " was committed before " + second}, "rescue", "plan", "ferries", "before tx "+second,
		"--transaction", second, "--transaction", first)
	s.refused(1, []string{"truncated or dropped pier", `velvet rescue plan ferries "before tx ` + third}, "rescue", "plan", "ferries",
		"before tx "+first, "--transaction", first, "--transaction", third)
	out := s.service.Must("rescue", "apply", "ferries", "before tx "+first, "--transaction", first, "--transaction", second, "--settle",
		"keep-live", "--confirm", "ferries", "--as", testbed.Superuser, "--as-password-file", s.superuserPassword())
	for _, says := range []string{"of transaction +" + first + ", " + second + ",", "the rows are back",
		`5 rows that others had made or changed since the copy stay away`, `others untouched +passed`} {
		assert.Regexp(t, says, out)
	}
	assert.Equal(t, "1-4 valid, 5-5 issued anew, 6-10 valid, 11-15 upgraded, 16-20 void, 21-24 valid, 25-25 refunded, 26-100 valid",
		testbed.One[string](s.Bed, s.db, `select string_agg(min || '-' || max || ' ' || note, ', ' order by min)
			from (select min(id), max(id), note from (select id, note, id - row_number() over (partition by note order by id) as run
			from ticket) x group by note, run) y`))
	assert.Contains(t, s.service.Must("rescue", "list", "ferries"), "applied")
	again := s.service.Must("rescue", "plan", "ferries", "before tx "+second)
	assert.Regexp(t, `public.ticket +15 updated +0 +5 +9 +1 `, again, "the five that stayed away come back so")
	s.discardAll()
}

// accident runs statements in one transaction, and gives its id.
func (s *stage) accident(statements ...string) (tx string) {
	conn := s.ferries.Connect("postgres")
	begun, err := conn.Begin(context.Background())
	require.NoError(s, err)
	require.NoError(s, begun.QueryRow(context.Background(), "select pg_current_xact_id()::text").Scan(&tx))
	for _, sql := range statements {
		_, err := begun.Exec(context.Background(), sql)
		require.NoError(s, err, sql)
	}
	require.NoError(s, begun.Commit(context.Background()))
	return tx
}
