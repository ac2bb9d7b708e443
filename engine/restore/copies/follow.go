package copies

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
)

const followEvery = 200 * time.Millisecond

// follower watches a copy recover, through its log and, once it allows
// connections, through SQL.
type follower struct {
	keeper  *Maker
	cluster catalog.Cluster
	copy    *catalog.Copy
	plan    plan.Restore
	report  task.Report
	server  host.Server
	log     *bufio.Reader
	conn    *pgx.Conn
	line    string // unfinished line of the log
	fatal   []string
}

// follow returns once the copy is paused at its boundary.
func (c *Maker) follow(ctx context.Context, cluster catalog.Cluster, k *catalog.Copy, p plan.Restore, report task.Report) error {
	f := &follower{keeper: c, cluster: cluster, copy: k, plan: p, report: report, server: Server(*k, cluster.Major())}
	log, err := c.Host.Log(f.server)
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	f.log = bufio.NewReader(log)
	defer func() {
		if f.conn != nil {
			_ = f.conn.Close(context.WithoutCancel(ctx))
		}
	}()
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	started := time.Now()
	for {
		f.readLog()
		paused, err := f.look(ctx)
		if err != nil {
			return err
		}
		if paused && f.copy.ReplayedLSN < f.plan.Boundary.End {
			f.readLog()
			if err := f.raiseLimits(ctx); err != nil {
				return err
			}
			started = time.Now()
			continue
		}
		if paused {
			f.readLog()
			return f.arrived(ctx)
		}
		gone, err := f.gone(started)
		if err != nil {
			return err
		}
		if gone {
			f.readLog()
			if !slices.Contains(f.fatal, lackingLimits) {
				return f.died()
			}
			f.fatal = nil
			if err := f.raiseLimits(ctx); err != nil {
				return err
			}
			started = time.Now()
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
	}
}

// gone tells whether the server, which was started at a time, has ended by itself.
func (f *follower) gone(started time.Time) (bool, error) {
	if time.Since(started) <= 5*time.Second {
		return false, nil
	}
	running, starting, err := f.keeper.Host.Runs(f.server)
	return err == nil && !running && !starting, err
}

// died explains a server that ended by itself.
func (f *follower) died() error {
	why := strings.Join(f.fatal, "; ")
	if why == "" {
		why = "its log ends: " + f.keeper.Host.LogTail(f.server, 800)
	}
	return problem.New(problem.Failed, "The task's log has what the server said. The copy was removed.",
		"the copy's server ended before it reached the moment", "%s", why)
}

// look asks the server how far it is.
func (f *follower) look(ctx context.Context) (paused bool, err error) {
	if f.conn == nil || f.conn.IsClosed() {
		conn, err := Connect(ctx, f.keeper.Host, *f.copy, f.cluster, "template1")
		if err != nil {
			return false, ctx.Err() // not consistent yet: it allows no connections
		}
		f.conn = conn
	}
	var at, state string
	var last *time.Time
	err = f.conn.QueryRow(ctx, `select coalesce(pg_catalog.pg_last_wal_replay_lsn()::pg_catalog.text, '0/0'),
		pg_catalog.pg_last_xact_replay_timestamp(), pg_catalog.pg_get_wal_replay_pause_state()
		where pg_catalog.pg_is_in_recovery()`).Scan(&at, &last, &state)
	if err != nil {
		return false, ctx.Err()
	}
	lsn, err := pg.ParseLSN(at)
	if err != nil {
		return false, err
	}
	f.progress(lsn, last)
	return state == "paused", f.keeper.save(ctx, *f.copy)
}

func (f *follower) progress(at pg.LSN, last *time.Time) {
	f.copy.ReplayedLSN = at
	note := fmt.Sprintf("replayed to %s", at)
	if last != nil {
		f.copy.ReplayedTo = sql.NullTime{Time: *last, Valid: true}
		note += ", " + last.UTC().Format("2006-01-02 15:04:05.000 UTC")
	}
	done := int64(at) - int64(f.plan.Start)
	f.report.Progress(min(max(done, 0), f.plan.Replay), f.plan.Replay, task.Bytes, note)
}

// arrived records where the copy stands.
func (f *follower) arrived(ctx context.Context) error {
	f.copy.State, f.copy.PausedLSN = catalog.CopyPaused, f.copy.ReplayedLSN
	f.report.Log("paused at %s, read-only; port %d on 127.0.0.1", f.copy.PausedLSN, f.copy.Port)
	b := f.plan.Boundary
	if f.copy.PausedLSN != b.End {
		f.report.Warn("the plan was to stop at %s", b.End)
	} else if b.Inclusive && b.LastIn != nil {
		// The server does not count the transaction after whose record it stops.
		f.copy.ReplayedTo = sql.NullTime{Time: b.LastIn.Time, Valid: true}
	}
	return f.keeper.save(ctx, *f.copy)
}

var (
	logLine  = regexp.MustCompile(`^\S+ \S+ \S+ \[\d+\] ([A-Z]+):\s+(.*)$`)
	restored = regexp.MustCompile(`^restored log file "([0-9A-F]{24})" from archive$`)
)

// readLog passes on what the server has logged since the last look.
func (f *follower) readLog() {
	for {
		text, err := f.log.ReadString('\n')
		f.line += text
		if err != nil {
			if err != io.EOF {
				f.report.Warn("the copy's log: %v", err)
			}
			return
		}
		f.said(strings.TrimRight(f.line, "\n"))
		f.line = ""
	}
}

// said sorts one line of the server's log.
func (f *follower) said(line string) {
	m := logLine.FindStringSubmatch(line)
	if m == nil {
		if strings.TrimSpace(line) != "" {
			f.report.Log("server: %s", strings.TrimSpace(line))
		}
		return
	}
	level, text := m[1], m[2]
	if level == "FATAL" && strings.HasPrefix(text, "the database system is ") {
		return // our own early connections being turned away
	}
	if r := restored.FindStringSubmatch(text); r != nil {
		if seg, err := pg.ParseSegmentName(r[1], f.cluster.SegmentSize); err == nil && f.conn == nil {
			f.progress(f.cluster.SegmentSize.Start(seg.Number), nil)
		}
	}
	switch level {
	case "FATAL", "PANIC":
		f.fatal = append(f.fatal, text)
		f.report.Warn("server: %s: %s", level, text)
	case "WARNING", "ERROR":
		f.report.Warn("server: %s: %s", level, text)
	default:
		f.report.Log("server: %s", text)
	}
}
