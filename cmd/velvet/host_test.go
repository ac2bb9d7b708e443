package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// sees looks through a copy's port, which is on this machine, whatever host it stands on.
func (s *stage) sees(k api.Copy, numbers string) {
	s.Helper()
	conn := s.connect(k.Port, "postgres")
	defer func() { _ = conn.Close(context.Background()) }()
	assert.Equal(s, numbers, testbed.One[string](s.Bed, conn, numbersOf))
	assert.Equal(s, 1000, testbed.One[int](s.Bed, conn, "select count(*) from payment"), "what lies in a tablespace")
}

// part looks through the port of a partial copy that holds nothing but the journal.
func (s *stage) part(k api.Copy) {
	s.Helper()
	conn := s.connect(k.Port, "postgres")
	defer func() { _ = conn.Close(context.Background()) }()
	assert.Equal(s, "1,2", testbed.One[string](s.Bed, conn, numbersOf))
	_, err := conn.Exec(context.Background(), "select count(*) from payment")
	require.ErrorContains(s, err, "could not open file")
}

// TestCopiesOnAHost makes, moves, proves, opens and discards copies on a host with an agent, which is killed meanwhile, and whose
// own limits hold.
func TestCopiesOnAHost(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--agents", "127.0.0.1:0")
	s.protect()
	s.take()
	s.commit(1)
	first := testbed.One[string](s.Bed, s.db, "select xmin::text from journal where n = 1")
	s.commit(2)
	s.captured()
	s.refused(1, []string{"no host has the name", "velvet host list"}, "restore", "start", "ferries", "latest", "--host", "spare")

	spare := s.service.Join("spare")
	s.refused(1, []string{"out of reach", "velvet host serve"}, "restore", "start", "ferries", "latest", "--host", "spare")
	spare.Configure("copies-at-once: 1\nports: 21700-21799")
	spare.Start()
	assert.Contains(t, s.service.Must("host", "list"), "connected")

	var k api.Copy
	s.service.JSON(&k, "restore", "start", "ferries", "latest", "--host", "spare")
	assert.Equal(t, "paused", k.State)
	assert.Equal(t, "spare", k.Host)
	assert.InDelta(t, 21750, k.Port, 50)
	assert.Equal(t, spare.Copies, filepath.Dir(k.Directory))
	assert.NotContains(t, s.service.Must("task", "show", k.Task), "through the service", "the host reads the store itself")
	s.sees(k, "1,2")
	s.refused(1, []string{"the host allows 1 at once"}, "restore", "start", "ferries", "latest", "--host", "spare")
	plan := s.service.Must("restore", "plan", "ferries", "latest", "--host", "spare")
	for _, says := range []string{spare.Copies, "are free", "in the store", "It cannot be made now: the host allows 1 at once"} {
		assert.Contains(t, plan, says)
	}
	assert.NotContains(t, s.service.Must("restore", "plan", "ferries", "latest"), "cannot be made")
	segments, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "wal", "00000001", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, segments)
	last := segments[len(segments)-1]
	require.NoError(t, os.Rename(last, s.Path("aside")))
	plan = s.service.Must("restore", "plan", "ferries", "latest")
	assert.Contains(t, plan, "recorded, and not in the store: 1, from "+filepath.Base(last))
	require.NoError(t, os.Rename(s.Path("aside"), last))
	assert.Contains(t, s.service.Must("prove", "run", k.Name), "passed")
	s.service.JSON(&k, "copy", "step", k.Name, "tx "+first)
	s.sees(k, "1")

	shown := func() (now api.Copy) { s.service.JSON(&now, "copy", "show", k.Name); return now }

	// What is not known is not said, and what is known again is.
	spare.Kill()
	s.Eventually("the host is missed", func() bool { return !spare.Connected() })
	assert.Equal(t, "paused", shown().State)
	assert.Contains(t, shown().Problem, "not known")
	s.sees(k, "1")
	s.refused(1, []string{"out of reach"}, "copy", "discard", k.Name, "--confirm", "ferries")
	s.refused(1, []string{"copies on spare"}, "host", "remove", "spare", "--confirm", "spare")
	spare.Start()
	assert.Empty(t, shown().Problem)
	s.service.Must("copy", "open", k.Name)
	assert.Equal(t, "open", shown().State)
	assert.Contains(t, s.service.Must("prove", "run", k.Name), "passed")
	s.service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	s.service.JSON(&k, "restore", "start", "ferries", "latest", "--only", "journal", "--host", "spare")
	require.NotNil(t, k.Partial, "it is no whole one after all")
	assert.NotContains(t, s.service.Must("task", "show", k.Task), "through the service")
	s.part(k)
	s.service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	left, err := os.ReadDir(spare.Copies)
	require.NoError(t, err)
	assert.Empty(t, left)

	s.refused(3, []string{"confirm with the host's name: spare"}, "host", "remove", "spare")
	s.service.Must("host", "remove", "spare", "--confirm", "spare")
	s.Eventually("it is turned away", func() bool { return strings.Contains(spare.Said(), "may have removed this host") })
}

