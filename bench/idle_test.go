package bench

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// idle captures clusters in which nothing happens, and reports what each of them costs: in the
// service, in its catalogue, and on the protected server beyond what that uses by itself.
func idle(b measure) {
	bed := testbed.New(b)
	s := bed.Service()
	var servers []*testbed.Postgres
	var conns []*pgx.Conn
	for n := range b.idle {
		p := bed.Postgres(fmt.Sprintf("original-%d", n), true, "shared_buffers = '16MB'", "autovacuum = off", "fsync = on")
		servers, conns = append(servers, p), append(conns, p.Connect("postgres"))
	}
	theirs := func() (cpu float64) {
		for _, p := range servers {
			cpu += cpuOfServer(b, p)
		}
		return cpu
	}
	pause := func() { time.Sleep(b.quiet) } // it is what is measured
	before := theirs()
	pause()
	alone := theirs() - before
	for n, p := range servers {
		r := s.VelvetWith(testbed.Password, "cluster", "add", fmt.Sprintf("original-%d", n), "--connect",
			p.DSN(testbed.Superuser, "postgres"), "--password-file", "-", "--no-base")
		require.Zero(b, r.Code, r.Err)
	}
	var list []api.Cluster
	bed.Eventually("all are captured", func() bool {
		s.JSON(&list, "cluster", "list")
		for _, k := range list {
			if k.Capture.State != "streaming" {
				return false
			}
		}
		return len(list) == b.idle
	})
	transactions := func() (n int64) {
		for _, c := range conns {
			n += testbed.One[int64](bed, c, "select sum(xact_commit + xact_rollback)::bigint from pg_stat_database")
		}
		return n
	}
	sessions := int64(0)
	for _, c := range conns {
		sessions += testbed.One[int64](bed, c, "select count(*) from pg_stat_activity where application_name = 'velvet'")
	}
	asked, ours, records, before := transactions(), cpuOf(b, s.PID()), cpuOfServer(b, s.Records), theirs()
	pause()
	asked, ours, records, with := transactions()-asked, cpuOf(b, s.PID())-ours, cpuOfServer(b, s.Records)-records, theirs()-before
	each := func(v float64) float64 { return v / float64(b.idle) }
	b.report(each(ours)/b.quiet.Seconds()*100, "%-of-a-core-service")
	b.report(each(records)/b.quiet.Seconds()*100, "%-of-a-core-catalogue")
	b.report(each(max(0, with-alone))/b.quiet.Seconds()*100, "%-of-a-core-server")
	b.report(each(float64(sessions)), "connections")
	b.report(each(float64(asked))/b.quiet.Minutes(), "queries/min")
	b.report(resident(b, s.PID()), "service-MiB")
	s.JSON(&list, "cluster", "list")
	for _, k := range list {
		require.Equal(b, "streaming", k.Capture.State)
		require.Less(b, time.Since(*k.Capture.CompleteTo), 10*time.Second, "capture is as near as ever")
	}
}

// cpuOfServer is the CPU time of a server's processes, those that have ended included, in seconds.
func cpuOfServer(b measure, p *testbed.Postgres) float64 {
	content, err := os.ReadFile(filepath.Join(p.DataDir, "postmaster.pid"))
	require.NoError(b, err)
	first := strings.SplitN(string(content), "\n", 2)[0]
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(b, err)
	ticks := 0
	for _, path := range stats {
		stat, err := os.ReadFile(path)
		if err != nil {
			continue // it has ended
		}
		_, after, _ := strings.Cut(string(stat), ") ")
		fields := strings.Fields(after)
		pid := filepath.Base(filepath.Dir(path))
		count := fields[11:13] // its own
		switch {
		case pid == first:
			count = fields[11:15] // and that of its children that have ended
		case fields[1] != first:
			continue
		}
		for _, f := range count {
			n, err := strconv.Atoi(f)
			require.NoError(b, err)
			ticks += n
		}
	}
	return float64(ticks) / 100
}
