package main

import (
	"bytes"
	"context"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// TestRowsElsewhere takes the rows that a transaction deleted out of the copy in every form, while the original is down, and holds them
// against what they were.
func TestRowsElsewhere(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", `create table "Log book" (id bigint primary key, "said ""so""" text, raw bytea, fine boolean, cents numeric,
		at timestamptz, spans int[], depth real) partition by range (id)`,
		`create table log_low partition of "Log book" for values from (0) to (50)`,
		`create table log_high partition of "Log book" for values from (50) to (1000)`,
		`insert into "Log book" select n, case n % 4 when 0 then null when 1 then e'a,"b"\n\\N\\.\t' when 2 then '' else 'tide ' || n end,
			decode(lpad(to_hex(n), 4, '0'), 'hex'), n % 3 = 0, n / 7.0, 'epoch'::timestamptz + n * interval '1 s', array[n, null], n / 3.0
			from generate_series(1, 99) n`,
		`create table untouched (n int)`)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	lost := func(conn string) string {
		return testbed.One[string](s.Bed, s.db, "select string_agg(b::text, ' ' order by id) from "+conn+" b")
	}
	s.exec(`create table was as select * from "Log book" where id between 40 and 60`)
	tx := testbed.One[string](s.Bed, s.db,
		`with d as (delete from "Log book" where id between 40 and 60) select pg_current_xact_id()::text`)
	s.captured()
	export := func(args ...string) string {
		return s.service.Must(append([]string{"rescue", "export", "ferries", "before tx " + tx, "--table", `"Log book"`}, args...)...)
	}
	csv := s.Path("lost.csv")
	export("--file", csv)
	content, err := os.ReadFile(csv)
	require.NoError(t, err)
	head, _, _ := strings.Cut(string(content), "\n")
	require.Equal(t, `"id","said ""so""","raw","fine","cents","at","spans","depth"`, head)
	s.exec(`create table again (like "Log book")`)
	_, err = s.db.PgConn().CopyFrom(context.Background(), bytes.NewReader(content), "copy again from stdin (format csv, header)")
	require.NoError(t, err)
	require.Equal(t, lost("was"), lost("again"))

	s.exec("create schema archive")
	sql := s.Path("lost.sql")
	export("--form", "sql", "--into", `archive."Lost"`, "--where", "id < 50 -- low", "--file", sql)
	require.NoError(t, os.Chmod(sql, 0o644))
	out, err := s.ferries.Program("psql", "-v", "ON_ERROR_STOP=1", "-f", sql, "postgres").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, lost("(select * from was where id < 50)"), lost(`archive."Lost"`))

	columns := s.Path("lost.parquet")
	export("--form", "parquet", "--file", columns)
	type row struct {
		ID    *int64   `parquet:"id"`
		Said  *string  `parquet:"said \"so\""`
		Raw   []byte   `parquet:"raw,optional"`
		Fine  *bool    `parquet:"fine"`
		Cents *string  `parquet:"cents"`
		Depth *float32 `parquet:"depth"`
	}
	read, err := parquet.ReadFile[row](columns)
	require.NoError(t, err)
	require.Len(t, read, 21)
	for _, r := range read {
		want := testbed.One[string](s.Bed, s.db, `select concat_ws('|', coalesce("said ""so""", 'none'), encode(raw, 'hex'), fine, cents,
			depth) from was where id = $1`, *r.ID)
		assert.Equal(t, want, testbed.One[string](s.Bed, s.db, `select concat_ws('|', coalesce($1, 'none'), encode($2, 'hex'), $3::bool,
			$4::numeric, $5::real)`, r.Said, r.Raw, r.Fine, r.Cents, r.Depth))
	}

	for says, args := range map[string][]string{
		"has no table quay":               {"--table", "quay"},
		`column "nobody" does not exist`:  {"--where", "nobody = 1"},
		"the table's database is missing": {"--every-row"},
		"took no row of public.untouched": {"--table", "untouched"},
		"file exists":                     {"--file", csv},
		"could not open file":             {"--table", "booking", "--every-row", "--database", "postgres"},
		"--form xls: choose":              {"--form", "xls"},
	} {
		s.refused(1, []string{says}, append([]string{"rescue", "export", "ferries", "before tx " + tx, "--table", `"Log book"`},
			args...)...)
	}

	whole := lost("was")
	begun, err := s.db.Begin(context.Background())
	require.NoError(t, err)
	_, err = begun.Exec(context.Background(), `alter table was drop column "said ""so"""`)
	require.NoError(t, err)
	require.NoError(t, begun.QueryRow(context.Background(), "select pg_current_xact_id()::text").Scan(&tx))
	require.NoError(t, begun.Commit(context.Background()))
	s.captured()
	remedy := regexp.MustCompile(`old rows beside the table with velvet (rescue export \S+ --table public.was .*? --into old_rows), and`).
		FindStringSubmatch(strings.Join(strings.Fields(s.service.Must("rescue", "plan", "ferries", "before tx "+tx)), " "))
	require.NotNil(t, remedy, "a column that was dropped has a remedy")
	old := s.Path("old.sql")
	s.service.Must(append(strings.Fields(remedy[1]), "--file", old)...)
	require.NoError(t, os.Chmod(old, 0o644))
	out, err = s.ferries.Program("psql", "-v", "ON_ERROR_STOP=1", "-f", old, "postgres").CombinedOutput()
	require.NoError(t, err, string(out))
	s.exec(`alter table was add column "said ""so""" text`)
	s.exec(`update was set "said ""so""" = o."said ""so""" from old_rows o where o.id = was.id`)
	require.Equal(t, whole, lost(`(select id, "said ""so""", raw, fine, cents, at, spans, depth from was)`))
	s.discardAll()
}