// TestHostsThatAreNotOurs has words be used twice and hosts come that joined another service.
func TestHostsThatAreNotOurs(t *testing.T) {
	t.Parallel()
	b := testbed.New(t)
	s := b.Service("--agents", "127.0.0.1:0")
	var w api.HostWord
	s.JSON(&w, "host", "add", "spare")
	join := func(word string, args ...string) testbed.Result {
		home := b.Path("h" + time.Now().Format(".000000"))
		return s.VelvetWith(word+"\n", append([]string{"host", "join", "--word-file", "-", "--home", home}, args...)...)
	}
	for _, wrong := range []struct{ word, says string }{
		{"tide", "no word that a service gives"},
		{"tide." + strings.SplitN(w.Word, ".", 2)[1], "not valid"},
		{strings.SplitN(w.Word, ".", 2)[0] + ".0123456789abcdef0123456789abcdef", "another service than the one that gave the word"},
	} {
		r := join(wrong.word, w.Address)
		assert.Equal(t, 1, r.Code)
		assert.Contains(t, r.Err, wrong.says)
	}
	r := join(w.Word, w.Address)
	require.Zero(t, r.Code, r.Err)
	assert.Contains(t, join(w.Word, w.Address).Err, "not valid", "it was used")
	assert.Contains(t, s.Velvet("host", "add", "spare").Err, "named \"spare\" already")
	log, err := os.ReadFile(b.Path("service.log"))
	require.NoError(t, err)
	assert.NotContains(t, string(log), strings.SplitN(w.Word, ".", 2)[0])

	// Nobody without a certificate is listened to, and none that another authority has signed.
	other := testbed.New(t).Service("--agents", "127.0.0.1:0").Join("stray")
	content, err := os.ReadFile(filepath.Join(other.Home, "host.yaml"))
	require.NoError(t, err)
	_, theirs, _ := strings.Cut(string(content), "services: [")
	theirs, _, _ = strings.Cut(theirs, "]")
	astray := strings.Replace(string(content), theirs, w.Address, 1)
	require.NoError(t, os.WriteFile(filepath.Join(other.Home, "host.yaml"), []byte(astray), 0o600))
	other.StartAlone()
	b.Eventually("it does not trust the service", func() bool { return strings.Contains(other.Said(), "signed by unknown authority") })
}

