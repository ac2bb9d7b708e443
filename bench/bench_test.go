// Package bench measures speeds as ratios of two sides in one run. Nothing here
// decides a test: `make bench` prints it.
package bench

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/replication"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
	"velvetrewind/testbed/storebed"
)

// stand is a loaded cluster with the service beside it.
func stand(b measure, scale int, args ...string) (*testbed.Bed, *testbed.Postgres, *testbed.Service) {
	bed := testbed.New(b)
	p := bed.Postgres("original", true, "shared_buffers = '1GB'", "max_wal_size = '8GB'", "autovacuum = off", "fsync = on")
	out, err := p.Program("pgbench", "-i", "-q", "-s", fmt.Sprint(scale), "postgres").CombinedOutput()
	require.NoError(b, err, string(out))
	s := bed.Service(args...)
	r := s.VelvetWith(testbed.Password, "cluster", "add", "original", "--connect", p.DSN(testbed.Superuser, "postgres"), "--password-file",
		"-", "--no-base")
	require.Zero(b, r.Code, r.Err)
	bed.Eventually("capture has caught up", func() bool {
		k := cluster(s)
		return k.Capture.State == "streaming" && k.Capture.LagBytes == 0 && k.Capture.Stored+16<<20 > k.Capture.Flushed
	})
	return bed, p, s
}

func cluster(s *testbed.Service) api.Cluster {
	var k api.Cluster
	s.JSON(&k, "cluster", "show", "original")
	return k
}

// discardRaw reads the raw base-backup stream and throws it away.
func discardRaw(b measure, p *testbed.Postgres) (int64, time.Duration) {
	return stream(b, p, io.Discard)
}

// compressRaw pipes the raw base-backup stream through zstd -1 on all processors.
func compressRaw(b measure, p *testbed.Postgres) time.Duration {
	started := time.Now()
	cmd := exec.Command("zstd", "-1", "-T0", "-q", "-c")
	in, err := cmd.StdinPipe()
	require.NoError(b, err)
	require.NoError(b, cmd.Start())
	stream(b, p, in)
	require.NoError(b, in.Close())
	require.NoError(b, cmd.Wait())
	return time.Since(started)
}

func stream(b measure, p *testbed.Postgres, to io.Writer) (int64, time.Duration) {
	ctx := context.Background()
	session, err := replication.Open(ctx, access.Access{ConnString: p.DSN(testbed.Superuser, "postgres"), Password: testbed.Password})
	require.NoError(b, err)
	defer func() { _ = session.Close(ctx) }()
	started := time.Now()
	base, err := session.BaseBackup(ctx, replication.BaseBackupOptions{Label: "bench", Fast: true})
	require.NoError(b, err)
	var total int64
	for {
		a, err := base.NextArchive()
		if err == io.EOF {
			break
		}
		require.NoError(b, err)
		n, err := io.Copy(to, a)
		require.NoError(b, err)
		total += n
	}
	_, err = base.Finish()
	require.NoError(b, err)
	return total, time.Since(started)
}

// takeBackup takes a verified, compressed backup through the service, and says how long
// the whole task took: from the checkpoint until the manifest was safe.
func takeBackup(b measure, s *testbed.Service, kind string) (api.Backup, time.Duration) {
	var taken api.Backup
	s.JSON(&taken, "backup", "take", "original", "--checkpoint", "fast", "--kind", kind)
	require.Equal(b, kind, taken.Kind)
	var shown struct{ Task api.Task }
	s.JSON(&shown, "task", "show", taken.Task)
	return taken, shown.Task.FinishedAt.Sub(*shown.Task.StartedAt)
}

// resident is the most memory that a process has had resident, in MiB.
func resident(b measure, pid int) float64 {
	content, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(b, err)
	for _, line := range strings.Split(string(content), "\n") {
		if after, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kib, err := strconv.Atoi(strings.Fields(after)[0])
			require.NoError(b, err)
			return float64(kib) / 1024
		}
	}
	return 0
}

func mbs(n int64, d time.Duration) float64 { return float64(n) / 1e6 / d.Seconds() }

