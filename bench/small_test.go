package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/testbed"
)

// manyTables is about a cluster of very many small files: its base backup, and a side copy of it, paused at its moment, beside
// a plain copy of the same directory.
func manyTables(b measure) {
	bed, p, s := stand(b, 1)
	const atOnce = 250 // tables whose locks one transaction holds
	conn := p.Connect("postgres")
	for made := 0; made < b.tables; made += atOnce {
		_, err := conn.Exec(context.Background(), fmt.Sprintf(`do $$ begin for n in %d..%d loop
			execute format('create table berth_%%s (id int primary key, note text)', n);
			execute format('insert into berth_%%s values (1, ''free'')', n); end loop; end $$`, made+1, min(made+atOnce, b.tables)))
		require.NoError(b, err)
	}
	p.Exec("postgres", "checkpoint")
	caughtUp(bed, p, s)
	var copies, backups, sides series
	for round := range b.warm + b.rounds {
		copied := flushedCopy(b, bed, p)
		_, backed := takeBackup(b, s, layout.Full)
		var k api.Copy
		started := time.Now()
		s.JSON(&k, "restore", "start", "original", "latest")
		side := time.Since(started)
		if round == 0 {
			out, err := exec.Command("sh", "-c", "find '"+k.Directory+"/data/base' -type f | wc -l").Output()
			require.NoError(b, err)
			var files int
			_, err = fmt.Sscan(string(out), &files)
			require.NoError(b, err)
			require.Greater(b, files, 4*b.tables, "all of them were laid out")
		}
		s.Must("copy", "discard", k.ID, "--confirm", "original")
		flush(b, bed) // what was deleted is nobody's in the next round
		if round >= b.warm {
			copies, backups, sides = append(copies, copied), append(backups, backed), append(sides, side)
		}
	}
	b.ratio("side-copy-x-flushed-copy", sides, copies)
	b.report(sides.median().Seconds(), "s-for-the-side-copy")
	b.report(copies.median().Seconds(), "s-for-the-flushed-copy")
	b.report(backups.median().Seconds(), "s-for-the-backup")
	b.report(resident(b, s.PID()), "service-MiB")
}

// flushedCopy copies a server's data directory plainly, flushes that, and removes it again.
func flushedCopy(b measure, bed *testbed.Bed, p *testbed.Postgres) time.Duration {
	started := time.Now()
	out, err := exec.Command("cp", "-a", p.DataDir, bed.Path("plain")).CombinedOutput()
	require.NoError(b, err, string(out))
	flush(b, bed)
	took := time.Since(started)
	require.NoError(b, os.RemoveAll(bed.Path("plain")))
	flush(b, bed)
	return took
}

// flush waits until the file system of a bed has everything on disk, also what was deleted.
func flush(b measure, bed *testbed.Bed) {
	require.NoError(b, exec.Command("sync", "-f", bed.Path(".")).Run())
}
