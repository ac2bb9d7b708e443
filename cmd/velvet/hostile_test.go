package main

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/readiness"
	"velvetrewind/engine/host"
	"velvetrewind/service/wire"
)

// hostileDatabase is what the owner of a database can put into it to have others run code: each of
// its functions says in the server's log as whom it was called.
var hostileDatabase = []string{
	"create schema evil",
	`create function evil.tell() returns boolean language plpgsql volatile as $$ begin raise log 'EVIL % for %', current_user, session_user; return true; end $$`,
	`create function evil.one(int) returns int language plpgsql immutable as $$ begin raise log 'EVIL % for %', current_user, session_user; return 1; end $$`,
	// Names of the system, ahead of it in the search path.
	"create view evil.pg_class as select * from pg_catalog.pg_class where evil.tell()",
	"create view evil.pg_namespace as select * from pg_catalog.pg_namespace where evil.tell()",
	"create view evil.pg_database as select * from pg_catalog.pg_database where evil.tell()",
	"create view evil.pg_settings as select * from pg_catalog.pg_settings where evil.tell()",
	"create view evil.pg_roles as select * from pg_catalog.pg_roles where evil.tell()",
	"create view evil.pg_replication_slots as select * from pg_catalog.pg_replication_slots where evil.tell()",
	"create view evil.pg_tablespace as select * from pg_catalog.pg_tablespace where evil.tell()",
	`create function evil.pg_relation_filenode(oid) returns oid language sql as $$ select pg_catalog.pg_relation_filenode($1) where evil.tell() $$`,
	`create function evil.current_setting(text) returns text language sql as $$ select pg_catalog.current_setting($1) where evil.tell() $$`,
	`create function evil.current_database() returns name language sql as $$ select pg_catalog.current_database() where evil.tell() $$`,
	`create function evil.clock_timestamp() returns timestamptz language sql as $$ select pg_catalog.clock_timestamp() where evil.tell() $$`,
	`create function evil.equal(oid, oid) returns boolean language plpgsql as $$ begin return evil.tell() and $1::pg_catalog.int8 operator(pg_catalog.=) $2::pg_catalog.int8; end $$`,
	`create function evil.equal(name, text) returns boolean language plpgsql as $$ begin return evil.tell() and $1::pg_catalog.text operator(pg_catalog.=) $2; end $$`,
	"create operator evil.= (function = evil.equal, leftarg = oid, rightarg = oid)",
	"create operator evil.= (function = evil.equal, leftarg = name, rightarg = text)",
	"alter database mal set search_path = evil, pg_catalog",
	"alter database mal set row_security = on",
	"alter database mal set enable_seqscan = off",
	// Tables that call functions when a scan of them is planned or run.
	"create table public.by_expression (n int)", "create index on public.by_expression ((evil.one(1)))",
	"create table public.by_predicate (n int)", "create index on public.by_predicate (n) where evil.one(1) = 1",
	"create table public.by_statistics (n int, m int)", "create statistics public.s on (evil.one(1) + n), m from public.by_statistics",
	"create table public.by_policy (n int)", "create policy p on public.by_policy using (evil.one(1) = 1)", "alter table public.by_policy enable row level security", "alter table public.by_policy force row level security",
	"create domain public.odd as int check (evil.one(value) = 1)",
	"create table public.by_constraint (n int default evil.one(1), o public.odd, g int generated always as (evil.one(n)) stored, check (evil.one(n) = 1))",
	"create view public.looks as select evil.tell()",
	"create materialized view public.kept as select evil.one(1) as n",
	"insert into public.by_expression select n from generate_series(1, 100) n",
	"insert into public.by_predicate select n from generate_series(1, 100) n",
	"insert into public.by_statistics select n, n from generate_series(1, 100) n",
	"insert into public.by_policy select n from generate_series(1, 100) n",
	"insert into public.by_constraint (o) select 1 from generate_series(1, 100) n",
	"analyze",
}

// TestHostileOwner protects a cluster through a database whose owner means ill, and has every
// operation done that opens a session there or in a copy. Nothing of the owner's is called by
// anybody with more rights than the owner has.
func TestHostileOwner(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create role mal login password 'mal'", "create role ghost nologin", "grant ghost to mal", "create database mal owner mal")
	s.ferries.Exec("mal", "grant execute on function pg_read_file(text), pg_read_binary_file(text, bigint, bigint, boolean), "+strings.Join(readiness.OnlineBackupFunctions(pg.Major(s.Major)), ", ")+" to velvet")
	args := []string{"-X", "-q", "-v", "ON_ERROR_STOP=1", "-U", "mal", "-d", "mal"}
	for _, statement := range hostileDatabase {
		args = append(args, "-c", statement)
	}
	// Last, because what is done in it afterwards is done as its new owner.
	args = append(args, "-c", "create table public.of_a_ghost (n int)", "-c", "create index on public.of_a_ghost ((evil.one(1)))", "-c", "grant create, usage on schema public, evil to ghost", "-c", "alter table public.of_a_ghost owner to ghost")
	load := s.ferries.Program("psql", args...)
	load.Env = append(os.Environ(), "PGPASSWORD=mal")
	out, err := load.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Regexp(t, "EVIL mal", s.said(s.ferries.Log), "the functions tell who calls them")

	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "add", "ferries", "--connect", s.ferries.DSN("velvet", "mal"), "--password-file", "-", "--no-base")
	require.Zero(t, r.Code, r.Err)
	s.streaming()
	s.take()
	s.commit(1)
	b, log := s.take("--kind", "incremental")
	assert.Equal(t, "incremental", b.Kind, log)
	s.service.Must("cluster", "ready", "ferries")
	last := s.commit(2)
	s.captured()
	s.Eventually("names were sampled in the hostile database", func() bool {
		return regexp.MustCompile(`by_expression`).MatchString(s.service.Must("changes", "list", "ferries"))
	})
	for _, opened := range []bool{false, true} {
		var k wire.Copy
		s.service.JSON(&k, "restore", "start", "ferries", "tx "+last)
		if opened {
			s.service.Must("copy", "open", k.ID)
		}
		proof := s.service.Velvet("prove", "run", k.ID)
		assert.Contains(t, proof.Out, "cannot be read safely", "the ghost's table is not read, and that is said")
		assert.NotContains(t, proof.Out, "failed")
		s.service.Must("copy", "show", k.ID)
		said := s.said(filepath.Join(k.Directory, "server.log"))
		assert.Contains(t, said, "EVIL mal for mal", "as its owner the table was read")
		s.onlyAs(said, "mal")
		s.discard(k)
	}
	s.onlyAs(s.said(s.ferries.Log), "mal")
	require.NoError(t, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
}

// said is what a server's log holds.
func (s *stage) said(log string) string {
	content, err := os.ReadFile(log)
	if err != nil {
		return ""
	}
	return string(content)
}

// onlyAs holds that hostile functions were called by nobody but one role, for itself.
func (s *stage) onlyAs(log, role string) {
	s.Helper()
	for _, call := range regexp.MustCompile(`EVIL (\S+) for (\S+)`).FindAllStringSubmatch(log, -1) {
		assert.Equal(s, role, call[1], "called as")
		assert.Equal(s, role, call[2], "called in a session of")
	}
}
