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
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/engine/access"
	"velvetrewind/engine/replication"
	"velvetrewind/service/wire"
	"velvetrewind/testbed"
)

// scale is pgbench's; 100 makes about 1.5 GB.
const scale = 60

// stand is a loaded cluster with the service beside it.
func stand(b *testing.B, args ...string) (*testbed.Bed, *testbed.Postgres, *testbed.Service) {
	bed := testbed.New(b)
	p := bed.Postgres("original", true, "shared_buffers = '1GB'", "max_wal_size = '8GB'", "autovacuum = off", "fsync = on")
	out, err := p.Program("pgbench", "-i", "-q", "-s", fmt.Sprint(scale), "postgres").CombinedOutput()
	require.NoError(b, err, string(out))
	s := bed.Service(args...)
	r := s.VelvetWith(testbed.Password, "cluster", "add", "original", "--connect", p.DSN(testbed.Superuser, "postgres"), "--password-file", "-")
	require.Zero(b, r.Code, r.Err)
	bed.Eventually("capture has caught up", func() bool {
		k := cluster(s)
		return k.Capture.State == "streaming" && k.Capture.LagBytes == 0 && k.Capture.Stored+16<<20 > k.Capture.Flushed
	})
	return bed, p, s
}

func cluster(s *testbed.Service) wire.Cluster {
	var k wire.Cluster
	s.JSON(&k, "cluster", "show", "original")
	return k
}

// discardRaw reads the raw base-backup stream and throws it away.
func discardRaw(b *testing.B, p *testbed.Postgres) (int64, time.Duration) {
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
		n, err := io.Copy(io.Discard, a)
		require.NoError(b, err)
		total += n
	}
	_, err = base.Finish()
	require.NoError(b, err)
	return total, time.Since(started)
}

// takeBackup takes a verified, compressed backup through the service.
func takeBackup(s *testbed.Service) (wire.Backup, time.Duration) {
	var b wire.Backup
	s.JSON(&b, "backup", "take", "original", "--at-once")
	return b, b.StoppedAt.Sub(b.StartedAt)
}

// resident is the most memory that a process has had resident, in MiB.
func resident(b *testing.B, pid int) float64 {
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

// BenchmarkBackup compares a full backup with the raw stream read and thrown away.
func BenchmarkBackup(b *testing.B) {
	for _, codec := range []string{"s2", "zstd"} {
		b.Run(codec, func(b *testing.B) {
			_, p, s := stand(b, "--compression", codec)
			discardRaw(b, p) // warms the cache
			bytes, raw := discardRaw(b, p)
			_, first := takeBackup(s)
			backup, second := takeBackup(s)
			_, rawAgain := discardRaw(b, p)
			raw, taken := (raw+rawAgain)/2, (first+second)/2
			b.ReportMetric(taken.Seconds()/raw.Seconds(), "x-raw-time")
			b.ReportMetric(mbs(bytes, raw), "raw-MB/s")
			b.ReportMetric(mbs(backup.BytesRead, taken), "backup-MB/s")
			b.ReportMetric(float64(backup.BytesStored)/float64(backup.BytesRead), "stored/read")
			b.ReportMetric(resident(b, s.PID()), "service-MiB")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkCapture runs pgbench with and without capture, and watches how far
// capture is behind the server's own flush position meanwhile.
func BenchmarkCapture(b *testing.B) {
	_, p, s := stand(b)
	load := func() float64 {
		out, err := p.Program("pgbench", "-c", "4", "-T", "15", "-n", "postgres").CombinedOutput()
		require.NoError(b, err, string(out))
		_, after, _ := strings.Cut(string(out), "tps = ")
		tps, err := strconv.ParseFloat(strings.Fields(after)[0], 64)
		require.NoError(b, err)
		return tps
	}
	load()
	s.Must("capture", "stop", "original")
	alone := load()
	s.Must("capture", "start", "original")
	behind := make(chan [2]float64)
	stop := make(chan struct{})
	go watchLag(b, p, stop, behind)
	captured := load()
	close(stop)
	lag := <-behind
	b.ReportMetric(captured/alone, "x-tps-alone")
	b.ReportMetric(captured, "tps")
	b.ReportMetric(lag[0], "longest-behind-ms")
	b.ReportMetric(lag[1], "largest-behind-KiB")
	b.ReportMetric(resident(b, s.PID()), "service-MiB")
	b.ReportMetric(0, "ns/op")
}

// watchLag notes the server's flush position every 20 ms, and how long it takes
// until capture has reported that position as safe.
func watchLag(b *testing.B, p *testbed.Postgres, stop <-chan struct{}, result chan<- [2]float64) {
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
		err := conn.QueryRow(context.Background(), `select pg_current_wal_flush_lsn()::text, coalesce((select flush_lsn::text from pg_stat_replication where application_name = 'velvet' and state = 'streaming'), '0/0')`).Scan(&server, &safe)
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

// BenchmarkRestore compares a whole side copy, laid out, started and paused at its
// moment, with a plain copy of the same directory.
func BenchmarkRestore(b *testing.B) {
	bed, _, s := stand(b, "--compression", "s2")
	backup, _ := takeBackup(s)
	var k wire.Copy
	started := time.Now()
	s.JSON(&k, "restore", "start", "original", "latest")
	restored := time.Since(started)
	s.Must("copy", "open", k.ID) // so that nothing is written while it is copied
	plain := bed.Path("plain")
	started = time.Now()
	out, err := exec.Command("cp", "-a", k.Directory, plain).CombinedOutput()
	require.NoError(b, err, string(out))
	copied := time.Since(started)
	b.ReportMetric(restored.Seconds()/copied.Seconds(), "x-plain-copy")
	b.ReportMetric(mbs(backup.BytesRead, restored), "restore-MB/s")
	b.ReportMetric(resident(b, s.PID()), "service-MiB")
	b.ReportMetric(0, "ns/op")
	s.Must("copy", "discard", k.ID, "--confirm", "original")
}
