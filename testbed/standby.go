package testbed

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/stretchr/testify/require"

	"velvetrewind/engine/host"
)

// Standby makes a standby of a server, which must be stopped: a copy of its data directory, that
// follows it under its own name when both are started.
func (b *Bed) Standby(of *Postgres, name string) *Postgres {
	port, err := b.Host.FreePort()
	require.NoError(b, err)
	for _, d := range []string{b.Path(name), b.Path(name, "socket")} {
		require.NoError(b, b.Host.MakeDir(d, 0o700))
	}
	copied := func(from, to string) {
		out, err := exec.Command("cp", "-a", from, to).CombinedOutput()
		require.NoError(b, err, string(out))
	}
	copied(of.DataDir, b.Path(name, "data"))
	// Its tablespaces are its own, at the end of other links.
	links, err := filepath.Glob(b.Path(name, "data", "pg_tblspc", "*"))
	require.NoError(b, err)
	for _, link := range links {
		space, err := os.Readlink(link)
		require.NoError(b, err)
		own := b.Path(name, filepath.Base(space))
		copied(space, own)
		require.NoError(b, os.Remove(link))
		require.NoError(b, os.Symlink(own, link))
	}
	require.NoError(b, os.RemoveAll(b.Path(name, "data", "pg_replslot")))
	require.NoError(b, b.Host.MakeDir(b.Path(name, "data", "pg_replslot"), 0o700))
	p := b.Beside(host.Server{Major: of.Major, DataDir: b.Path(name, "data"), Port: port, Socket: b.Path(name, "socket"),
		Log: b.Path(name, "log")})
	follow := of.DSN(Superuser, "postgres") + " application_name='" + name + "' password='" + Password + "'"
	p.Configure("primary_conninfo = '" + strings.ReplaceAll(follow, "'", "''") + "'")
	require.NoError(b, b.Host.WriteFile(filepath.Join(p.DataDir, "standby.signal"), nil, 0o600))
	return p
}