// backup compares a full backup with the raw stream read and thrown away: the
// first of a cluster, and one of which nothing is new.
func backup(b measure) {
	for _, codec := range b.codecs {
		b.run(codec, func(b measure) {
			_, p, s := stand(b, b.scale, "--compression", codec)
			bytes, _ := discardRaw(b, p) // warms the cache
			_, err := exec.LookPath("zstd")
			piping := err == nil && codec == "zstd"
			var raws, pipes, firsts, agains series
			var first, again api.Backup
			for range b.rounds {
				var raw, took time.Duration
				_, raw = discardRaw(b, p)
				raws = append(raws, raw)
				if piping {
					pipes = append(pipes, compressRaw(b, p))
				}
				first, took = takeBackup(b, s, layout.Full)
				firsts = append(firsts, took)
				again, took = takeBackup(b, s, layout.Full)
				agains = append(agains, took)
				for _, k := range []api.Backup{first, again} {
					s.Must("backup", "drop", k.ID, "--confirm", "original")
				}
			}
			require.Greater(b, first.BytesRead, int64(b.scale)*12<<20, "all of it was read")
			require.InDelta(b, bytes, first.BytesRead, float64(bytes)/20, "and no less than the raw stream brings")
			require.Zero(b, again.NewExtents/(first.NewExtents/10+1), "nothing was new the second time")
			b.ratio("x-raw-time", firsts, raws)
			b.ratio("again-x-raw-time", agains, raws)
			if piping {
				b.ratio("x-piped-to-zstd-time", firsts, pipes)
			}
			b.report(float64(again.BytesStored)/float64(again.BytesRead), "again-stored/read")
			b.report(mbs(bytes, raws.median()), "raw-MB/s")
			b.report(mbs(first.BytesRead, firsts.median()), "backup-MB/s")
			b.report(float64(first.BytesStored)/float64(first.BytesRead), "stored/read")
			b.report(resident(b, s.PID()), "service-MiB")
		})
	}
}

// caughtUp waits until captured WAL is in the store: what comes next is measured alone.
func caughtUp(bed *testbed.Bed, p *testbed.Postgres, s *testbed.Service) {
	p.Exec("postgres", "select pg_switch_wal()")
	conn := p.Connect("postgres")
	defer func() { _ = conn.Close(context.Background()) }()
	at, err := pg.ParseLSN(testbed.One[string](bed, conn, "select pg_current_wal_flush_lsn()::text"))
	require.NoError(bed, err)
	bed.Eventually("captured WAL is in the store", func() bool { return cluster(s).Capture.Stored+16<<20 > at })
}

// incremental changes one block in a hundred, and compares an incremental
// backup with a full one of the same cluster: the first, and one of which nothing is new.
func incremental(b measure) {
	for name, args := range map[string][]string{"local": nil, "sql": {"--read-data", "sql"}} {
		b.run(name, func(b measure) {
			bed, p, s := stand(b, b.large, args...)
			discardRaw(b, p) // warms the cache
			_, first := takeBackup(b, s, layout.Full)
			rows := b.large * 100_000
			var parts, wholes series
			var part api.Backup
			for i := range b.rounds {
				changeOnePercent(p, rows, rows/4+i*rows/8)
				caughtUp(bed, p, s)
				var took time.Duration
				part, took = takeBackup(b, s, layout.Incremental)
				parts = append(parts, took)
				_, took = takeBackup(b, s, layout.Full)
				wholes = append(wholes, took)
			}
			require.Positive(b, part.NewExtents, "what was changed was read")
			require.Less(b, part.BytesRead, part.BytesHeld/2, "and the rest was not")
			b.spread("times-quicker-than-first", b.rounds, func(i int) float64 { return first.Seconds() / parts[i].Seconds() })
			b.ratio("times-quicker-than-unchanged", wholes, parts)
			b.report(float64(part.BytesRead)/float64(max(part.NewExtents, 1)*layout.ExtentSize), "read/changed")
			b.report(float64(part.NewExtents)/float64(part.Extents)*100, "changed-%")
			b.report(parts.median().Seconds(), "s")
			b.report(resident(b, s.PID()), "service-MiB")
		})
	}
}

