package main

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/core/readiness"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// hostileDatabase is what the owner of a database can put into it to have others run code: each says in the
// server's log what was called, and as whom.
var hostileDatabase = []struct{ name, sql string }{
	{"", "create schema evil"},
	{"", `create function evil.tell(what text) returns boolean language plpgsql volatile as $$ begin raise log 'EVIL % as % for % by <%>',
		what, current_user, session_user, pg_catalog.current_setting('application_name'); return true; end $$`},
	{"", `create function evil.one(what text, n int) returns int language plpgsql immutable as $$ begin
		raise log 'EVIL % as % for % by <%>', what, current_user, session_user, 
			pg_catalog.current_setting('application_name'); return 1; end $$`},
	// Names of the system, ahead of it in the search path.
	{"view-pg_class", "create view evil.pg_class as select * from pg_catalog.pg_class where evil.tell('view-pg_class')"},
	{"view-pg_namespace", "create view evil.pg_namespace as select * from pg_catalog.pg_namespace where evil.tell('view-pg_namespace')"},
	{"view-pg_database", "create view evil.pg_database as select * from pg_catalog.pg_database where evil.tell('view-pg_database')"},
	{"view-pg_settings", "create view evil.pg_settings as select * from pg_catalog.pg_settings where evil.tell('view-pg_settings')"},
	{"view-pg_roles", "create view evil.pg_roles as select * from pg_catalog.pg_roles where evil.tell('view-pg_roles')"},
	{"view-pg_replication_slots", "create view evil.pg_replication_slots as select * from pg_catalog.pg_replication_slots where " +
		"evil.tell('view-pg_replication_slots')"},
	{"view-pg_tablespace", "create view evil.pg_tablespace as select * from pg_catalog.pg_tablespace where " +
		"evil.tell('view-pg_tablespace')"},
	{"function-pg_relation_filenode", `create function evil.pg_relation_filenode(oid) returns oid
		language sql as $$ select pg_catalog.pg_relation_filenode($1) where evil.tell('function-pg_relation_filenode') $$`},
	{"function-current_setting", `create function evil.current_setting(text) returns text
		language sql as $$ select pg_catalog.current_setting($1) where evil.tell('function-current_setting') $$`},
	{"function-current_database", `create function evil.current_database() returns name
		language sql as $$ select pg_catalog.current_database() where evil.tell('function-current_database') $$`},
	{"function-clock_timestamp", `create function evil.clock_timestamp() returns timestamptz
		language sql as $$ select pg_catalog.clock_timestamp() where evil.tell('function-clock_timestamp') $$`},
	{"operator-oid=oid", `create function evil.equal(oid, oid) returns boolean language plpgsql as $$
		begin return evil.tell('operator-oid=oid') and $1::pg_catalog.int8 operator(pg_catalog.=) $2::pg_catalog.int8; end $$`},
	{"operator-name=text", `create function evil.equal(name,
		text) returns boolean language plpgsql as $$ begin return evil.tell('operator-name=text')
		and $1::pg_catalog.text operator(pg_catalog.=) $2; end $$`},
	{"", "create operator evil.= (function = evil.equal, leftarg = oid, rightarg = oid)"},
	{"", "create operator evil.= (function = evil.equal, leftarg = name, rightarg = text)"},
	{"", "alter database mal set search_path = evil, pg_catalog"},
	{"", "alter database mal set row_security = on"},
	{"", "alter database mal set default_transaction_read_only = off"},
	{"", "alter database mal set enable_seqscan = off"},
	{"", "create schema of_role"},
	{"setting-of-our-role", "create view of_role.pg_index as select * from pg_catalog.pg_index where evil.tell('setting-of-our-role')"},
	// Tables that call functions when a scan of them is planned or run.
	{"index-expression", "create table public.by_expression (n int)"},
	{"", "create index on public.by_expression ((evil.one('index-expression', 1)))"},
	{"index-predicate", "create table public.by_predicate (n int)"},
	{"", "create index on public.by_predicate (n) where evil.one('index-predicate', 1) = 1"},
	{"statistics-expression", "create table public.by_statistics (n int, m int)"},
	{"", "create statistics public.s on (evil.one('statistics-expression', 1) + n), m from public.by_statistics"},
	{"row-security", "create table public.by_policy (n int)"},
	{"", "create policy p on public.by_policy using (evil.one('row-security', 1) = 1)"},
	{"", "alter table public.by_policy enable row level security"}, {"", "alter table public.by_policy force row level security"},
	{"domain-check", "create domain public.odd as int check (evil.one('domain-check', value) = 1)"},
	{"default-generated-check", "create table public.by_constraint (n int default evil.one('default-generated-check', 1), o public.odd, " +
		"g int generated always as (evil.one('default-generated-check', n)) stored, check (evil.one('default-generated-check', n) = 1))"},
	{"view", "create view public.looks as select evil.tell('view')"},
	{"materialized-view", "create materialized view public.kept as select evil.one('materialized-view', 1) as n"},
	{"cast", "create type public.mood as enum ('calm', 'foul')"},
	{"", `create function evil.moody(public.mood) returns text language plpgsql immutable as $$
		begin perform evil.tell('cast'); return 'calm'; end $$`},
	{"", "create cast (public.mood as text) with function evil.moody(public.mood) as implicit"},
	{"", "create table public.by_cast (m public.mood)"}, {"", "insert into public.by_cast values ('foul')"},
	{"trigger", "create table public.by_trigger (n int)"},
	{"", `create function evil.fires() returns trigger language plpgsql as $$ begin perform evil.tell('trigger'); return new; end $$`},
	{"", "create trigger fires before insert or update or delete on public.by_trigger for each row execute function evil.fires()"},
	{"rule", "create table public.by_rule (n int)"}, {"", "create rule r as on insert to public.by_rule do also select evil.tell('rule')"},
	{"", "insert into public.by_expression select n from generate_series(1, 100) n"},
	{"", "insert into public.by_predicate select n from generate_series(1, 100) n"},
	{"", "insert into public.by_statistics select n, n from generate_series(1, 100) n"},
	{"", "insert into public.by_policy select n from generate_series(1, 100) n"},
	{"", "insert into public.by_constraint (o) select 1 from generate_series(1, 100) n"},
	{"", "analyze"},
}

