package bench

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// side is what receives the WAL of a server under load: nobody, capture, or a standby.
type side struct {
	start, stop func()
	pid         int // of the process whose CPU time is counted; 0 for none
	tps, cpu    []float64
}

// captureLoad runs pgbench alone, with capture and with a real standby, which also replays, in
// turns: once with both of them asynchronous, once with every commit waiting for one of them.
func captureLoad(b measure) {
	bed, p, s := stand(b, b.scale)
	p.Configure("wal_keep_size = '4GB'")
	p.Stop(host.Fast)
	standby := bed.Standby(p, "standby")
	p.Start()
	conn := p.Connect("postgres")
	level := func(name string) func() {
		return func() {
			bed.Eventually(name+" has what was written", func() bool {
				return testbed.One[bool](bed, conn,
					`select coalesce((select flush_lsn >= pg_current_wal_flush_lsn() from pg_stat_replication
						where application_name = $1 and state = 'streaming'), false)`, name)
			})
		}
	}
	nobody := func() {
		bed.Eventually("nobody receives WAL", func() bool {
			return testbed.One[int](bed, conn, "select count(*) from pg_stat_replication") == 0
		})
	}
	sides := map[string]*side{
		"alone": {start: func() {}, stop: func() {}},
		"capture": {start: func() { s.Must("capture", "start", "original"); level("velvet")(); caughtUp(bed, p, s) },
			stop: func() { level("velvet")(); s.Must("capture", "stop", "original"); nobody() }, pid: s.PID()},
		"standby": {start: func() { standby.Start(); level("standby")() },
			stop: func() { level("standby")(); standby.Stop(host.Fast); nobody() }},
	}
	sides["capture"].stop()
	pgbenchTPS(b, p) // warms the cache
	rounds := func(names ...string) {
		for i := range b.rounds {
			for j := range names { // each begins as often as the others
				of := sides[names[(i+j)%len(names)]]
				of.start()
				before := cpuOf(b, of.pid)
				tps, commits := pgbenchTPS(b, p)
				of.tps, of.cpu = append(of.tps, tps), append(of.cpu, (cpuOf(b, of.pid)-before)*1000/commits)
				of.stop()
			}
		}
	}
	against := func(b measure, unit, one, other string) {
		b.spread(unit, b.rounds, func(i int) float64 { return sides[one].tps[i] / sides[other].tps[i] })
	}
	b.run("asynchronous", func(b measure) {
		rounds("alone", "capture", "standby")
		against(b, "capture-x-alone", "capture", "alone")
		against(b, "standby-x-alone", "standby", "alone")
		b.spread("capture-CPU-ms/commit", b.rounds, func(i int) float64 { return sides["capture"].cpu[i] })
		b.spread("tps-alone", b.rounds, func(i int) float64 { return sides["alone"].tps[i] })
		sides["capture"].start()
		stop, behind := make(chan struct{}), make(chan [2]float64)
		go watchLag(b, p, stop, behind)
		pgbenchTPS(b, p)
		close(stop)
		lag := <-behind
		sides["capture"].stop()
		b.report(lag[0], "longest-behind-ms")
		b.report(lag[1], "largest-behind-KiB")
		b.report(resident(b, s.PID()), "service-MiB")
	})
	b.run("synchronous", func(b measure) {
		for name, of := range map[string]string{"capture": "velvet", "standby": "standby"} {
			at := sides[name]
			at.tps, at.cpu = nil, nil
			begin, end := at.start, at.stop
			at.start = func() {
				begin()
				setSynchronous(bed, conn, of)
			}
			at.stop = func() { setSynchronous(bed, conn, ""); end() }
		}
		rounds("capture", "standby")
		against(b, "capture-x-standby", "capture", "standby")
		b.spread("tps-capture", b.rounds, func(i int) float64 { return sides["capture"].tps[i] })
		b.spread("capture-CPU-ms/commit", b.rounds, func(i int) float64 { return sides["capture"].cpu[i] })
	})
}

// setSynchronous has commits wait for a standby, or for none, and waits until they do.
func setSynchronous(bed *testbed.Bed, conn *pgx.Conn, name string) {
	_, err := conn.Exec(context.Background(), "alter system set synchronous_standby_names = '"+name+"'")
	require.NoError(bed, err)
	testbed.One[bool](bed, conn, "select pg_reload_conf()")
	bed.Eventually("commits wait for "+name, func() bool {
		return testbed.One[int](bed, conn, "select count(*) from pg_stat_replication where sync_state = 'sync' and application_name = $1",
			name) == 1 || name == ""
	})
}

// pgbenchTPS loads the server with four clients, and gives transactions a second and in all.
func pgbenchTPS(b measure, p *testbed.Postgres) (tps, transactions float64) {
	out, err := p.Program("pgbench", "-c", "4", "-T", fmt.Sprint(int(b.load.Seconds())), "-n", "postgres").CombinedOutput()
	require.NoError(b, err, string(out))
	number := func(after string) float64 {
		_, rest, _ := strings.Cut(string(out), after)
		n, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
		require.NoError(b, err, string(out))
		return n
	}
	return number("tps = "), number("number of transactions actually processed: ")
}

// cpuOf is the CPU time that a process has used, in seconds.
func cpuOf(b measure, pid int) float64 {
	if pid == 0 {
		return 0
	}
	content, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	require.NoError(b, err)
	_, after, _ := strings.Cut(string(content), ") ")
	fields := strings.Fields(after)
	var ticks int
	for _, f := range fields[11:13] { // utime and stime
		n, err := strconv.Atoi(f)
		require.NoError(b, err)
		ticks += n
	}
	return float64(ticks) / 100
}

// watchLag notes the server's flush position every 20 ms, and how long it takes
// until capture has reported that position as safe.
func watchLag(b measure, p *testbed.Postgres, stop <-chan struct{}, result chan<- [2]float64) {
	conn := p.Connect("postgres")
	type mark struct {
		at   pg.LSN
		when time.Time
	}
	var marks []mark
	var longest time.Duration
	var largest pg.LSN
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-stop:
			result <- [2]float64{float64(longest.Milliseconds()), float64(largest) / 1024}
			return
		case <-tick.C:
		}
		var server, safe pg.LSN
		err := conn.QueryRow(context.Background(),
			`select pg_current_wal_flush_lsn()::text, coalesce((select flush_lsn::text from pg_stat_replication
				where application_name = 'velvet' and state = 'streaming'), '0/0')`).Scan(&server, &safe)
		if err != nil || safe == 0 {
			continue // not streaming yet
		}
		if server > safe {
			largest = max(largest, server-safe)
		}
		marks = append(marks, mark{server, time.Now()})
		for len(marks) > 0 && marks[0].at <= safe {
			longest = max(longest, time.Since(marks[0].when))
			marks = marks[1:]
		}
	}
}
