package hosts_test

import (
	"context"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/task"
	"velvetrewind/engine/agent"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/identity"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/service/hosts"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

func TestMain(m *testing.M) { clusterbed.Main(m) }

// installation is a registry that listens.
type installation struct {
	*clusterbed.Cluster
	registry *hosts.Registry
	address  string
	fed      atomic.Int32 // segments that were delivered
}

func install(t *testing.T) *installation {
	i := &installation{Cluster: clusterbed.New(testbed.New(t))}
	i.registry = &hosts.Registry{Catalog: i.Catalog, Key: seal.Key{1}, Log: slog.New(slog.DiscardHandler), Changed: func(string) {},
		Met: func(context.Context, string) {},
		Now: time.Now, Feed: http.HandlerFunc(i.feed)}
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(t, i.registry.Open(ctx, false))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	i.address = l.Addr().String()
	ended := make(chan error, 1)
	go func() { ended <- i.registry.Serve(ctx, l) }()
	i.Cleanup(func() { cancel(); assert.NoError(t, <-ended) })
	return i
}

// feed delivers from the store.
func (i *installation) feed(out http.ResponseWriter, r *http.Request) {
	in, err := feed.Open(r.Context(), i.Store, i.Record, chi.URLParam(r, "name"))
	if err != nil {
		http.Error(out, err.Error(), http.StatusNotFound)
		return
	}
	defer func() { _ = in.Close() }()
	i.fed.Add(1)
	_, _ = io.Copy(out, in)
}

// join has this machine join under a name.
func (i *installation) join(name string, databases ...string) (home string) {
	word, _, err := i.registry.Invite(context.Background(), name)
	require.NoError(i, err)
	home = i.Path(name)
	tools, err := testbed.Programs()
	require.NoError(i, err)
	_, err = agent.Join(context.Background(), home, i.address, word, filepath.Join(home, "copies"), databases)
	require.NoError(i, err)
	f, err := os.OpenFile(filepath.Join(home, "host.yaml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(i, err)
	_, err = f.WriteString("programs: '" + tools + "'\n")
	require.NoError(i, err)
	require.NoError(i, f.Close())
	return home
}

// serve runs the agent of a home, and gives the host's id when it is connected.
func (i *installation) serve(name string) string {
	a, err := agent.Open(i.Path(name), "test", slog.New(slog.DiscardHandler))
	require.NoError(i, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- a.Run(ctx) }()
	i.Cleanup(func() { cancel(); assert.NoError(i, <-ended) })
	h, err := i.Catalog.Host(context.Background(), name)
	require.NoError(i, err)
	i.Eventually("it is connected", func() bool { _, ok := i.registry.Connected(h.ID); return ok })
	return h.ID
}

// TestWhatAHostRefuses has a service ask for what is not for it.
func TestWhatAHostRefuses(t *testing.T) {
	i := install(t)
	home := i.join("spare")
	g, err := i.registry.Ground(i.serve("spare"))
	require.NoError(t, err)
	ctx, inside := context.Background(), filepath.Join(g.Dir, "copy")
	require.NoError(t, g.Host.MakeClosedDir(inside))
	require.NoError(t, os.Symlink("/etc", filepath.Join(g.Dir, "link")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(inside, "passwd")))
	secret := filepath.Join(home, "host.pem")
	for what, err := range map[string]error{
		"its own key":         second(g.Host.Files(home)),
		"anything":            second(g.Host.Files("/etc")),
		"over a link":         second(g.Host.Files(filepath.Join(g.Dir, "link"))),
		"above":               g.Host.MakeClosedDir(filepath.Join(g.Dir, "..", "other")),
		"removing all copies": g.Host.RemoveTree(g.Dir),
		"removing the system": g.Host.RemoveTree("/etc"),
		"a server elsewhere":  g.Host.Start(ctx, host.Server{Major: i.Major, DataDir: i.Server.DataDir, Log: inside + "/log"}),
		"ending a server elsewhere": g.Host.Stop(ctx, host.Server{Major: i.Major, DataDir: i.Server.DataDir, Socket: i.Server.Socket,
			Log: i.Server.DataDir + "/log"}, host.Immediate),
		"another OS user": second(g.Host.Under("root")),
	} {
		assert.Error(t, err, what)
		if what != "another OS user" && !assert.ErrorIs(t, err, wire.ErrRefused, what) {
			t.Log(err)
		}
	}
	files, err := g.Host.Files(inside)
	require.NoError(t, err)
	for _, name := range []string{"passwd", "../../host.pem", secret} {
		_, err := files.ReadFile(name)
		assert.Error(t, err, name)
		assert.Error(t, files.WriteFile(name+"/x", nil, 0o600), name)
	}
	_, err = g.Host.Dial(ctx, host.Server{DataDir: i.Server.DataDir, Port: i.Server.Port})
	assert.ErrorContains(t, err, "no copy's place")
	assert.FileExists(t, secret)
	assert.True(t, i.Host.Running(i.Server.Server))
}

// TestWhatAHostRefusesOfItsDatabases has a service ask for more than is named as databases, and for what is never done to them.
func TestWhatAHostRefusesOfItsDatabases(t *testing.T) {
	i := install(t)
	theirs := filepath.Dir(i.Server.DataDir)
	i.join("spare", theirs)
	g, err := i.registry.Ground(i.serve("spare"))
	require.NoError(t, err)
	ctx, user, inside := context.Background(), g.Host.User(), filepath.Join(g.Dir, "copy")
	require.NoError(t, g.Host.MakeClosedDir(inside))
	o, err := g.Host.Inspect(i.Server.DataDir, i.Record.SystemID)
	require.NoError(t, err)
	assert.True(t, o.Running)
	inUnit, loggedAway := o, o
	inUnit.Unit, loggedAway.Log = "ssh.service", "/etc/log"
	require.NoError(t, os.Symlink("/etc", filepath.Join(theirs, "link")))
	own, err := g.Host.Files(i.Server.DataDir)
	require.NoError(t, err)
	copyFiles, err := g.Host.Files(inside)
	require.NoError(t, err)
	for what, err := range map[string]error{
		"a cluster elsewhere":    second(g.Host.Inspect("/etc", i.Record.SystemID)),
		"another cluster":        second(g.Host.Inspect(i.Server.DataDir, i.Record.SystemID+1)),
		"a unit":                 g.Host.StopOriginal(ctx, inUnit),
		"starting a unit":        g.Host.StartOriginal(ctx, inUnit),
		"a log elsewhere":        g.Host.StartOriginal(ctx, loggedAway),
		"where something is":     second(g.Host.Spot("/etc/passwd")),
		"moving away":            g.Host.Move(i.Server.DataDir, "/etc/data"),
		"moving in":              g.Host.Move("/etc", filepath.Join(theirs, "etc")),
		"moving over a link":     g.Host.Move(i.Server.DataDir, filepath.Join(theirs, "link", "data")),
		"removing what serves":   g.Host.RemoveAside(i.Server.DataDir),
		"removing elsewhere":     g.Host.RemoveAside("/etc" + host.AsideName(time.Now())),
		"writing":                own.WriteFile("postgresql.conf", nil, 0o600),
		"making":                 second(own.Create("new", 0o600)),
		"deleting":               own.Remove("base"),
		"renaming":               own.Rename("base", "basement"),
		"reading over a link":    second(g.Host.Files(filepath.Join(theirs, "link"))),
		"a link to elsewhere":    copyFiles.Link("/etc", "etc"),
		"bringing elsewhere":     g.Host.Bring(ctx, user, filepath.Join(inside, "x"), "/etc/data"+host.BroughtName("x")),
		"bringing from the host": g.Host.Bring(ctx, user, "/etc", filepath.Join(theirs, "etc"+host.BroughtName("x"))),
		"bringing over it":       g.Host.Bring(ctx, user, filepath.Join(inside, "x"), i.Server.DataDir),
	} {
		assert.Error(t, err, what)
	}
	content, err := own.ReadFile("PG_VERSION")
	require.NoError(t, err, "reading is what it is for")
	assert.NotEmpty(t, content)
	assert.True(t, i.Host.Running(i.Server.Server))
}

func second[T any](_ T, err error) error { return err }

// TestThroughTheService makes a copy on a host that does not reach the store: all of it flows over the connection.
func TestThroughTheService(t *testing.T) {
	i := install(t)
	i.Capture()
	i.Server.Exec("postgres", "create table booking as select n, repeat('tide ', n % 50) as note from generate_series(1, 20000) n")
	i.Eventually("capture streams", func() bool { return i.State().Receives() })
	i.Take("full")
	i.join("spare")
	id := i.serve("spare")
	maker := i.Maker()
	maker.Elsewhere = func(host string) (g copies.Ground, err error) {
		g, err = i.registry.Ground(host)
		g.LayOut = nil
		return g, err
	}
	testbed.One[string](i.Bed, i.SQL, "select pg_switch_wal()::text")
	i.Captured()
	i.Eventually("it is stored", func() bool { return i.State().StoredLSN > 0 })
	p, err := i.Plan("latest")
	require.NoError(t, err)
	k, err := maker.Prepare(context.Background(), i.Record, p, copies.Wish{Host: id})
	require.NoError(t, err)
	require.NoError(t, i.Catalog.AddCopy(context.Background(), k, nil))
	require.NoError(t, maker.Make(context.Background(), i.Record, k, p, task.Silent))
	k = i.Seen(k)
	assert.Equal(t, catalog.CopyPaused, k.State)
	assert.Positive(t, i.fed.Load(), "its server was fed over the service's own listener for hosts")
	m, err := maker.Machine(k)
	require.NoError(t, err)
	conn, err := copies.Connect(context.Background(), m, k, i.Record, "postgres")
	require.NoError(t, err)
	assert.Equal(t, 20000, testbed.One[int](i.Bed, conn, "select count(*) from public.booking"))
	waiting, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	_, err = conn.Exec(waiting, "select pg_sleep(60)")
	require.Error(t, err, "a session can be given up")
	assert.True(t, conn.IsClosed())
	require.NoError(t, maker.Remove(context.Background(), i.Record, k))
	assert.NoDirExists(t, k.Directory)
}

// TestCertificates has a host renew its own, and one whose ran out say so.
func TestCertificates(t *testing.T) {
	i := install(t)
	read := func(name string) *identity.Host {
		content, err := os.ReadFile(filepath.Join(i.Path(name), "host.pem"))
		require.NoError(t, err)
		own, err := identity.DecodeHost(content)
		require.NoError(t, err)
		return own
	}
	i.join("spare")
	first := read("spare")
	old := i.reissue("spare", 21*24*time.Hour)
	require.True(t, time.Now().After(old.Due()))
	i.serve("spare")
	i.Eventually("it is renewed", func() bool { return time.Until(read("spare").Ends()) > 29*24*time.Hour })
	assert.Equal(t, first.ID(), read("spare").ID())
	assert.False(t, first.Certificate.PrivateKey == read("spare").Certificate.PrivateKey)

	i.join("asleep")
	i.reissue("asleep", 31*24*time.Hour)
	a, err := agent.Open(i.Path("asleep"), "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	assert.ErrorContains(t, a.Run(context.Background()), "ran out on")
	require.NoError(t, os.Chmod(filepath.Join(i.Path("asleep"), "host.pem"), 0o644))
	_, err = agent.Open(i.Path("asleep"), "test", slog.New(slog.DiscardHandler))
	assert.ErrorContains(t, err, "read by others")
	require.NoError(t, os.Chmod(filepath.Join(i.Path("asleep"), "host.pem"), 0o600))
	if os.Geteuid() == 0 {
		const nobody = 65534
		require.NoError(t, os.Chown(filepath.Join(i.Path("asleep"), "copies"), nobody, nobody))
		_, err = agent.Open(i.Path("asleep"), "test", slog.New(slog.DiscardHandler))
		assert.ErrorContains(t, err, "belongs to another OS user")
	}
	_, err = agent.Join(context.Background(), i.Path("spare"), i.address, strings.Repeat("a", 20)+".b", i.Path("spare", "copies"), nil)
	assert.ErrorContains(t, err, "is a host already")
}

// reissue gives a host the certificate that it would have got some time ago.
func (i *installation) reissue(name string, ago time.Duration) *identity.Host {
	certificate, sealed, err := i.Catalog.Authority(context.Background(), nil)
	require.NoError(i, err)
	opened, err := i.registry.Key.Open(sealed, "the authority for hosts")
	require.NoError(i, err)
	authority, err := identity.OpenAuthority(certificate, []byte(opened))
	require.NoError(i, err)
	h, err := i.Catalog.Host(context.Background(), name)
	require.NoError(i, err)
	key, request, err := identity.NewRequest()
	require.NoError(i, err)
	signed, err := authority.SignHost(request, h.ID, time.Now().Add(-ago))
	require.NoError(i, err)
	own, err := identity.NewHost(key, signed, certificate)
	require.NoError(i, err)
	content, err := own.Encode()
	require.NoError(i, err)
	require.NoError(i, os.WriteFile(filepath.Join(i.Path(name), "host.pem"), content, 0o600))
	return own
}
