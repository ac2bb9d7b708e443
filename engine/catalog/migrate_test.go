package catalog

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/problem"
	"velvetrewind/testbed"
)

// TestTheCataloguesPlace opens catalogues twice under names and settings of many kinds:
// everything is in the schema velvet, and the second start finds what the first one made.
func TestTheCataloguesPlace(t *testing.T) {
	b := testbed.New(t)
	p := b.Postgres("catalogue", false)
	for i, prepare := range [][]string{
		{`create role velvet login password 'x'`, `create database velvet owner velvet`},
		{`create role "Odd One" login password 'x'`, `create database "Odd Base" owner "Odd One"`,
			`alter role "Odd One" set search_path = nowhere, public`},
		{`create role plain login password 'x'`, `create database plain`, `grant create on database plain to plain`,
			`alter database plain set search_path = ''`},
		{`create role tidy login password 'x'`, `create database tidy`},
	} {
		names := []string{"velvet", "Odd One", "plain", "tidy"}
		bases := []string{"velvet", "Odd Base", "plain", "tidy"}
		p.Exec("postgres", prepare...)
		at := fmt.Sprintf("host=127.0.0.1 port=%d user='%s' password=x dbname='%s' sslmode=disable", p.Port, names[i], bases[i])
		if names[i] == "tidy" {
			_, err := Open(ctx, at)
			require.ErrorContains(t, err, "GRANT CREATE ON DATABASE")
			p.Exec("tidy", "create schema velvet authorization tidy", "revoke all on schema public from public")
		}
		for range 3 {
			c, err := Open(ctx, at)
			require.NoError(t, err, names[i])
			id, err := c.Installation(ctx)
			require.NoError(t, err)
			assert.NotEmpty(t, id)
			c.Close()
		}
		conn := p.Connect(bases[i])
		assert.Equal(t, []string{"velvet"}, testbed.One[[]string](b, conn, `select array_agg(distinct nspname::text) from pg_class c
			join pg_namespace n on n.oid = relnamespace
			where c.oid >= 16384 and nspname not in ('pg_toast', 'pg_catalog', 'information_schema')`), names[i])
	}
}

// TestACatalogueOfAnEarlierVersion takes over what an earlier version left, also where its
// second start had left an empty version table in the schema.
func TestACatalogueOfAnEarlierVersion(t *testing.T) {
	b := testbed.New(t)
	p := b.Postgres("catalogue", false)
	script := filepath.Join("..", "..", "cmd", "velvet", "testdata", "upgrade", "catalogue.sql")
	for name, more := range map[string]string{
		"one_start": "",
		"two_starts": "create table velvet.velvet_migrations (like public.velvet_migrations including all); insert into " +
			"velvet.velvet_migrations (version_id, is_applied) values (0, true)",
		"in_velvet": "alter table public.velvet_migrations set schema velvet",
	} {
		p.Exec("postgres", "create database "+name)
		out, err := exec.Command("psql", "-X", "-q", "-v", "ON_ERROR_STOP=1", "-d",
			p.DSN(testbed.Superuser, name)+" password='"+testbed.Password+"'", "-f", script).CombinedOutput()
		require.NoError(t, err, string(out))
		if more != "" {
			p.Exec(name, more)
		}
		for range 2 {
			c, err := Open(ctx, p.DSN(testbed.Superuser, name)+" password='"+testbed.Password+"'")
			require.NoError(t, err, name)
			list, err := c.Clusters(ctx)
			require.NoError(t, err)
			require.Len(t, list, 1)
			assert.Equal(t, "ferries", list[0].Name)
			c.Close()
		}
		conn := p.Connect(name)
		assert.Equal(t, 1, testbed.One[int](b, conn, "select count(*) from pg_class where relname ~ 'migrations$'"), name)
		p.Exec(name, "insert into velvet.migrations (version_id, is_applied) values (4711, true)")
		_, err = Open(ctx, p.DSN(testbed.Superuser, name)+" password='"+testbed.Password+"'")
		assert.Equal(t, problem.Conflict, kindOf(t, err))
		assert.ErrorContains(t, err, "of version 4711, and this program knows them up to ")
	}
}
