package main

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"sort"
	"strconv"
	"sync"
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

// receipt is a commit that the server has acknowledged.
type receipt struct {
	n    int
	xid  string
	lsn  pg.LSN // its record begins at or after this
	time time.Time
}

// traffic commits to the ferries without end, and knows what was acknowledged.
type traffic struct {
	s    *stage
	stop chan struct{}
	done sync.WaitGroup
	mu   sync.Mutex
	list []receipt
	next int
}

func (s *stage) traffic(clients int) *traffic {
	w := &traffic{s: s, stop: make(chan struct{})}
	for range clients {
		w.done.Go(w.run)
	}
	return w
}

func (w *traffic) run() {
	var conn *pgx.Conn
	defer func() {
		if conn != nil {
			_ = conn.Close(context.Background())
		}
	}()
	for {
		select {
		case <-w.stop:
			return
		default:
		}
		var err error
		if conn == nil {
			if conn, err = pgx.Connect(context.Background(), w.s.ferries.DSN(testbed.Superuser,
				"postgres")+" connect_timeout=2 password='"+testbed.Password+"'"); err != nil {
				conn = nil
				time.Sleep(50 * time.Millisecond)
				continue
			}
		}
		if err = w.commit(conn); err != nil {
			_ = conn.Close(context.Background())
			conn = nil
		}
	}
}

func (w *traffic) commit(conn *pgx.Conn) error {
	w.mu.Lock()
	w.next++
	c := receipt{n: w.next}
	w.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	err := conn.QueryRow(ctx, `with i as (insert into journal values ($1)) select pg_current_xact_id()::text,
		pg_current_wal_insert_lsn()::text`, c.n).
		Scan(&c.xid, &c.lsn)
	if err != nil {
		return err
	}
	// It is acknowledged; when it says that it was comes after.
	w.mu.Lock()
	defer w.mu.Unlock()
	w.list = append(w.list, c)
	if c.n%40 == 0 {
		_, err = conn.Exec(ctx, `update booking set note = note || '.' where id % 50 = $1`, c.n%50)
	}
	return err
}

// acknowledged gives what was committed until now, with the times that the server has for it.
func (w *traffic) acknowledged() []receipt {
	w.mu.Lock()
	list := append([]receipt(nil), w.list...)
	w.mu.Unlock()
	conn, err := pgx.Connect(context.Background(), w.s.ferries.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(w.s, err)
	defer func() { _ = conn.Close(context.Background()) }()
	times := make(map[string]time.Time)
	rows, err := conn.Query(context.Background(), `select xmin::text, pg_xact_commit_timestamp(xmin) from journal`)
	require.NoError(w.s, err)
	var xid string
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&xid, &at}, func() error {
		times[xid] = at
		return nil
	})
	require.NoError(w.s, err)
	for i := range list {
		var known bool
		list[i].time, known = times[list[i].xid]
		require.True(w.s, known, "the server itself has kept what it acknowledged")
	}
	return list
}

// claim is what the service has said of itself at one instant.
type claim struct {
	to      time.Time
	flushed pg.LSN
}

// endured is what a run of TestCaptureEndures is made of.
type endured struct {
	*stage
	random   *rand.Rand
	way      *link
	services []*testbed.Service
	alive    []bool
	claims   []claim
	stored   map[string]int64
}

// rounds is how often something happens: 20 in the tests, more in `make endure`.
func rounds(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("VELVET_ENDURE_ROUNDS")); err == nil {
		return n
	}
	return usual
}

// TestCaptureEndures kills the service, the server, both, or one of two services in turn, and cuts,
// slows and silences the connection, at random under load. Nothing that was acknowledged may be
// missing, no segment may become shorter, and what is said to be complete must be.
func TestCaptureEndures(t *testing.T) {
	t.Parallel()
	seed, err := strconv.ParseUint(os.Getenv("VELVET_ENDURE_SEED"), 10, 64)
	if err != nil {
		seed = 12
	}
	e := &endured{stage: newStage(t, "--adopt-store"), random: rand.New(rand.NewPCG(seed, 1)), stored: make(map[string]int64)}
	e.ferries.Configure("track_commit_timestamp = on", "wal_keep_size = '64MB'", "wal_sender_timeout = '3s'")
	require.NoError(t, e.db.Close(context.Background()))
	e.ferries.Stop(host.Fast)
	e.ferries.Start()
	e.db = e.ferries.Connect("postgres")
	e.way = e.protectOver(t)
	e.services = []*testbed.Service{e.service, e.service.Another("second-home")}
	e.services[1].Start()
	e.alive = []bool{true, true}
	load := e.traffic(3)
	happened := make(map[string]int)
	for range rounds(20) {
		happened[e.round()]++
		e.look()
	}
	e.way.pace.Store(1 << 40)
	e.way.mute.Store(false)
	for i := range e.services {
		e.revive(i)
	}
	close(load.stop)
	load.done.Wait()
	if !e.ferries.Answers() {
		e.ferries.Start()
	}
	list := load.acknowledged()
	t.Logf("seed %d: %v; %d commits were acknowledged", seed, happened, len(list))
	e.judge(list)
}