// TestHostileOwner protects a cluster through a database whose owner means ill, and has every
// operation done that opens a session there or in a copy. Nothing of the owner's is called by
// anybody with more rights than the owner has.
func TestHostileOwner(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create role mal login password 'mal'", "create role ghost nologin", "grant ghost to mal",
		"create database mal owner mal")
	s.ferries.Exec("mal", "grant execute on function pg_read_file(text), pg_read_binary_file(text, bigint, bigint, boolean), "+
		strings.Join(readiness.OnlineBackupFunctions(pg.Major(s.Major)), ", ")+" to velvet")
	args := []string{"-X", "-q", "-v", "ON_ERROR_STOP=1", "-U", "mal", "-d", "mal"}
	for _, statement := range hostileDatabase {
		args = append(args, "-c", statement.sql)
	}
	// Last, because what is done in it afterwards is done as its new owner.
	args = append(args, "-c", "create table public.of_a_ghost (n int)", "-c", "create index on public.of_a_ghost ((evil.one('ghost', 1)))",
		"-c", "grant create, usage on schema public, evil to ghost", "-c", "alter table public.of_a_ghost owner to ghost")
	load := s.ferries.Program("psql", args...)
	load.Env = append(os.Environ(), "PGPASSWORD=mal")
	out, err := load.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Regexp(t, "EVIL .* as mal", s.said(s.ferries.Log), "the functions tell who calls them")
	s.ferries.Exec("postgres", "alter role velvet in database mal set search_path = of_role, evil, pg_catalog",
		"alter role velvet set search_path = of_role, evil, pg_catalog")

	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "add", "ferries", "--connect", s.ferries.DSN("velvet", "mal"),
		"--password-file", "-", "--no-base")
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
	logs := ""
	for _, opened := range []bool{false, true} {
		var k api.Copy
		s.service.JSON(&k, "restore", "start", "ferries", "tx "+last)
		if opened {
			s.service.Must("copy", "open", k.ID)
		}
		proof := s.service.Velvet("prove", "run", k.ID)
		assert.Contains(t, proof.Out, "cannot be read safely", "the ghost's table is not read, and that is said")
		assert.NotContains(t, proof.Out, "failed")
		s.service.Must("copy", "show", k.ID)
		said := s.said(filepath.Join(k.Directory, "server.log"))
		assert.Contains(t, said, "as mal for mal", "as its owner the table was read")
		logs += said
		s.discard(k)
	}
	logs += s.said(s.ferries.Log)
	called := make(map[string]bool) // as anybody but their owner
	for _, call := range regexp.MustCompile(`EVIL (\S+) as (\S+) for (\S+) by <(.*)>`).FindAllStringSubmatch(logs, -1) {
		// The server's own autovacuum calls them as their owner in a session of the superuser.
		if call[2] != "mal" || call[3] != "mal" && call[4] != "" {
			called[call[1]] = true
		}
	}
	assert.False(t, called["ghost"])
	for _, h := range hostileDatabase {
		if h.name != "" {
			testbed.Attack(t, "database owner, "+h.name, called[h.name])
		}
	}

	// What only gets in the way.
	s.ferries.Exec("postgres", "alter role velvet set role = mal", "alter database mal set role = mal",
		"alter database mal set statement_timeout = '1ms'")
	s.service.Stop()
	s.service.Start()
	s.streaming()
	r = s.service.Velvet("backup", "take", "ferries", "--checkpoint", "fast", "--kind", "incremental")
	var k api.Copy
	if r.Code == 0 {
		s.captured()
		s.service.JSON(&k, "restore", "start", "ferries", "latest")
		r = s.service.Velvet("prove", "run", k.ID)
	}
	testbed.Attack(t, "database owner, settings with which no session of ours can work", strings.Contains(r.Out+r.Err, "failed") ||
		r.Code == 1)
	require.NoError(t, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
}

