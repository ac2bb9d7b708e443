package main

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/readiness"
	"velvetrewind/testbed"
)

// TestGettingReady fixes a badly set-up cluster step by step, until it can be protected by
// two roles of which each may do no more than its part.
func TestGettingReady(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	poor := s.Postgres("poor", false, "wal_level = minimal", "max_wal_senders = 0", "max_replication_slots = 0", "full_page_writes = off")
	poor.Exec("postgres", "create role reader login password 'reads'", "create role carrier login password 'carries'")
	reads, carries, boss := s.Path("reads"), s.Path("carries"), s.Path("boss")
	for path, content := range map[string]string{reads: "reads", carries: "carries", boss: testbed.Password} {
		require.NoError(t, os.WriteFile(path, []byte(content+"\n"), 0o600))
	}
	login := []string{"--connect", poor.DSN("reader", "postgres"), "--password-file", reads, "--replication-user", "carrier",
		"--replication-password-file", carries}
	ready := func(more ...string) []string { return append(append([]string{"cluster", "ready"}, login...), more...) }
	states := func() map[string]readiness.State {
		var r api.ReadinessReport
		s.service.JSON(&r, ready()...)
		found := make(map[string]readiness.State)
		for _, c := range r.Checks {
			found[c.ID] = readiness.State(c.State)
		}
		return found
	}
	at := states()
	for id, want := range map[string]readiness.State{
		"wal_level": readiness.Needed, "max_wal_senders": readiness.Needed, "max_replication_slots": readiness.Needed,
		"replication":      readiness.Unknown,
		"full_page_writes": readiness.Advised, "read_files": readiness.Advised, "read_changes": readiness.Advised,
		"read_tables":    readiness.Advised,
		"data_checksums": readiness.Advised, "least_rights": readiness.OK, "synchronous_standby_names": readiness.Choice,
		"copies": readiness.OK,
	} {
		assert.Equal(t, want, at[id], id)
	}
	s.refused(1, []string{"the cluster was not added", "wal_level: minimal"}, append([]string{"cluster", "add", "poor"}, login...)...)
	s.refused(3, []string{"This would be run", "ALTER SYSTEM SET wal_level = 'replica';", "takes effect after a restart"},
		ready("--apply", "--as", testbed.Superuser, "--as-password-file", boss)...)
	s.refused(1, []string{"not everything was applied", "--as ROLE"}, ready("--apply", "--confirm", "apply")...)
	s.refused(1, []string{"nothing that SQL can do"}, ready("--apply", "--only", "data_checksums", "--confirm", "apply")...)
	out := s.service.Must(ready("--apply", "--confirm", "apply", "--as", testbed.Superuser, "--as-password-file", boss)...)
	assert.Contains(t, out, "only when the server is restarted")
	at = states()
	assert.Equal(t, readiness.OK, at["full_page_writes"], "a reload was enough")
	assert.Equal(t, readiness.OK, at["read_tables"])
	assert.Equal(t, readiness.Needed, at["wal_level"], "the server has not been restarted")
	poor.Stop("fast")
	poor.Start()
	at = states()
	assert.Equal(t, readiness.OK, at["wal_level"])
	assert.Equal(t, readiness.Needed, at["replication"], "the second role is refused")
	poor.Exec("postgres", "alter role carrier replication")
	assert.Equal(t, readiness.OK, states()["replication"])
	s.service.Must(ready("--apply", "--confirm", "apply", "--only", "max_slot_wal_keep_size", "--as", testbed.Superuser,
		"--as-password-file", boss)...)
	assert.Equal(t, readiness.OK, states()["max_slot_wal_keep_size"])

	script := s.service.Must("cluster", "role", "--name", "velvet two")
	assert.Contains(t, script, `CREATE ROLE "velvet two" LOGIN REPLICATION;`)

	list := s.Path("fleet.yaml")
	require.NoError(t, os.WriteFile(list, fmt.Appendf(nil,
		"clusters:\n  - name: poor\n    connect: %s\n    password-file: %s\n    replication-user: carrier\n    "+
			"replication-password-file: %s\n    labels: {fleet: plain}\n"+
			"  - name: nowhere\n    connect: host=127.0.0.1 port=1 user=velvet dbname=postgres\n", poor.DSN("reader", "postgres"), reads,
		carries), 0o600))
	r := s.service.Velvet("cluster", "register", list, "--dry-run")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Out, "would be registered")
	assert.Contains(t, r.Out, "cannot be reached")
	assert.Contains(t, s.service.Must("cluster", "list"), "No cluster is protected yet")
	s.service.Velvet("cluster", "register", list)
	var k api.Cluster
	s.service.JSON(&k, "cluster", "show", "poor")
	assert.Equal(t, map[string]string{"fleet": "plain"}, k.Labels)
	s.Eventually("its first base backup is taken by itself", func() bool {
		s.service.JSON(&k, "cluster", "show", "poor")
		return k.Backups == 1
	})
	require.NoError(t, os.WriteFile(list, []byte("clusters:\n  - nmae: poor\n"), 0o600))
	s.refused(1, []string{"nmae", "each with name"}, "cluster", "register", list)
	log, err := os.ReadFile(s.Path("service.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(log), "carries\"")
	assert.NotContains(t, string(log), testbed.Password)
}

// TestPolicies gives a keep rule and a calendar to all clusters with a label.
func TestPolicies(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.refused(1, []string{"without a label"}, "policy", "set", "outer", "--span", "7d")
	s.refused(1, []string{"is no label"}, "policy", "set", "outer", "--label", "fleet=ou ter", "--span", "7d")
	s.service.Must("policy", "set", "outer", "--label", "fleet=outer", "--span", "7d", "--weekly", "4")
	s.service.Must("policy", "set", "outer-north", "--label", "fleet=outer", "--label", "site=north", "--span", "9d",
		"--capture-alert", "60")
	s.service.Must("calendar", "add", "backup", "--policy", "outer", "--every-hours", "6", "--jitter", "30")
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "the default")
	s.service.Must("cluster", "edit", "ferries", "--label", "fleet=outer")
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "policy outer")
	assert.Contains(t, s.service.Must("calendar", "list", "--cluster", "ferries"), "policy outer (1 clusters)")
	s.service.Must("cluster", "edit", "ferries", "--label", "fleet=outer,site=north")
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "policy outer-north", "the one that asks for more labels")
	s.service.Must("keep", "set", "ferries", "--span", "2d")
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "its own")
	s.service.Must("keep", "set", "ferries", "--inherit")
	assert.Contains(t, s.service.Must("policy", "list"), "any moment of the last 9 days")
	assert.Contains(t, s.service.Must("cluster", "list", "--label", "fleet=inner"), "There is no such cluster.")
	s.refused(3, []string{"no longer apply to 0 clusters, and what its calendar has (1)", "confirm with the policy's name: outer"},
		"policy", "remove", "outer")
	s.service.Must("policy", "remove", "outer", "--confirm", "outer")
	assert.Contains(t, s.service.Must("calendar", "list"), "Nothing is scheduled yet")
	s.refused(1, []string{"no such policy"}, "policy", "remove", "outer")
}
