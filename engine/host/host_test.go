package host

import (
	"errors"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
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
	asked := func(ahead string) string {
		command := RestoreCommand(program, filepath.Join(awkward, "ticket.json"), ahead)
		// The server replaces %f, %p and %% before it calls the shell.
		command = strings.NewReplacer("%%", "%", "%f", "000000010000000000000001", "%p", "RECOVERYXLOG").Replace(command)
		cmd := exec.Command("sh", "-c", command)
		cmd.Dir = awkward
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	delivered := strings.Join([]string{"segment", "deliver", "--ticket", filepath.Join(awkward, "ticket.json"), "000000010000000000000001",
		"RECOVERYXLOG"}, "\n")
	assert.Equal(t, delivered, asked(""))
	boot, err := Boot()
	require.NoError(t, err)
	for _, start := range []string{boot, "of yesterday"} {
		require.NoError(t, os.MkdirAll(filepath.Join(awkward, start), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(awkward, start, "000000010000000000000001"), []byte(start), 0o600))
	}
	assert.Empty(t, asked(awkward), "it was ready")
	moved, err := os.ReadFile(filepath.Join(awkward, "RECOVERYXLOG"))
	require.NoError(t, err)
	assert.Equal(t, boot, string(moved))
	assert.Equal(t, delivered, asked(awkward), "the machine was started anew since the other was")
}

func TestFilesBelongToTheOSUser(t *testing.T) {
	h, dir := local(t)
	path := filepath.Join(dir, "d", "file")
	require.NoError(t, h.MakeDir(filepath.Dir(path), 0o700))
	require.NoError(t, h.MakeDir(filepath.Dir(path), 0o700), "again is no error")
	require.NoError(t, h.WriteFile(path, []byte("low"), 0o600))
	require.NoError(t, h.WriteFile(path, []byte("high"), 0o600))
	content, err := os.ReadFile(path)
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

// TestTree has the owner of a tree do what it can to have us read, write or remove what is not
// its own.
func TestTree(t *testing.T) {
	h, dir := local(t)
	tree, outside := filepath.Join(dir, "tree"), filepath.Join(dir, "outside")
	require.NoError(t, os.MkdirAll(filepath.Join(outside, "base"), 0o755))
	secret := filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("of root"), 0o600))
	require.NoError(t, h.MakeDir(tree, 0o700))
	w, err := h.Tree(tree)
	require.NoError(t, err)
	defer func() { _ = w.Close() }()
	require.NoError(t, w.MakeDir("base", 0o700))
	require.NoError(t, w.WriteFile("base/1", []byte("page"), 0o600))

	require.NoError(t, os.Symlink(outside, filepath.Join(tree, "way")))
	require.NoError(t, os.Symlink(secret, filepath.Join(tree, "file")))
	require.NoError(t, unix.Mkfifo(filepath.Join(tree, "pipe"), 0o600))
	for _, name := range []string{"way/secret", "file", "pipe", "../outside/secret", secret} {
		_, err := w.ReadFile(name)
		assert.Error(t, err, name)
	}
	for _, name := range []string{"way/new", "../outside/new"} {
		assert.Error(t, w.WriteFile(name, nil, 0o600), name)
		assert.Error(t, w.MakeDir(name, 0o777), name)
		assert.Error(t, w.Remove(name), name)
		_, err := w.Reopen(name, 0o666)
		assert.Error(t, err, name)
	}
	assert.Error(t, w.MakeDir("way", 0o777), "the mode of what a link points to stays")
	for _, name := range []string{"file", "pipe"} {
		f, err := w.Reopen(name, 0o600)
		require.NoError(t, err, "what is no plain file gives way")
		require.NoError(t, f.Close())
		info, err := w.Lstat(name)
		require.NoError(t, err)
		assert.True(t, info.Mode().IsRegular(), name)
	}
	if os.Geteuid() == 0 { // a file of root under a name in the tree
		require.NoError(t, os.Link(secret, filepath.Join(tree, "hard")))
		_, err := w.ReadFile("hard")
		assert.ErrorContains(t, err, "does not belong to the OS user")
		f, err := w.Reopen("hard", 0o666)
		require.NoError(t, err)
		_, err = f.WriteString("of the user")
		require.NoError(t, errors.Join(err, f.Close()))
	}
	var seen []string
	require.NoError(t, w.Walk(".", func(name string, _ fs.DirEntry) error { seen = append(seen, name); return nil }))
	assert.Contains(t, seen, "base/1")
	assert.NotContains(t, seen, "way/secret")
	require.NoError(t, w.Remove("way"), "a link is removed, and not what it points to")
	content, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "of root", string(content))
	info, err := os.Stat(secret)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode())
	info, err = os.Stat(outside)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o755), info.Mode().Perm())
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

// TestStarting tells a server that has only just been started from its neighbour, whose directory begins alike.
func TestStarting(t *testing.T) {
	h := new(Host)
	data := filepath.Join(t.TempDir(), "data")
	server := Server{DataDir: data}
	for argument, want := range map[string]bool{`-D "` + data + `"`: true, `-D "` + data + `2"`: false} {
		cmd := exec.Command("/bin/sh", "-c", "read _ # postgres "+argument)
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		assert.Equal(t, want, h.Starting(server), argument)
		require.NoError(t, in.Close())
		_ = cmd.Wait()
	}
	assert.False(t, h.Starting(server), "it has ended")
}

// TestUnits has a unit be taken for what runs a server only if the server is what it runs, and one that cannot be stopped be an error.
func TestUnits(t *testing.T) {
	h, dir := local(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "systemctl"), []byte(`#!/bin/sh
case "$*" in
"show --property=MainPID --value postgresql@15-main.service") echo 4711;;
"show --property=MainPID --value cron.service") echo 12;;
"stop postgresql@15-main.service") exit 0;;
*) echo "Unit not loaded." >&2; exit 5;;
esac
`), 0o755))
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	assert.True(t, h.runs("postgresql@15-main.service", 4711))
	assert.False(t, h.runs("cron.service", 4711), "it began there, and is not what that runs")
	assert.False(t, h.runs("gone.service", 4711))
	require.NoError(t, h.systemctl(t.Context(), "stop", "postgresql@15-main.service"))
	require.ErrorContains(t, h.systemctl(t.Context(), "start", "gone.service"), "Unit not loaded")
	require.ErrorContains(t, h.systemctl(t.Context(), "stop", "x; reboot"), "no name of a unit")
}
