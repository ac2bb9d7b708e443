package copies

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/engine/host"
)

// lackingLimits is what a server logs that ends, before it allows connections, where the
// original was given more than it has.
const lackingLimits = "recovery aborted because of insufficient parameter settings"

// limits are the settings that must be at least the original's, or recovery does not go on. The
// control file has those of the base, and while WAL is replayed those that the original was
// given since.
func limits(c pg.Control) []string {
	return []string{
		fmt.Sprintf("max_connections = %d", c.MaxConnections),
		fmt.Sprintf("max_worker_processes = %d", c.MaxWorkers),
		fmt.Sprintf("max_wal_senders = %d", c.MaxWALSenders),
		fmt.Sprintf("max_prepared_transactions = %d", c.MaxPreparedXacts),
		fmt.Sprintf("max_locks_per_transaction = %d", c.MaxLocksPerXact),
	}
}

// raiseLimits has a recovery go on that stands short of its moment, because the original was
// given more connections, workers, senders, prepared transactions or locks after the base: the
// server calls that paused, too.
func (f *follower) raiseLimits(ctx context.Context) error {
	if f.conn != nil {
		_ = f.conn.Close(ctx)
		f.conn = nil
	}
	if err := f.keeper.Host.Stop(ctx, f.server, host.Fast); err != nil {
		return err
	}
	tree, err := f.keeper.Host.Files(f.server.DataDir)
	if err != nil {
		return err
	}
	defer func() { _ = tree.Close() }()
	content, err := tree.ReadFile("global/pg_control")
	if err != nil {
		return err
	}
	control, err := pg.ParseControl(content)
	if err != nil {
		return err
	}
	const name = "postgresql.conf"
	was, err := tree.ReadFile(name)
	if err != nil {
		return err
	}
	conf, raised := string(was), ""
	for _, line := range limits(control) {
		setting, _, _ := strings.Cut(line, " ")
		old := regexp.MustCompile(`(?m)^` + setting + ` = \d+$`)
		if before := old.FindString(conf); before != line {
			conf = old.ReplaceAllLiteralString(conf, line)
			raised += ", " + line
		}
	}
	if raised == "" {
		return problem.New(problem.Failed, "The task's log has what the server said. The copy was removed.",
			"the copy's recovery stopped short of the moment",
			"it paused at %s, and the moment is at %s", f.copy.ReplayedLSN, f.plan.Boundary.End)
	}
	f.report.Log("the original was given more after the base backup: the copy goes on with %s", strings.TrimPrefix(raised, ", "))
	if err := tree.WriteFile(name, []byte(conf), 0o600); err != nil {
		return err
	}
	return f.keeper.Host.Start(ctx, f.server)
}