// TestHostileFiles has the owner of copies and of a data directory put links into them, and has the
// catalogue name another place for a copy: nothing outside is read, written or removed.
func TestHostileFiles(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.take()
	s.captured()
	precious := s.Path("precious")
	secret := filepath.Join(precious, "secret")
	require.NoError(t, os.Mkdir(precious, 0o700))
	require.NoError(t, os.WriteFile(secret, []byte("what only root knows"), 0o600))
	untouched := func(attacked string) {
		t.Helper()
		info, err := os.Stat(precious)
		content, _ := os.ReadFile(secret)
		testbed.Attack(t, attacked, err != nil || info.Mode().Perm() != 0o700 || string(content) != "what only root knows")
		require.NoError(t, os.MkdirAll(precious, 0o700))
		require.NoError(t, os.Chmod(precious, 0o700))
		require.NoError(t, os.WriteFile(secret, []byte("what only root knows"), 0o600))
	}
	link := func(to string, at ...string) {
		t.Helper()
		path := filepath.Join(at...)
		require.NoError(t, os.RemoveAll(path))
		require.NoError(t, os.Symlink(to, path))
	}

	// In the copy: in its data directory a step makes good what differs.
	k, _ := s.restore("latest")
	link(precious, k.Directory, "data", "base", "1")
	link(secret, k.Directory, "data", "postgresql.conf")
	link(secret, k.Directory, "server.log")
	link(precious, k.Directory, "original-configuration", "postgresql.conf.new")
	k, _ = s.step(k, "latest")
	untouched("owner of copies, links in the data directory of one, then a step")
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")
	// Beside it nobody but the service can put anything; if something is there, the step ends.
	link(precious, k.Directory, "tablespaces")
	r := s.service.Velvet("copy", "step", k.ID, "latest")
	untouched("owner of copies, tablespaces lead out of one, then a step")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Out+r.Err, "escapes")
	assert.NoDirExists(t, k.Directory)

	// In the original's data directory: an incremental backup does not take what it does not own.
	link(secret, s.ferries.DataDir, "base", "5", "77777")
	b, log := s.take("--kind", "incremental")
	assert.Equal(t, "incremental", b.Kind, log)
	k, _ = s.restore("latest")
	got, _ := os.ReadFile(filepath.Join(k.Directory, "data", "base", "5", "77777"))
	testbed.Attack(t, "owner of the original, a link in its data directory to a secret of root, then an incremental backup",
		string(got) == "what only root knows")

	// In the catalogue.
	records := s.service.Records.Connect("postgres")
	defer func() { _ = records.Close(context.Background()) }()
	set := func(column, value string) {
		t.Helper()
		_, err := records.Exec(context.Background(), "update velvet.copies set "+column+" = $2 where id = $1", k.ID, value)
		require.NoError(t, err)
	}
	set("socket", precious)
	s.service.Must("copy", "discard", k.ID, "--confirm", "ferries")
	untouched("writer of the catalogue, another socket for a copy, then a discard")
	assert.NoDirExists(t, k.Directory)
	k, _ = s.restore("latest")
	set("directory", precious)
	discarded := s.service.Velvet("copy", "discard", k.ID, "--confirm", "ferries")
	untouched("writer of the catalogue, another directory for a copy, then a discard")
	require.Equal(t, 1, discarded.Code)
	assert.Contains(t, discarded.Err, "its place is "+k.Directory)
	set("directory", k.Directory)
	set("os_user", "daemon")
	s.refused(1, []string{`may not run as the OS user "daemon"`}, "copy", "discard", k.ID, "--confirm", "ferries")
	set("os_user", "")
	s.service.Must("copy", "discard", k.ID, "--confirm", "ferries")
	assert.NoDirExists(t, k.Directory)
}

