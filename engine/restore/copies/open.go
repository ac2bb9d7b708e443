package copies

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
)

// Open ends the recovery of a paused copy: it becomes writable, on a timeline of its own.
func (c *Maker) Open(ctx context.Context, cluster catalog.Cluster, k catalog.Copy, report task.Report) error {
	if k.State != catalog.CopyPaused {
		return problem.New(problem.Conflict, "See: velvet copy show "+k.ID, "the copy was not opened",
			"it is %s; only a paused copy can be opened", k.State)
	}
	c, err := c.of(k)
	if err != nil {
		return err
	}
	conn, err := Connect(ctx, c.Host, k, cluster, "template1")
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	report.Progress(0, 0, task.None, "ending recovery")
	if err := c.harden(ctx, k, conn); err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, `select pg_catalog.pg_wal_replay_resume()`); err != nil {
		return err
	}
	for {
		var recovering bool
		if err := conn.QueryRow(ctx, `select pg_catalog.pg_is_in_recovery() from pg_catalog.pg_sleep(0.1)`).Scan(&recovering); err != nil {
			return fmt.Errorf("%w; the copy's log ends:\n%s", err, c.Host.LogTail(Server(k, cluster.Major()), 1000))
		}
		if !recovering {
			break
		}
	}
	k.State = catalog.CopyOpen
	report.Log("the copy is open for writing on 127.0.0.1, port %d; its archiving is off and stays off", k.Port)
	return c.save(ctx, k)
}

// harden has what the copy holds, and all that it writes from now on, be safe on disk.
func (c *Maker) harden(ctx context.Context, k catalog.Copy, conn *pgx.Conn) error {
	t, err := c.Host.Files(k.Directory)
	if err != nil {
		return err
	}
	defer func() { _ = t.Close() }()
	if err := t.WriteFile(filepath.Join(dataDir, "postgresql.auto.conf"), nil, 0o600); err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, `select pg_catalog.pg_reload_conf()`); err != nil {
		return err
	}
	for {
		var flushes string
		err := conn.QueryRow(ctx, `select pg_catalog.current_setting('fsync') from pg_catalog.pg_sleep(0.05)`).Scan(&flushes)
		if err != nil {
			return err
		}
		if flushes == "on" {
			return t.Sync() // what was written before
		}
	}
}

// Seclude closes a copy to everybody but us, for good, and ends the sessions of others.
func (c *Maker) Seclude(ctx context.Context, cluster catalog.Cluster, k catalog.Copy) error {
	c, err := c.of(k)
	if err != nil {
		return err
	}
	t, err := c.Host.Files(k.Directory)
	if err != nil {
		return err
	}
	const alone = "local all all trust\n" // over a socket whose directory only the OS user may enter
	if err := errors.Join(t.WriteFile(filepath.Join(dataDir, "pg_hba.conf"), []byte(alone), 0o600), t.Close()); err != nil {
		return err
	}
	conn, err := Connect(ctx, c.Host, k, cluster, "template1")
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if _, err := conn.Exec(ctx, `select pg_catalog.pg_reload_conf()`); err != nil {
		return err
	}
	for quiet := 0; quiet < 5; quiet++ { // looks in a row at which nobody else was there
		var others int
		if err := conn.QueryRow(ctx, `select pg_catalog.count(pg_catalog.pg_terminate_backend(pid)) from pg_catalog.pg_stat_activity,
			pg_catalog.pg_sleep(0.1) where backend_type operator(pg_catalog.=) 'client backend'
			and pid operator(pg_catalog.<>) pg_catalog.pg_backend_pid()`).Scan(&others); err != nil {
			return err
		}
		if others > 0 {
			quiet = 0
		}
	}
	return nil
}

// Rest ends the server of an open copy in order, and leaves its files.
func (c *Maker) Rest(ctx context.Context, cluster catalog.Cluster, k catalog.Copy) error {
	c, err := c.of(k)
	if err != nil {
		return err
	}
	return c.Host.Stop(ctx, Server(k, cluster.Major()), host.Fast)
}

// Tablespace is where one of a copy's lies.
func Tablespace(k catalog.Copy, oid uint32) string {
	return filepath.Join(k.Directory, tablespaces, fmt.Sprint(oid))
}
