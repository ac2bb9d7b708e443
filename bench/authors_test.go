package bench

import (
	"context"
	"fmt"

	"github.com/stretchr/testify/require"

	"velvetrewind/api"
)

// watching loads a captured server while it is watched who writes, and while it is not, in turns.
func watching(b measure) {
	bed, p, s := stand(b, b.scale)
	caughtUp(bed, p, s)
	conn := p.Connect("postgres")
	looks := func() (pid int, lately bool) {
		require.NoError(b, conn.QueryRow(context.Background(), `select pid, query_start > clock_timestamp() - interval '0.9 s'
			from pg_stat_activity where query like '%a.backend_xid is not null' and pid <> pg_backend_pid()`).Scan(&pid, &lately))
		return pid, lately
	}
	watch := func(days int) {
		s.Must("cluster", "edit", "original", "--authors-days", fmt.Sprint(days))
		bed.Eventually("it is watched, or not", func() bool {
			_, lately := looks()
			return lately == (days > 0)
		})
	}
	pid, _ := looks()
	pgbenchTPS(b, p) // warms the cache
	var with, without, cpu []float64
	for i := range b.rounds {
		for j := range 2 { // each begins as often as the other
			if (i+j)%2 == 0 {
				watch(90)
				before := cpuOf(b, pid)
				tps, _ := pgbenchTPS(b, p)
				with, cpu = append(with, tps), append(cpu, (cpuOf(b, pid)-before)/b.load.Seconds()*100)
			} else {
				watch(0)
				tps, _ := pgbenchTPS(b, p)
				without = append(without, tps)
			}
		}
	}
	var seen api.Changes
	s.JSON(&seen, "changes", "list", "original", "--by", "pgbench", "--limit", "1")
	require.NotEmpty(b, seen.Transactions, "nobody was seen")
	b.spread("watched-x-unwatched", b.rounds, func(i int) float64 { return with[i] / without[i] })
	b.spread("server-CPU-%-of-a-core", b.rounds, func(i int) float64 { return cpu[i] })
	all := 0.0
	for _, c := range cpu {
		all += c / float64(len(cpu))
	}
	b.report(all, "server-CPU-%-of-a-core-mean")
}
