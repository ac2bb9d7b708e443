package host

import (
	"context"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/stretchr/testify/require"
)

// unsure is a node of a file system in a program, which passes all on to a directory but the calls to make a file safe.
type unsure struct {
	*fs.LoopbackNode
	flush func() syscall.Errno
}

func (n *unsure) WrapChild(_ context.Context, ops fs.InodeEmbedder) fs.InodeEmbedder {
	return &unsure{ops.(*fs.LoopbackNode), n.flush}
}

func (n *unsure) Fsync(context.Context, fs.FileHandle, uint32) syscall.Errno { return n.flush() }

// Where one call does not flush a file system as a whole, each file is flushed, and that one cannot be is no success.
func TestSyncWhereOneCallDoesNotDo(t *testing.T) {
	if _, err := os.Stat("/dev/fuse"); err != nil || os.Geteuid() != 0 {
		t.Skip("it takes root and /dev/fuse to mount a file system of our own")
	}
	h, dir := local(t)
	under, mounted := filepath.Join(dir, "under"), filepath.Join(dir, "mounted")
	require.NoError(t, os.MkdirAll(filepath.Join(under, "base"), 0o700))
	require.NoError(t, os.Mkdir(mounted, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(under, "base/1"), []byte("page"), 0o600))
	var flushes atomic.Int32
	var answer atomic.Uintptr
	flush := func() syscall.Errno {
		flushes.Add(1)
		return syscall.Errno(answer.Load())
	}
	root := &fs.LoopbackRoot{Path: under}
	first := &unsure{&fs.LoopbackNode{RootData: root}, flush}
	root.RootNode = first
	server, err := fs.Mount(mounted, first, &fs.Options{MountOptions: fuse.MountOptions{DirectMountStrict: true}})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Unmount()) })
	tree, err := h.Tree(mounted)
	require.NoError(t, err)
	defer func() { _ = tree.Close() }()
	require.NoError(t, tree.Sync())
	require.EqualValues(t, 1, flushes.Load(), "the file; directories are asked for in another way")
	answer.Store(uintptr(syscall.EIO))
	require.ErrorContains(t, tree.Sync(), "base/1: input/output error")
}
