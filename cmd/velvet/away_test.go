package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// away is a stage whose cluster is on another machine, which has a host agent; so has a spare one.
type away struct {
	*stage
	quay, spare *testbed.Agent
}

// newAway makes three machines: the service's and the store's, the database's, and a spare one.
func newAway(b *testbed.Bed) *away {
	quay, spare := b.Machine(), b.Machine()
	s := &away{stage: newStageOn(b, "--agents", quay.Ours+":0")}
	s.ferries.MoveTo(quay)
	s.db = s.ferries.Connect("postgres")
	s.protect()
	s.quay = s.service.Join("quay", "--databases", s.Path("."))
	s.quay.Machine = quay
	s.quay.Start()
	s.spare = s.service.Join("spare")
	s.spare.Machine = spare
	s.spare.Start()
	s.take()
	return s
}

// rewound makes an accident, and a copy of before it on a host.
func (s *away) rewound(on string) api.Copy {
	accident := testbed.One[string](s.Bed, s.db, "with d as (delete from booking) select pg_current_xact_id()::text")
	s.captured()
	var k api.Copy
	s.service.JSON(&k, "restore", "start", "ferries", "before tx "+accident, "--host", on)
	return k
}

// TestTakeoverOnAHost takes over on the original's own host, through its agent, and then on another, when that host is lost.
func TestTakeoverOnAHost(t *testing.T) {
	if os.Getenv("VELVET_EVERY_VERSION") != "" {
		for _, v := range pg.Versions() { // one after the other: each has three machines
			t.Run(fmt.Sprint(v.Major), func(t *testing.T) { takeOverOnAHost(t, testbed.NewOf(t, v.Major)) })
		}
		return
	}
	t.Parallel()
	takeOverOnAHost(t, testbed.New(t))
}

// repaired loses the tablespace, and has it repaired by the host's agent.
func (s *away) repaired() {
	s.captured()
	require.NoError(s, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
	version, err := filepath.Glob(s.Path("ferries", "ledger", "PG_*"))
	require.NoError(s, err)
	require.NoError(s, os.RemoveAll(version[0]))
	var r api.Repair
	s.service.JSON(&r, "restore", "repair", "ferries", "--tablespace", s.Path("ferries", "ledger"), "--confirm", "ferries")
	require.True(s, r.Started)
	for _, f := range r.Findings {
		require.True(s, f.Missing && strings.HasPrefix(f.Path, "pg_tblspc/"), "%+v", f)
	}
	s.db = s.ferries.Connect("postgres")
	require.Equal(s, 1000, testbed.One[int](s.Bed, s.db, "select count(*) from payment"))
	s.streaming()
}

func takeOverOnAHost(t *testing.T, b *testbed.Bed) {
	s := newAway(b)
	s.commit(1)
	s.repaired()
	spare := s.spare
	k := s.rewound("spare")
	s.refused(1, []string{"does not lie in what host.yaml names as databases"}, "restore", "takeover", k.Name, "--confirm", "ferries")
	s.service.Must("copy", "discard", k.Name, "--confirm", "ferries")
	s.ferries.Exec("postgres", "insert into booking select n, 'again' from generate_series(1, 20000) n")
	k = s.rewound("quay")
	s.commit(2)
	s.captured()
	s.ferries.Exec("postgres", "alter system set work_mem = '7MB'")
	s.away(k)
	s.service.Must("restore", "takeover", k.Name, "--confirm", "ferries")
	s.serves("1", 20000)
	assert.Equal(t, "7MB", testbed.One[string](s.Bed, s.db, "show work_mem"), "the configuration of today")
	s.streaming()
	s.Eventually("a base backup of the new timeline is complete", func() bool {
		return s.cluster().Capture.Timeline == 2 && len(s.active()) == 0
	})
	first := s.takeovers()[0]
	for _, dir := range first.Aside {
		require.DirExists(t, dir)
	}
	s.service.Must("restore", "takeover", "clear", first.ID, "--confirm", "ferries")
	for _, dir := range first.Aside {
		require.NoDirExists(t, dir)
	}

	// Its host is lost, with everything on it.
	s.commit(3)
	s.captured()
	spare.Kill()
	config, err := os.ReadFile(filepath.Join(spare.Home, "host.yaml"))
	require.NoError(t, err)
	allowed := strings.Replace(string(config), "databases: []", "databases: ["+strconv.Quote(s.Path("."))+"]", 1)
	require.NoError(t, os.WriteFile(filepath.Join(spare.Home, "host.yaml"), []byte(allowed), 0o600))
	spare.Start()
	s.service.JSON(&k, "restore", "start", "ferries", "latest", "--host", "spare")
	s.service.Must("prove", "run", k.Name)
	s.quay.Kill()
	s.ferries.Kill()
	require.NoError(t, os.RemoveAll(s.ferries.DataDir))
	for _, left := range []string{filepath.Join(s.Path("ferries", "ledger"), "PG_*"), filepath.Join(s.ferries.Socket, ".s.*")} {
		list, err := filepath.Glob(left)
		require.NoError(t, err)
		for _, path := range list {
			require.NoError(t, os.RemoveAll(path))
		}
	}
	s.refused(1, []string{"last seen on", "--host-lost"}, "restore", "takeover", k.Name, "--confirm", "ferries")
	out := s.service.Must("restore", "takeover", k.Name, "--confirm", "ferries", "--host-lost")
	assert.Contains(t, out, "on another host now")
	s.ferries.Machine = spare.Machine
	s.serves("1,3", 20000)
	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "edit", "ferries", "--connect", s.ferries.DSN("velvet", "postgres"),
		"--password-file", "-")
	require.Zero(t, r.Code, r.Err)
	s.Eventually("it is captured where it is", func() bool { k := s.cluster().Capture; return k.State == "streaming" && k.Timeline == 3 })
	s.commit(4)
	s.captured()
}

