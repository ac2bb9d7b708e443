package main

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestLeftovers lists what a copy, a takeover and a repair hold, and a directory that is nobody's: each is removed by whose it is.
func TestLeftovers(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	assert.Contains(t, s.service.Must("host", "leftovers"), "No copy stands anywhere, and nothing is set aside.")
	s.take()
	s.commit(1)
	s.captured()
	first, conn := s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	require.NoError(t, s.db.Close(context.Background()))
	s.service.Must("restore", "takeover", first.Name, "--confirm", "ferries")
	s.Eventually("its base backup is complete", func() bool { return s.cluster().Capture.Timeline == 2 && len(s.active()) == 0 })
	s.db = s.ferries.Connect("postgres")
	second, _ := s.restore("latest")
	file := filepath.Join(s.ferries.DataDir, testbed.One[string](s.Bed, s.db, "select pg_relation_filepath('booking')"))
	require.NoError(t, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	content[5000] ^= 1
	require.NoError(t, os.WriteFile(file, content, 0o600))
	s.service.Must("restore", "repair", "ferries", "--confirm", "ferries")
	stranger := filepath.Join(filepath.Dir(second.Directory), catalog.NewID())
	require.NoError(t, os.MkdirAll(filepath.Join(stranger, "data"), 0o700))

	var l api.Leftovers
	s.service.JSON(&l, "host", "leftovers")
	assert.Empty(t, l.Unseen)
	paths := make(map[string]api.Leftover)
	for _, k := range l.List {
		paths[k.What] = k
	}
	assert.Equal(t, second.Directory, paths["copy"].Path)
	assert.Equal(t, stranger, paths["not ours"].Path)
	assert.Contains(t, paths["set aside"].How, "velvet restore takeover clear ")
	assert.Positive(t, paths["set aside"].Bytes)
	s.refused(1, []string{"velvet copy discard " + second.Name}, "host", "clear", second.Directory, "--confirm", "ferries")
	s.refused(1, []string{"velvet restore takeover clear"}, "host", "clear", paths["set aside"].Path, "--confirm", "ferries")
	s.refused(1, []string{"nothing of ours is left at /etc"}, "host", "clear", "/etc", "--confirm", "etc")
	for _, dir := range []string{stranger, paths["kept by repair"].Path} {
		s.refused(3, []string{"is removed permanently"}, "host", "clear", dir)
		require.DirExists(t, dir)
		s.service.Must("host", "clear", dir, "--confirm", filepath.Base(dir))
		require.NoDirExists(t, dir)
	}
	require.DirExists(t, second.Directory)
	require.DirExists(t, paths["set aside"].Path)
}