// round has something happen, and gives its name.
func (e *endured) round() string {
	time.Sleep(time.Duration(e.random.IntN(1500)) * time.Millisecond)
	for i := range e.services {
		e.revive(i)
	}
	one := e.random.IntN(len(e.services))
	switch what := e.random.IntN(9); what {
	case 0, 1:
		e.kill(one)
		return "a service killed"
	case 2:
		for i := range e.services {
			e.kill(i)
		}
		return "both services killed"
	case 3:
		e.services[one].Stop()
		e.alive[one] = false
		return "a service stopped"
	case 4:
		e.ferries.Kill()
		e.ferries.Start()
		return "the server killed"
	case 5:
		e.kill(one)
		e.ferries.Kill()
		e.kill(1 - one)
		e.ferries.Start()
		return "everything killed"
	case 6:
		e.way.cut.Store(1 + e.random.Int64N(200_000))
		return "the connection cut"
	case 7:
		e.way.pace.Store(100_000 + e.random.Int64N(3<<20))
		time.Sleep(time.Second)
		e.way.pace.Store(1 << 40)
		return "the connection slowed"
	default:
		e.way.mute.Store(true)
		time.Sleep(time.Duration(1000+e.random.IntN(4000)) * time.Millisecond)
		e.way.mute.Store(false)
		return "the connection silenced"
	}
}

func (e *endured) kill(i int) {
	if e.alive[i] {
		e.services[i].Kill()
		e.alive[i] = false
	}
}

func (e *endured) revive(i int) {
	if !e.alive[i] {
		e.services[i].Start()
		e.alive[i] = true
	}
}

// look notes what is said to be complete, and that no stored segment has become shorter.
func (e *endured) look() {
	for i, s := range e.services {
		if !e.alive[i] {
			continue
		}
		r := s.Velvet("cluster", "show", "ferries", "--output", "json")
		var k api.Cluster
		if r.Code != 0 || json.Unmarshal([]byte(r.Out), &k) != nil || k.Capture.CompleteTo == nil {
			continue
		}
		e.claims = append(e.claims, claim{*k.Capture.CompleteTo, k.Capture.Flushed})
		require.Empty(e, k.Holes, "the server keeps for us what we lack")
	}
	now := e.storedSegments()
	for name, size := range e.stored {
		require.GreaterOrEqual(e, now[name], size, "%s was replaced by less", name)
	}
	e.stored = now
}

// margin is by how much a commit's time may be before its record.
const margin = 2 * time.Second

// judge holds what was captured and said against what was acknowledged.
func (e *endured) judge(list []receipt) {
	require.NotEmpty(e, list)
	require.NotEmpty(e, e.claims)
	for _, c := range e.claims {
		for _, k := range list {
			if k.lsn >= c.flushed && k.time.Before(c.to.Add(-margin)) { // of some millions of pairs
				require.Fail(e, "not complete", "commit %s of %s, while everything to %s was said to be here", k.xid, k.time, c.to)
			}
		}
	}
	e.db = e.ferries.Connect("postgres")
	e.captured()
	require.Empty(e, e.cluster().Holes)
	k, conn := e.restore("latest")
	rows, err := conn.Query(context.Background(), "select n from journal")
	require.NoError(e, err)
	there, err := pgx.CollectRows(rows, pgx.RowTo[int])
	require.NoError(e, err)
	has := make(map[int]bool)
	for _, n := range there {
		has[n] = true
	}
	for _, c := range list {
		if !has[c.n] {
			require.Fail(e, "a commit is missing", "%s was acknowledged", c.xid)
		}
	}
	require.NoError(e, conn.Close(context.Background()))
	e.discard(k)
	sort.Slice(list, func(i, j int) bool { return list[i].time.Before(list[j].time) })
	middle := list[len(list)/2]
	k, conn = e.restore("tx " + middle.xid)
	for _, c := range list[:len(list)/2-10] { // what was committed at the same time may be on either side
		if c.time.Before(middle.time.Add(-margin)) {
			assert.Equal(e, 1, testbed.One[int](e.Bed, conn, fmt.Sprintf("select count(*) from journal where n = %d", c.n)))
			break
		}
	}
	require.NoError(e, conn.Close(context.Background()))
	e.discard(k)
	assert.Contains(e, e.service.Must("store", "audit", "--full"), "Everything that is needed is there")
}