// away makes sure that what is on the other machine cannot be reached but through its agent.
func (s *away) away(k api.Copy) {
	_, err := pgx.Connect(context.Background(), fmt.Sprintf("host=127.0.0.1 port=%d user=%s connect_timeout=5", k.Port, testbed.Superuser))
	require.ErrorContains(s, err, "refused")
	_, err = pgx.Connect(context.Background(), fmt.Sprintf("host=127.0.0.1 port=%d user=%s connect_timeout=5", s.ferries.Port,
		testbed.Superuser))
	require.ErrorContains(s, err, "refused")
}

// TestTakeoverOnAHostIsKilled kills the agent, the service, the server or all of them, or pulls the cable, at every step of a takeover: it
// ends in service
// at the moment, or in service as before. VELVET_TAKEOVER_KILLS says how many times at random it is done besides.
func TestTakeoverOnAHostIsKilled(t *testing.T) {
	t.Parallel()
	s := newAway(testbed.New(t))
	steps := []string{"opening", "stopping", "setting aside", "placing", "starting"}
	for i, step := range steps {
		s.killedAt(i+1, step, []string{"agent", "service", "both", "cable", "slow"}[i%5], 0)
	}
	more, _ := strconv.Atoi(os.Getenv("VELVET_TAKEOVER_KILLS"))
	for i := range more {
		victim := []string{"agent", "service", "both", "server", "cable", "slow"}[rand.IntN(6)]
		s.killedAt(len(steps)+1+i, steps[rand.IntN(len(steps))], victim, time.Duration(rand.IntN(1000))*time.Millisecond)
	}
}

// killedAt takes over, and kills somebody some time after a step has begun.
func (s *away) killedAt(n int, step, victim string, after time.Duration) {
	round := fmt.Sprintf("round %d: %s killed %s after %s began", n, victim, after, step)
	s.ferries.Exec("postgres", "truncate booking", "insert into booking select n, 'tide' from generate_series(1, 20000) n")
	timeline := testbed.One[int](s.Bed, s.db, "select timeline_id from pg_control_checkpoint()")
	s.commit(2*n - 1)
	k := s.rewound("quay")
	s.commit(2 * n)
	s.captured()
	address := s.agents()
	var task api.Task
	s.service.JSON(&task, "restore", "takeover", k.Name, "--confirm", "ferries", "--quick", "--detach")
	s.Eventually(step, func() bool {
		list := s.takeovers()
		return len(list) == n && (list[0].Step == step || list[0].EndedAt != nil)
	})
	time.Sleep(after)
	s.kill(victim, address)
	s.Eventually("it has ended", func() bool { return s.takeovers()[0].EndedAt != nil })
	t := s.takeovers()[0]
	last, booked := 2*n, 0
	if t.Step == "in service" {
		last, booked, timeline = 2*n-1, 20000, timeline+1
	}
	if victim == "server" && !s.ferries.Answers() && !s.Host.Running(s.ferries.Server) {
		for _, lock := range []string{filepath.Join(s.ferries.DataDir, "postmaster.pid"),
			filepath.Join(s.ferries.Socket, fmt.Sprintf(".s.PGSQL.%d.lock", s.ferries.Port))} {
			_ = os.Remove(lock) // its process may not have been taken notice of, where nobody does
		}
		s.ferries.Start() // as its DBA would, who finds it down
	}
	s.Eventually("it serves", s.ferries.Answers)
	s.db = s.ferries.Connect("postgres")
	s.Log(round, "it ended", t.Step, t.Problem)
	assert.Equal(s, []int{last, booked, timeline}, []int{testbed.One[int](s.Bed, s.db, "select max(n) from journal"),
		testbed.One[int](s.Bed, s.db, "select count(*) from booking"),
		testbed.One[int](s.Bed, s.db, "select timeline_id from pg_control_checkpoint()")}, "%s: %s %s", round, t.Step, t.Problem)
	s.ferries.Exec("postgres", "delete from journal where n > "+strconv.Itoa(2*n-1)) // as if it had been in service
	s.Eventually("nothing is under way", func() bool { return len(s.active()) == 0 })
	s.streaming()
	s.Eventually("capture follows", func() bool { return int(s.cluster().Capture.Timeline) == timeline })
	s.discardAll()
}

// kill ends somebody at once, and starts it again.
func (s *away) kill(victim, address string) {
	if victim == "agent" || victim == "both" {
		s.quay.Kill()
	}
	if victim == "service" || victim == "both" {
		s.service.Kill()
		s.service.With("--agents", address)
		s.service.Start()
	}
	if victim == "slow" {
		s.quay.Machine.Slow("200kbit")
		time.Sleep(3 * time.Second)
		s.quay.Machine.Fast()
	}
	if victim == "cable" {
		s.quay.Machine.Unplug()
		s.Eventually("the silence is noticed", func() bool { return !s.quay.Connected() })
		s.quay.Machine.Plug()
	}
	if pid, err := s.Host.PID(s.ferries.Server); victim == "server" && err == nil {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	if victim == "agent" || victim == "both" {
		s.quay.StartAlone()
	}
	s.Eventually("the host is connected", s.quay.Connected)
}
