package backup

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
)

// tree makes a directory of files; a name that ends in / is a directory, one with -> a link.
func tree(t *testing.T, names ...string) string {
	root := t.TempDir()
	for _, name := range names {
		path := filepath.Join(root, name)
		if link, target, ok := strings.Cut(name, "->"); ok {
			require.NoError(t, os.MkdirAll(filepath.Join(root, target), 0o700))
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, link)), 0o700))
			require.NoError(t, os.Symlink(filepath.Join(root, target), filepath.Join(root, link)))
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		if strings.HasSuffix(name, "/") {
			require.NoError(t, os.MkdirAll(path, 0o700))
			continue
		}
		require.NoError(t, os.WriteFile(path, []byte(name), 0o600))
	}
	return root
}

// TestWalk holds what an incremental backup takes of a data directory: what the server's
// own base backup would, and nothing that must not be in one.
func TestWalk(t *testing.T) {
	root := tree(t,
		"PG_VERSION", "postgresql.auto.conf", "postgresql.auto.conf.tmp", "postmaster.pid", "postmaster.opts", "backup_label",
		"backup_label.old", "tablespace_map",
		"global/pg_control", "global/1262", "global/pg_internal.init", "global/pg_filenode.map",
		"base/5/16384", "base/5/16384.1", "base/5/16384_fsm", "base/5/16384_vm", "base/5/pg_internal.init.77", "base/5/t3_16400",
		"base/5/t3_16400_fsm",
		"base/5/16500", "base/5/16500.1", "base/5/16500_fsm", "base/5/16500_init", // not logged: only what it begins with
		"base/pgsql_tmp/pgsql_tmp123.0",
		"pg_wal/000000010000000000000001", "pg_wal/archive_status/000000010000000000000001.done",
		"pg_replslot/velvet/state", "pg_stat_tmp/db_5.stat", "pg_notify/0000", "pg_subtrans/0000", "pg_xact/0000", "pg_stat/pgstat.stat",
		"spaces/ledger/PG_15_202209061/5/16600", "spaces/ledger/PG_14_202107181/5/16600", "pg_tblspc/16386->spaces/ledger",
		"pg_tblspc/99999->spaces/forgotten",
	)
	elsewhere := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(elsewhere, "token"), []byte("of the service"), 0o600))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(root, "pg_serial")))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(root, "base", "6")))
	require.NoError(t, os.Symlink(filepath.Join(elsewhere, "token"), filepath.Join(root, "base", "5", "16700")))
	var got []string
	spaces := []layout.TablespaceEntry{{OID: 16386, Location: filepath.Join(root, "spaces", "ledger")}}
	src, err := openLocal(root, spaces)
	require.NoError(t, err)
	defer func() { _ = src.close() }()
	_, err = src.open(context.Background(), "base/5/16700")
	assert.ErrorContains(t, err, "escapes", "a link put there since it was listed")
	if os.Geteuid() == 0 {
		require.NoError(t, os.Link(filepath.Join(elsewhere, "token"), filepath.Join(root, "base", "5", "16701")))
		require.NoError(t, os.Lchown(root, 65534, 65534))
		src, err := openLocal(root, spaces)
		require.NoError(t, err)
		_, err = src.open(context.Background(), "base/5/16701")
		assert.ErrorContains(t, err, "no plain file that the owner of the data directory may read")
		require.NoError(t, errors.Join(src.close(), os.Remove(filepath.Join(root, "base", "5", "16701"))))
	}
	err = walk(context.Background(), src, pg.Major(15), spaces, func(f layout.File) error {
		if !strings.HasPrefix(f.Path, "spaces") {
			name := f.Path
			if f.Dir {
				name += "/"
			}
			got = append(got, name)
		}
		return nil
	})
	require.NoError(t, err)
	slices.Sort(got)
	assert.Equal(t, []string{
		"PG_VERSION", "base/", "base/5/", "base/5/16384", "base/5/16384.1", "base/5/16384_fsm", "base/5/16384_vm", "base/5/16500_init",
		"global/", "global/1262", "global/pg_filenode.map", "pg_notify/", "pg_replslot/", "pg_serial/", "pg_stat/", "pg_stat/pgstat.stat",
		"pg_stat_tmp/", "pg_subtrans/",
		"pg_tblspc/", "pg_tblspc/16386/PG_15_202209061/", "pg_tblspc/16386/PG_15_202209061/5/", "pg_tblspc/16386/PG_15_202209061/5/16600",
		"pg_wal/", "pg_wal/archive_status/", "pg_xact/", "pg_xact/0000", "postgresql.auto.conf",
	}, got)
}

func TestRelationsOfFiles(t *testing.T) {
	for name, want := range map[string]struct {
		space, database, node, first uint32
		covered                      bool
	}{
		"base/5/16384":      {1663, 5, 16384, 0, true},
		"base/5/16384.2":    {1663, 5, 16384, 2 * 131072, true},
		"base/5/16384_init": {1663, 5, 16384, 0, true},
		"global/1262":       {1664, 0, 1262, 0, true},
		"pg_tblspc/16386/PG_15_202209061/5/16600":  {16386, 5, 16600, 0, true},
		"base/5/16384_fsm":                         {},
		"base/5/16384_vm":                          {},
		"pg_xact/0000":                             {},
		"base/5/PG_VERSION":                        {},
		"pg_tblspc/nowhere/PG_15_202209061/5/1660": {},
	} {
		fork, first, covered := forkOf(name)
		assert.Equal(t, want.covered, covered, name)
		if covered {
			assert.Equal(t, []uint32{want.space, want.database, want.node, want.first},
				[]uint32{fork.Relation.Space, fork.Relation.Database, fork.Relation.Filenode, first}, name)
		}
	}
}

// What was cut off while it was read is zeroes, and a file that is gone is none.
func TestReadFull(t *testing.T) {
	root := tree(t, "short")
	src, err := openLocal(root, nil)
	require.NoError(t, err)
	defer func() { _ = src.close() }()
	f, err := src.open(context.Background(), "short")
	require.NoError(t, err)
	defer func() { _ = f.Close() }()
	part := []byte("..........")
	require.NoError(t, readFull(f, part, 3))
	assert.Equal(t, "rt\x00\x00\x00\x00\x00\x00\x00\x00", string(part))
	list, err := src.list(context.Background(), "gone")
	require.NoError(t, err)
	assert.Empty(t, list)
}