// changeOnePercent updates a stretch of rows: half of the blocks that change are the old
// ones', half the new ones'.
func changeOnePercent(p *testbed.Postgres, rows, from int) {
	p.Exec("postgres", fmt.Sprintf("update pgbench_accounts set abalance = abalance + 1 where aid between %d and %d", from, from+rows/200),
		"checkpoint")
}

// restoring compares with a plain copy of the same data directory: the laying out of
// a base backup, flushed; the same over a directory of which one block in a hundred differs;
// and a whole side copy, started and paused at its moment.
func restoring(b measure) {
	for _, codec := range b.codecs {
		b.run(codec, func(b measure) {
			bed, p, s := stand(b, b.scale, "--compression", codec)
			backup, _ := takeBackup(b, s, layout.Full)
			changeOnePercent(p, b.scale*100_000, b.scale*25_000)
			caughtUp(bed, p, s)
			other, _ := takeBackup(b, s, layout.Full)
			var copies, flushes, lays, overs, sides series
			var kept int64
			for round := range b.warm + b.rounds {
				started := time.Now()
				out, err := exec.Command("cp", "-a", p.DataDir, bed.Path("plain")).CombinedOutput()
				require.NoError(b, err, string(out))
				copied := time.Since(started)
				flush(b, bed)
				flushed := time.Since(started)
				require.NoError(b, os.RemoveAll(bed.Path("plain")))
				flush(b, bed)
				_, laid := layOut(b, bed, s, other, restore.LayOut)
				was, over := layOut(b, bed, s, backup, restore.LayOver)
				kept = was.Kept
				require.NoError(b, os.RemoveAll(bed.Path("laid")))
				flush(b, bed)
				var k api.Copy
				started = time.Now()
				s.JSON(&k, "restore", "start", "original", "latest")
				side := time.Since(started)
				s.Must("copy", "discard", k.ID, "--confirm", "original")
				flush(b, bed)
				if round >= b.warm {
					copies, flushes, lays, overs, sides = append(copies, copied), append(flushes, flushed), append(lays, laid),
						append(overs, over), append(sides, side)
				}
			}
			require.Greater(b, kept, backup.BytesHeld/2, "most of it stood there")
			b.ratio("laid-out-x-plain-copy", lays, copies)
			b.ratio("laid-out-x-flushed-copy", lays, flushes)
			b.ratio("laid-over-x-plain-copy", overs, copies)
			b.ratio("laid-over-x-flushed-copy", overs, flushes)
			b.ratio("side-copy-x-plain-copy", sides, copies)
			b.ratio("side-copy-x-flushed-copy", sides, flushes)
			b.report(100-100*float64(kept)/float64(backup.BytesHeld), "written-over-%")
			b.report(mbs(backup.BytesHeld, lays.median()), "lay-out-MB/s")
			b.report(resident(b, s.PID()), "service-MiB")
		})
	}
}

// layOut lays a backup out from the store, in an empty directory or over what is there, and
// says how long that took.
func layOut(b measure, bed *testbed.Bed, s *testbed.Service, backup api.Backup,
	how func(context.Context, *vault.Vault, string, string, restore.Trees, int64, task.Report) (restore.Laid, error)) (restore.Laid,
	time.Duration) {
	v := storebed.Open(bed, s)
	require.NoError(b, bed.Host.MakeDir(bed.Path("laid"), 0o700))
	tree, err := bed.Host.Files(bed.Path("laid"))
	require.NoError(b, err)
	defer func() { _ = tree.Close() }()
	trees := restore.Trees{Files: tree, Data: "data", Tablespaces: "tablespaces", Config: "config"}
	for _, d := range []string{trees.Data, trees.Tablespaces, trees.Config} {
		require.NoError(b, trees.MakeDir(d, 0o700))
	}
	started := time.Now()
	laid, err := how(context.Background(), v, cluster(s).ID, backup.ID, trees, backup.BytesHeld, task.Silent)
	require.NoError(b, err)
	require.NoError(b, trees.Sync())
	return laid, time.Since(started)
}
