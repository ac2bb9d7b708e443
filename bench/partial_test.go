package bench

import (
	"context"
	"fmt"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/testbed"
)

// partly makes copies of which one table is wanted: of this and the catalogs alone, and whole ones, from the same base through the
// same WAL.
func partly(b measure) {
	bed, p, s := stand(b, b.large)
	rows := b.large * 3_000 // 100 MB of 5 GB
	p.Exec("postgres", fmt.Sprintf("create table fare as select n, repeat('fare ', 14) as note from generate_series(1, %d) n", rows),
		"alter table fare add primary key (n)", "checkpoint")
	takeBackup(b, s, layout.Full)
	p.Exec("postgres", fmt.Sprintf("update pgbench_accounts set abalance = abalance + 1 where aid <= %d", b.large*100_000/5),
		fmt.Sprintf("update fare set note = 'lower' where n <= %d", rows/10))
	caughtUp(bed, p, s)
	var parts, wholes series
	var used, all []float64
	for round := range b.warm + b.rounds {
		part, some, one := aCopy(b, bed, s, "--only", "fare")
		whole, everything, other := aCopy(b, bed, s)
		require.NotNil(b, one.Partial, "it is no whole one after all")
		require.Equal(b, everything, some, "the same rows")
		require.Greater(b, one.Plan.Replay, int64(b.large)<<20, "so much WAL was replayed")
		for _, k := range []api.Copy{one, other} {
			s.Must("copy", "discard", k.ID, "--confirm", "original")
		}
		flush(b, bed)
		if round >= b.warm {
			parts, wholes = append(parts, part.took), append(wholes, whole.took)
			used, all = append(used, part.bytes), append(all, whole.bytes)
		}
	}
	b.ratio("x-time-of-the-whole", parts, wholes)
	b.spread("x-disk-of-the-whole", len(used), func(i int) float64 { return used[i] / all[i] })
	b.report(parts.median().Seconds(), "s-for-the-part")
	b.report(wholes.median().Seconds(), "s-for-the-whole")
	b.report(all[0]/(1<<20), "whole-MiB")
}

// made is what a copy took.
type made struct {
	took  time.Duration
	bytes float64
}

// aCopy makes a copy, and reads what the table holds there.
func aCopy(b measure, bed *testbed.Bed, s *testbed.Service, args ...string) (m made, sum string, k api.Copy) {
	started := time.Now()
	s.JSON(&k, append([]string{"restore", "start", "original", "latest"}, args...)...)
	m.took = time.Since(started)
	out, err := exec.Command("du", "-sk", k.Directory).Output()
	require.NoError(b, err)
	kib, err := strconv.ParseFloat(strings.Fields(string(out))[0], 64)
	require.NoError(b, err)
	m.bytes = kib * 1024
	conn, err := pgx.Connect(context.Background(), fmt.Sprintf("host=127.0.0.1 port=%d user=%s password='%s' dbname=postgres", k.Port,
		testbed.Superuser, testbed.Password))
	require.NoError(b, err)
	sum = testbed.One[string](bed, conn, "select count(*) || ' ' || sum(hashtext(x::text)) from fare x")
	require.NoError(b, conn.Close(context.Background()))
	return m, sum, k
}
