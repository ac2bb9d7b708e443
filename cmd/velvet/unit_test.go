package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// inNamespace, in the environment, says that a test runs where systemd may be started without anybody else's noticing.
const inNamespace = "VELVET_TEST_UNITS"

// TestTakeoverOfAUnit takes over a cluster that a unit of systemd runs: it is stopped and started by that, and by nothing else. systemd is
// a real one, the manager of root's own units, in a mount namespace with a /run of its own.
func TestTakeoverOfAUnit(t *testing.T) {
	const systemd = "/usr/lib/systemd/systemd"
	if _, err := os.Stat(systemd); err != nil || os.Geteuid() != 0 {
		t.Skip("it needs root, and systemd")
	}
	if os.Getenv(inNamespace) == "" {
		t.Parallel()
		program, err := testbed.Program()
		require.NoError(t, err)
		cmd := exec.Command("unshare", "--mount", "--propagation", "private", os.Args[0], "-test.run", "^"+t.Name()+"$", "-test.v")
		cmd.Env = append(os.Environ(), inNamespace+"=yes", "VELVET_PROGRAM="+program)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		if strings.Contains(string(out), "--- SKIP: ") {
			t.Skip(string(out))
		}
		require.Contains(t, string(out), "--- PASS: "+t.Name())
		return
	}
	if err := syscall.Mount("tmpfs", "/run", "tmpfs", 0, ""); err != nil {
		t.Skip("it may not mount anything: ", err)
	}
	for _, dir := range []string{"/run/systemd/system", "/run/user/0/systemd/user", "/run/postgresql"} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
	}
	t.Setenv("XDG_RUNTIME_DIR", "/run/user/0")
	bin := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(bin, "systemctl"), []byte("#!/bin/sh\nexec /usr/bin/systemctl --user \"$@\"\n"), 0o755))
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	s := newStage(t)
	const unit = "ferries-at-sea.service"
	pid, err := s.Host.PID(s.ferries.Server)
	require.NoError(t, err)
	program, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	require.NoError(t, err)
	s.ferries.Stop(host.Fast)
	require.NoError(t, os.WriteFile("/run/user/0/systemd/user/"+unit, fmt.Appendf(nil, `[Service]
ExecStart=/usr/bin/setpriv --reuid=postgres --regid=postgres --init-groups %s -D %s -p %d -k %s
KillSignal=SIGINT
KillMode=mixed
`, program, s.ferries.DataDir, s.ferries.Port, s.ferries.Socket), 0o644))
	manager := exec.Command(systemd, "--user", "--unit=basic.target")
	require.NoError(t, manager.Start())
	t.Cleanup(func() {
		_ = manager.Process.Signal(syscall.SIGTERM)
		_ = manager.Wait()
	})
	systemctl := func(args ...string) string {
		out, _ := exec.Command(filepath.Join(bin, "systemctl"), args...).CombinedOutput()
		return strings.TrimSpace(string(out))
	}
	s.Eventually("systemd runs", func() bool { return systemctl("is-system-running") == "running" })
	require.Empty(t, systemctl("start", unit))
	require.NoError(t, s.Host.WaitReady(t.Context(), s.ferries.Server))
	s.db = s.ferries.Connect("postgres")
	before := systemctl("show", "--property=MainPID", "--value", unit)

	s.protect()
	s.take()
	s.commit(1)
	accident := testbed.One[string](s.Bed, s.db, "with d as (delete from booking) select pg_current_xact_id()::text")
	s.captured()
	plan := s.service.Must("restore", "takeover", "ferries", "before tx "+accident, "--plan")
	assert.Contains(t, plan, unit)
	s.service.Must("restore", "takeover", "ferries", "before tx "+accident, "--confirm", "ferries")
	s.serves("1", 20000)
	assert.Equal(t, "active", systemctl("is-active", unit))
	now := systemctl("show", "--property=MainPID", "--value", unit)
	assert.NotEqual(t, before, now)
	pid, err = s.Host.PID(s.ferries.Server)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprint(pid), now, "what serves is what the unit runs")
	require.Empty(t, systemctl("stop", unit))
}
