package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"velvetrewind/api"
)

// TestATargetThatCannotBeWritten has the file system of copies become read-only, and full, under a service that runs.
func TestATargetThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root may mount a file system")
	}
	target, err := os.MkdirTemp("", "velvet-target-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(target, 0o755))
	t.Cleanup(func() { assert.NoError(t, os.Remove(target)) })
	mount := func(flags uintptr, options string) {
		require.NoError(t, unix.Mount("tmpfs", target, "tmpfs", flags, options))
	}
	mount(0, "size=200m,mode=755")
	t.Cleanup(func() { assert.NoError(t, unix.Unmount(target, unix.MNT_DETACH)) })
	s := newStage(t, "--copies", target+"/copies")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.captured()
	mount(unix.MS_REMOUNT|unix.MS_RDONLY, "")
	s.refused(1, []string{"read-only file system"}, "restore", "start", "ferries", "latest")
	mount(unix.MS_REMOUNT, "size=10m")
	s.refused(1, []string{"Free space there", "are free"}, "restore", "start", "ferries", "latest")
	var list []api.Copy
	s.service.JSON(&list, "copy", "list")
	require.Empty(t, list, "nothing is left of either")
	mount(unix.MS_REMOUNT, "size=500m")
	k, _ := s.restore("latest")
	s.discard(k)
}
