package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore"
	"velvetrewind/testbed"
)

// feeding compares the replay of the same WAL over the same base: of a side copy, and of one whose segments are copied from a local
// directory. What is timed is what the server's log says, from the first record to where it stops.
func feeding(b measure) {
	bed, p, s := stand(b, b.scale)
	backup, _ := takeBackup(b, s, layout.Full)
	p.Exec("postgres", "update pgbench_accounts set abalance = abalance + 1 where aid % 2 = 0", "checkpoint")
	caughtUp(bed, p, s)
	var k api.Copy
	s.JSON(&k, "restore", "start", "original", "latest") // its ticket lets segments be delivered
	ticket := filepath.Join(k.Directory, "ticket.json")
	local := localSegments(b, bed, s, ticket, k.Plan)
	var delivered, copied series
	for round := range b.warm + b.rounds {
		deliver := sideCopy(b, s)
		plain := replayed(b, bed, s, p.Major, backup, k, `cp "`+local+`/%f" "%p"`)
		if round >= b.warm {
			delivered, copied = append(delivered, deliver), append(copied, plain)
		}
	}
	b.ratio("delivered-x-local-directory", delivered, copied)
	b.report(delivered.median().Seconds(), "s-of-replay")
	b.report(float64(k.Plan.Count), "segments")
}

// localSegments puts the WAL that a plan replays into a directory.
func localSegments(b measure, bed *testbed.Bed, s *testbed.Service, ticket string, plan api.Restore) string {
	dir := bed.Path("segments")
	require.NoError(b, bed.Host.MakeDir(dir, 0o755))
	const size = 16 << 20
	at, err := pg.ParseSegmentName(plan.First, size)
	require.NoError(b, err)
	for range plan.Count {
		name := at.Name(size)
		out, err := exec.Command(s.Program(), "segment", "deliver", "--ticket", ticket, name, filepath.Join(dir, name)).CombinedOutput()
		require.NoError(b, err, string(out))
		require.NoError(b, os.Chmod(filepath.Join(dir, name), 0o644))
		at.Number++
	}
	return dir
}

// sideCopy makes one, and says how long its replay took.
func sideCopy(b measure, s *testbed.Service) time.Duration {
	var k api.Copy
	s.JSON(&k, "restore", "start", "original", "latest")
	log, err := os.ReadFile(filepath.Join(k.Directory, "server.log"))
	require.NoError(b, err)
	s.Must("copy", "discard", k.ID, "--confirm", "original")
	return replayOf(b, string(log), k.Plan)
}

// replayOf is how long a server's log says that the replay took of all that was planned.
func replayOf(b measure, log string, plan api.Restore) time.Duration {
	require.GreaterOrEqual(b, strings.Count(log, "restored log file"), plan.Count, "all of it was replayed")
	return at(b, log, "recovery stopping").Sub(at(b, log, "redo starts at"))
}

// replayed lays out a base, has it be recovered to where a copy stands, with the copy's own settings but for the command that
// brings segments, and says how long replay took.
func replayed(b measure, bed *testbed.Bed, s *testbed.Service, major int, backup api.Backup, k api.Copy, command string) time.Duration {
	layOut(b, bed, s, backup, restore.LayOut)
	defer func() { require.NoError(b, os.RemoveAll(bed.Path("laid"))) }()
	data := bed.Path("laid", "data")
	settings, err := os.ReadFile(filepath.Join(k.Directory, "data", "postgresql.conf"))
	require.NoError(b, err)
	command = "restore_command = '" + strings.ReplaceAll(command, "'", "''") + "'"
	content := restoreCommand.ReplaceAllLiteralString(string(settings), command)
	require.Contains(b, content, command)
	files, err := bed.Host.Files(data)
	require.NoError(b, err)
	for name, content := range map[string]string{"postgresql.conf": content, "postgresql.auto.conf": "fsync = off\n",
		"pg_hba.conf": "local all all trust\n", "pg_ident.conf": "", "recovery.signal": ""} {
		require.NoError(b, files.WriteFile(name, []byte(content), 0o600))
	}
	require.NoError(b, files.Close())
	port, err := bed.Host.FreePort()
	require.NoError(b, err)
	server := host.Server{Major: major, DataDir: data, Port: port, Socket: bed.Path("laid"), Log: bed.Path("laid", "log")}
	require.NoError(b, bed.Host.Start(context.Background(), server))
	defer func() { require.NoError(b, bed.Host.Stop(context.Background(), server, host.Immediate)) }()
	var log string
	for deadline := time.Now().Add(10 * time.Minute); !strings.Contains(log, "pausing at the end of recovery"); {
		require.Less(b, time.Now(), deadline, log)
		require.NotContains(b, log, "FATAL")
		time.Sleep(20 * time.Millisecond)
		content, err := os.ReadFile(server.Log)
		require.NoError(b, err)
		log = string(content)
	}
	return replayOf(b, log, k.Plan)
}

var restoreCommand = regexp.MustCompile(`(?m)^restore_command = .*$`)

// at is when a server logged something, in UTC.
func at(b measure, log, what string) time.Time {
	for line := range strings.Lines(log) {
		if strings.Contains(line, what) {
			t, err := time.Parse("2006-01-02 15:04:05.000", line[:23])
			require.NoError(b, err, line)
			return t
		}
	}
	require.Fail(b, fmt.Sprintf("%q was not logged", what), log)
	return time.Time{}
}