// TestAHostIsLostOnTheWay kills an agent, and the service, while a base is laid out: what there is of the copy goes when the host is
// in reach again, and until then nobody is told that it stands.
func TestAHostIsLostOnTheWay(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--agents", "127.0.0.1:0")
	address := s.agents()
	s.ferries.Exec("postgres",
		"create table cargo as select n, md5(n::text) || repeat('~', 300) as note from generate_series(1, 1000000) n")
	s.protect()
	s.take()
	s.commit(1)
	s.captured()
	spare := s.service.Join("spare")
	spare.Start()
	layingOut := func() (k api.Copy) { // the agent stops in the middle of it
		var task api.Task
		s.service.JSON(&task, "restore", "start", "ferries", "latest", "--host", "spare", "--detach")
		var has []string
		for started := time.Now(); len(has) == 0 && time.Since(started) < time.Minute; time.Sleep(time.Millisecond) {
			has, _ = filepath.Glob(filepath.Join(spare.Copies, task.Subject, "data", "base", "*", "*"))
		}
		require.NotEmpty(t, has)
		spare.Hang()
		s.service.JSON(&k, "copy", "show", task.Subject)
		require.Equal(t, "laying out", k.State)
		return k
	}
	gone := func(k api.Copy) {
		s.Eventually("what there was of it is gone", func() bool {
			_, err := os.Stat(k.Directory)
			return os.IsNotExist(err) && !strings.Contains(s.service.Must("copy", "list"), k.Name)
		})
	}

	k := layingOut()
	spare.Kill()
	s.Eventually("the task has failed", func() bool { return strings.Contains(s.service.Velvet("task", "show", k.Task).Out, "failed") })
	var shown api.Copy
	s.service.JSON(&shown, "copy", "show", k.Name)
	assert.Equal(t, "down", shown.State)
	assert.DirExists(t, k.Directory)
	spare.Start()
	gone(k)

	k = layingOut()
	s.service.Kill()
	spare.Wake()
	s.Eventually("the agent removes what nobody waits for", func() bool {
		_, err := os.Stat(k.Directory)
		return os.IsNotExist(err)
	})
	s.service.With("--agents", address)
	s.service.Start()
	gone(k)
	s.Eventually("the agent is back", spare.Connected)
	s.service.JSON(&k, "restore", "start", "ferries", "latest", "--host", "spare")
	s.sees(k, "1")

	// The machine is lost for good.
	spare.Kill()
	s.refused(1, []string{"out of reach for three minutes"}, "host", "remove", "spare", "--confirm", "spare")
	s.service.Records.Exec("postgres", "update velvet.hosts set seen_at = now() - interval '1 hour'")
	s.service.Must("host", "remove", "spare", "--confirm", "spare")
	assert.NotContains(t, s.service.Must("copy", "list"), k.Name)
	left := host.Server{Major: s.Major, DataDir: filepath.Join(k.Directory, "data")}
	require.NoError(t, s.Host.Stop(context.Background(), left, host.Immediate))
}

// agents is where the service listens for host agents.
func (s *stage) agents() string {
	var w api.HostWord
	s.service.JSON(&w, "host", "add", "asked-only")
	return w.Address
}

// TestAHostBehindACable has a host that is another machine to the network: nothing there can be reached from here but through the
// connection that it opened. The cable is pulled while a copy stands there, and put back.
func TestAHostBehindACable(t *testing.T) {
	t.Parallel()
	b := testbed.New(t)
	machine := b.Machine()
	s := newStageOn(b, "--agents", machine.Ours+":0")
	s.protect()
	s.take()
	s.commit(1)
	s.captured()
	spare := s.service.Join("spare")
	spare.Machine = machine
	spare.Start()
	var k api.Copy
	s.service.JSON(&k, "restore", "start", "ferries", "latest", "--host", "spare")
	_, err := pgx.Connect(context.Background(), fmt.Sprintf("host=127.0.0.1 port=%d user=%s connect_timeout=5", k.Port, testbed.Superuser))
	require.ErrorContains(t, err, "refused", "its port is on another machine")
	assert.Contains(t, s.service.Must("prove", "run", k.Name), "passed")
	listening, err := machine.Inside("sh", "-c", "cat /proc/net/tcp /proc/net/tcp6 | grep ' 0A '").CombinedOutput()
	require.NoError(t, err)
	for line := range strings.Lines(string(listening)) {
		local := strings.Fields(line)[1]
		assert.True(t, strings.HasPrefix(local, "0100007F:"), "something listens there that other machines reach: %s", line)
	}

	machine.Unplug()
	s.commit(2)
	s.Eventually("the silence is noticed", func() bool { return !spare.Connected() })
	s.refused(1, []string{"out of reach"}, "prove", "run", k.Name)
	var shown api.Copy
	s.service.JSON(&shown, "copy", "show", k.Name)
	assert.Contains(t, shown.Problem, "not known")
	machine.Plug()
	s.Eventually("the host is back", spare.Connected)
	s.service.JSON(&k, "copy", "step", k.Name, "latest")
	assert.Contains(t, s.service.Must("prove", "run", k.Name), "passed")
	s.service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	require.NoDirExists(t, k.Directory)
}
