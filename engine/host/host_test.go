package host

import (
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func local(t *testing.T) (*Host, string) {
	h, err := Local("", "")
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	return h, dir
}

// TestRestoreCommandSurvivesTheShell gives paths with everything that a shell or the
// server might take for its own.
func TestRestoreCommandSurvivesTheShell(t *testing.T) {
	_, dir := local(t)
	awkward := filepath.Join(dir, `it's 100% "velvet" $HOME`)
	require.NoError(t, os.Mkdir(awkward, 0o755))
	program := filepath.Join(awkward, "velvet")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\nprintf '%s\\n' \"$@\"\n"), 0o755))
	command := RestoreCommand(program, filepath.Join(awkward, "ticket.json"))
	// The server replaces %f, %p and %% before it calls the shell.
	command = strings.NewReplacer("%%", "%", "%f", "000000010000000000000001", "%p", "pg_wal/RECOVERYXLOG").Replace(command)
	out, err := exec.Command("sh", "-c", command).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, []string{"segment", "deliver", "--ticket", filepath.Join(awkward, "ticket.json"), "000000010000000000000001", "pg_wal/RECOVERYXLOG"},
		strings.Split(strings.TrimSpace(string(out)), "\n"))
}

func TestFilesBelongToTheOSUser(t *testing.T) {
	h, dir := local(t)
	path := filepath.Join(dir, "d", "file")
	require.NoError(t, h.MakeDir(filepath.Dir(path), 0o700))
	require.NoError(t, h.MakeDir(filepath.Dir(path), 0o700), "again is no error")
	require.NoError(t, h.WriteFile(path, []byte("low"), 0o600))
	require.NoError(t, h.WriteFile(path, []byte("high"), 0o600))
	content, err := h.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "high", string(content))
	_, err = h.Create(path, 0o600)
	assert.ErrorIs(t, err, fs.ErrExist, "what is there is never overwritten")
	if os.Geteuid() == 0 {
		out, err := exec.Command("stat", "-c", "%U", path, filepath.Dir(path)).Output()
		require.NoError(t, err)
		assert.Equal(t, h.User()+"\n"+h.User()+"\n", string(out))
		assert.NotEqual(t, "root", h.User())
		_, err = Local("root", "")
		assert.ErrorContains(t, err, "refuses to run as root")
	}
	_, err = Local("nobody-of-that-name", "")
	assert.Error(t, err)
}

func TestWalkFollowsTablespacesOnly(t *testing.T) {
	h, dir := local(t)
	for _, d := range []string{"data/pg_tblspc", "data/base/5", "ledger/PG_15", "elsewhere"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o700))
	}
	for _, f := range []string{"data/base/5/1", "ledger/PG_15/2", "elsewhere/3"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), nil, 0o600))
	}
	require.NoError(t, os.Symlink(filepath.Join(dir, "ledger"), filepath.Join(dir, "data/pg_tblspc/16400")))
	require.NoError(t, os.Symlink(filepath.Join(dir, "elsewhere"), filepath.Join(dir, "data/base/link")))
	var seen []string
	require.NoError(t, h.Walk(filepath.Join(dir, "data"), func(rel string, _ fs.DirEntry) error { seen = append(seen, rel); return nil }))
	sort.Strings(seen)
	assert.Equal(t, []string{"base/5/1", "pg_tblspc/16400/PG_15/2"}, seen)
}

func TestPorts(t *testing.T) {
	h, dir := local(t)
	port, err := h.FreePort()
	require.NoError(t, err)
	assert.False(t, h.PortTaken(port))
	l, err := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port})
	require.NoError(t, err)
	assert.True(t, h.PortTaken(port))
	require.NoError(t, l.Close())
	free, err := h.FreeSpace(dir)
	require.NoError(t, err)
	assert.Positive(t, free)
	short, err := h.SocketDir(dir)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(short), 80)
	deep := filepath.Join(dir, strings.Repeat("d", 90))
	require.NoError(t, os.Mkdir(deep, 0o755))
	long, err := h.SocketDir(deep)
	require.NoError(t, err)
	defer func() { _ = os.RemoveAll(long) }()
	assert.LessOrEqual(t, len(long), 80, "a socket's path must stay short")
}

func TestWhatIsNotInstalledIsSaid(t *testing.T) {
	h, err := Local("", filepath.Join(t.TempDir(), "%d"))
	require.NoError(t, err)
	err = h.InitDB(t.Context(), Server{Major: 15, DataDir: "x"}, InitOptions{})
	assert.ErrorContains(t, err, "PostgreSQL 15 is not installed here")
	_, err = h.InstalledMajor()
	assert.ErrorContains(t, err, "no PostgreSQL 14 to 18 is installed")
	s := Server{DataDir: t.TempDir()}
	assert.False(t, h.Running(s))
	require.NoError(t, h.Stop(t.Context(), s, Fast), "what does not run need not be stopped")
	require.NoError(t, os.WriteFile(filepath.Join(s.DataDir, "postmaster.pid"), []byte("gibberish\n"), 0o600))
	assert.False(t, h.Running(s))
}
