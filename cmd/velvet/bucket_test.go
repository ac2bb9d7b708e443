package main

import (
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/testbed"
)

const secretOfBucket = "what only the bucket knows"

// TestStoreInABucket does the job with everything in object storage.
func TestStoreInABucket(t *testing.T) {
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("ferries"))
	server := httptest.NewServer(gofakes3.New(memory).Server())
	t.Cleanup(server.Close)
	t.Setenv("AWS_ACCESS_KEY_ID", "harbourmaster")
	t.Setenv("AWS_SECRET_ACCESS_KEY", secretOfBucket)
	store := "s3://ferries/velvet?region=tidal-1&endpoint=" + server.URL
	s := newStage(t, "--store", store)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	xid := s.in("delete from booking")
	testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	s.in("insert into journal values (1)")
	s.captured()
	s.Eventually("the operation is in the bucket", func() bool {
		return strings.Contains(s.service.Must("segment", "locate", "before tx "+xid, "--cluster", "ferries"), "in the store")
	})
	assert.NoDirExists(t, s.Path("home", "store"), "nothing is kept in a directory")
	k, conn := s.restore("before delete of booking")
	assert.Equal(t, 20000, testbed.One[int](s.Bed, conn, "select count(*) from booking"))
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")

	ticket, err := os.ReadFile(filepath.Join(k.Directory, "ticket.json"))
	require.NoError(t, err)
	testbed.Attack(t, "owner of a copy, the bucket's keys from its ticket", strings.Contains(string(ticket), secretOfBucket))
	assert.Contains(t, deliverTo(s, k, 200), "only the service may read s3://ferries", "a copy has no keys of the bucket")
	s.discard(k)
	reading := s.Path("reading-keys")
	require.NoError(t, os.WriteFile(reading, []byte("[default]\naws_access_key_id = reader\naws_secret_access_key = reads alone\n"), 0o600))
	s.service.Stop()
	s.service.With("--store", store, "--copies-credentials", reading)
	s.service.Start()
	k, _ = s.restore("before delete of booking")
	ticket, err = os.ReadFile(filepath.Join(k.Directory, "ticket.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(ticket), secretOfBucket)
	assert.Contains(t, string(ticket), "reads alone")
	deliverTo(s, k, 0)
	log, err := os.ReadFile(s.Path("service.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(log), secretOfBucket)
	s.discard(k)
}

// deliverTo delivers the first segment of a copy's plan while the service is down.
func deliverTo(s *stage, k api.Copy, code int) string {
	s.service.Stop()
	defer s.service.Start()
	into := filepath.Join(k.Directory, "data", "pg_wal", "DELIVERED")
	cmd := exec.Command(s.Path("home", "program", "velvet"), "segment", "deliver", "--ticket", filepath.Join(k.Directory, "ticket.json"),
		k.Plan.First, into)
	cmd.Env, cmd.SysProcAttr = []string{}, s.asServers(filepath.Join(k.Directory, "data"))
	out, _ := cmd.CombinedOutput()
	require.Equal(s, code, cmd.ProcessState.ExitCode(), string(out))
	if code == 0 {
		info, err := os.Stat(into)
		require.NoError(s, err)
		assert.Equal(s, int64(pg.DefaultSegmentSize), info.Size())
	}
	return string(out)
}
