package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// replaying has the same copy replay the same WAL, as `velvet segment deliver` brings it from the store, and from a local directory of
// the same segments.
func replaying(b measure) {
	bed, p, s := stand(b, b.scale/2)
	base, _ := takeBackup(b, s, layout.Full)
	out, err := p.Program("pgbench", "-c", "4", "-t", fmt.Sprint(b.stress), "-n", "postgres").CombinedOutput()
	require.NoError(b, err, string(out))
	caughtUp(bed, p, s)
	conn := p.Connect("postgres")
	end := testbed.One[string](bed, conn, "select pg_current_wal_flush_lsn()::text")
	segments := bed.Path("segments")
	require.NoError(b, os.Mkdir(segments, 0o755))
	for _, args := range [][]string{{"-c", "cp " + p.DataDir + "/pg_wal/0000* " + segments}, {"-c", "chmod 644 " + segments + "/*"}} {
		out, err := exec.Command("sh", args...).CombinedOutput()
		require.NoError(b, err, string(out))
	}
	var k api.Copy
	s.JSON(&k, "restore", "start", "original", "base "+base.ID)
	server := host.Server{Major: bed.Major, DataDir: filepath.Join(k.Directory, "data"), Port: k.Port,
		Log: filepath.Join(k.Directory, "replay.log"), Socket: socketOf(b, k)}
	require.NoError(b, bed.Host.Stop(context.Background(), server, host.Fast))
	took := make(map[string]series)
	for round := range b.warm + b.rounds {
		for _, side := range []string{"", "restore_command = 'cp " + segments + "/%f %p'\n"} {
			server.DataDir = bed.Path("replay")
			out, err := exec.Command("cp", "-a", filepath.Join(k.Directory, "data"), server.DataDir).CombinedOutput()
			require.NoError(b, err, string(out))
			auto, err := os.OpenFile(filepath.Join(server.DataDir, "postgresql.auto.conf"), os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(b, err)
			_, err = auto.WriteString("recovery_target_lsn = '" + end + "'\n" + side)
			require.NoError(b, err)
			require.NoError(b, auto.Close())
			started := time.Now()
			require.NoError(b, bed.Host.StartAndWait(context.Background(), server))
			replayed(b, server, end)
			if round >= b.warm {
				took[side] = append(took[side], time.Since(started))
			}
			require.NoError(b, bed.Host.Stop(context.Background(), server, host.Immediate))
			require.NoError(b, os.RemoveAll(server.DataDir))
		}
	}
	for side, list := range took {
		if side != "" {
			b.ratio("replay-x-local-directory", took[""], list)
			b.report(list.median().Seconds(), "s-from-a-directory")
		}
	}
	b.report(took[""].median().Seconds(), "s-delivered")
}

// socketOf is the directory of a copy's Unix socket, as its configuration has it.
func socketOf(b measure, k api.Copy) string {
	content, err := os.ReadFile(filepath.Join(k.Directory, "data", "postgresql.conf"))
	require.NoError(b, err)
	_, after, found := strings.Cut(string(content), "unix_socket_directories = '")
	require.True(b, found)
	dir, _, _ := strings.Cut(after, "'")
	return dir
}

// replayed waits until a server has replayed up to an LSN.
func replayed(b measure, server host.Server, end string) {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, fmt.Sprintf("host=127.0.0.1 port=%d user=%s password=%s dbname=postgres sslmode=disable", server.Port,
		testbed.Superuser, testbed.Password))
	require.NoError(b, err)
	defer func() { require.NoError(b, conn.Close(ctx)) }()
	for {
		var there bool
		query := "select pg_last_wal_replay_lsn() >= $1::text::pg_lsn or pg_is_wal_replay_paused()"
		require.NoError(b, conn.QueryRow(ctx, query, end).Scan(&there))
		if there {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}