// TestCopiesUser gives a cluster an OS user of its own, who can read nothing of another's copies.
func TestCopiesUser(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can run copies as somebody else")
	}
	t.Parallel()
	s := newStage(t, "--run-as", "postgres, nobody")
	s.protect()
	s.take()
	s.captured()
	first, _ := s.restore("latest")
	s.refused(1, []string{"serve with it in --run-as"}, "cluster", "edit", "ferries", "--copies-user", "daemon")
	s.service.Must("cluster", "edit", "ferries", "--copies-user", "nobody")
	own, conn := s.restore("latest")
	assert.Equal(t, 20000, testbed.One[int](s.Bed, conn, "select count(*) from booking"))
	assert.Contains(t, s.service.Must("copy", "show", own.ID), "the OS user nobody")
	assert.Contains(t, s.service.Must("prove", "run", own.ID), "verdict: passed")
	for k, user := range map[string]string{first.Directory: "postgres", own.Directory: "nobody"} {
		out, err := exec.Command("stat", "-c", "%U", filepath.Join(k, "data"), filepath.Join(k, "data", "base", "1", "PG_VERSION")).Output()
		require.NoError(t, err)
		assert.Equal(t, user+"\n"+user+"\n", string(out))
		for _, path := range []string{"data", "ticket.json", "socket", "server.log"} {
			look := exec.Command("cat", filepath.Join(k, path))
			if look.SysProcAttr = s.asServers(filepath.Join(first.Directory, "data")); user == "postgres" {
				look.SysProcAttr = s.asServers(filepath.Join(own.Directory, "data"))
			}
			out, _ := look.CombinedOutput()
			assert.Contains(t, string(out), "Permission denied", path)
		}
	}
	own, _ = s.step(own, "latest")
	s.service.Must("copy", "open", own.ID)
	s.discard(own)
	s.discard(first)
}

// said is what a server's log holds.
func (s *stage) said(log string) string {
	content, err := os.ReadFile(log)
	if err != nil {
		return ""
	}
	return string(content)
}
