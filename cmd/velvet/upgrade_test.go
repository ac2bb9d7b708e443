package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// TestUpgrade starts the service on what an earlier version left: catalogue, home and store of a
// small cluster whose server is gone by now. Everything that was known is known, the cluster is
// restored as it was before its accident, and a rebuild from that store works.
func TestUpgrade(t *testing.T) {
	t.Parallel()
	b := testbed.New(t)
	left := filepath.Join("testdata", "upgrade")
	out, err := exec.Command("tar", "-xzf", filepath.Join(left, "home.tar.gz"), "-C", b.Dir, "--no-same-owner").CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.Chmod(b.Path("home"), 0o711))
	key, err := os.ReadFile(filepath.Join(left, "store-key"))
	require.NoError(t, err)

	records := b.Postgres("records", false)
	records.Exec("postgres", "create role velvet login password '"+testbed.Password+"'", "create database velvet owner velvet")
	asVelvet := records.DSN("velvet", "velvet") + " password='" + testbed.Password + "'"
	out, err = exec.Command("psql", "-X", "-q", "-v", "ON_ERROR_STOP=1", "-d", asVelvet, "-f",
		filepath.Join(left, "catalogue.sql")).CombinedOutput()
	require.NoError(t, err, string(out))

	s := b.IdleService()
	require.NoError(t, os.WriteFile(s.StoreKey, key, 0o600))
	s.UseDatabase(asVelvet)
	for range 2 { // a second start, too
		s.Start()
		var k api.Cluster
		s.JSON(&k, "cluster", "show", "ferries")
		assert.Equal(t, map[string]string{"fleet": "outer"}, k.Labels)
		assert.Contains(t, s.Must("keep", "show", "ferries"), "any moment of the last 20 days")
		assert.Contains(t, s.Must("policy", "list"), "outer")
		assert.Contains(t, s.Must("changes", "list", "ferries", "--incidents"), "2,901")
		s.Stop()
	}
	s.Start()
	k := api.Copy{}
	s.JSON(&k, "restore", "start", "ferries", "before delete of booking")
	assert.Equal(t, "ferries-2", k.Name, "one had been made before")
	// The original's logins were trusted on its socket and on loopback; a copy asks for passwords
	// there, which none of its roles has: the way in is the copy's socket.
	conn, err := pgx.Connect(t.Context(), fmt.Sprintf("host=%s port=%d user=harbourmaster dbname=postgres",
		filepath.Join(k.Directory, "socket"), k.Port))
	require.NoError(t, err)
	assert.Equal(t, 3001, testbed.One[int](b, conn, "select count(*) from booking"))
	require.NoError(t, conn.Close(t.Context()))
	s.Must("copy", "discard", k.Name, "--confirm", "ferries")
	assert.Contains(t, s.Must("store", "audit", "--full"), "Everything that is needed is there")

	// What only the catalogue knew comes back from the store with a catalogue of its own.
	s.Must("store", "deposit")
	s.Stop()
	s.UseDatabase("")
	s.With("--adopt-store")
	s.Start()
	out2 := s.Must("store", "rebuild")
	assert.Contains(t, out2, "ferries")
	assert.Contains(t, s.Must("policy", "list"), "outer")
	assert.Contains(t, s.Must("calendar", "list"), "outer")
	assert.Contains(t, s.Must("keep", "show", "ferries"), "quarter end")
	assert.Contains(t, s.Must("task", "list"), "proof", "the history of tasks is there again")
	s.Must("policy", "remove", "outer", "--confirm", "outer")
	s.Must("store", "rebuild")
	assert.NotContains(t, s.Must("policy", "list"), "outer", "what was removed since does not come again")
}
