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
	s := newStage(t, "--store", "s3://ferries/velvet?region=tidal-1&endpoint="+server.URL)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	xid := s.in("delete from booking")
	testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	s.in("insert into journal values (1)")
	s.captured()
	s.Eventually("the deed is in the bucket", func() bool {
		return strings.Contains(s.service.Must("segment", "locate", "before tx "+xid, "--cluster", "ferries"), "in the store")
	})
	assert.NoDirExists(t, s.Path("home", "store"), "nothing is kept in a directory")
	k, conn := s.restore("before delete of booking")
	assert.Equal(t, 20000, testbed.One[int](s.Bed, conn, "select count(*) from booking"))
	assert.Contains(t, s.service.Must("prove", "run", k.ID), "verdict: passed")

	s.service.Stop()
	into := filepath.Join(k.Directory, "data", "pg_wal", "DELIVERED")
	cmd := exec.Command(s.Path("home", "program", "velvet"), "segment", "deliver", "--ticket", filepath.Join(k.Directory, "ticket.json"), k.Plan.First, into)
	cmd.Env, cmd.SysProcAttr = []string{}, s.asServers(k.Directory)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "while the service is down, from the bucket itself: %s", out)
	info, err := os.Stat(into)
	require.NoError(t, err)
	assert.Equal(t, int64(pg.DefaultSegmentSize), info.Size())
	log, err := os.ReadFile(s.Path("service.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(log), secretOfBucket)
	s.service.Start()
	s.discard(k)
}
