package backup

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/store/deposit"
)

// askFacts asks the server for what may have changed since it was registered or backed up last,
// and records it. A server from which no base backup could be restored is refused. What makes it
// doubtful that unchanged pages are as they were comes back as a reason for a full backup.
func (t *Taker) askFacts(ctx context.Context, report task.Report) (doubts error, err error) {
	conn, err := t.Access.SQL(ctx, "")
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	is := t.Cluster
	var segment int64
	var level string
	err = conn.QueryRow(ctx, `select pg_catalog.current_setting('server_version_num')::int,
		pg_catalog.current_setting('data_checksums')::pg_catalog.bool,
		(select rolname from pg_catalog.pg_roles where oid operator(pg_catalog.=) 10), coalesce((select setting from pg_catalog.pg_settings
		where name operator(pg_catalog.=) 'data_directory'), ''),
		(select setting::bigint from pg_catalog.pg_settings where name operator(pg_catalog.=) 'wal_segment_size'),
		pg_catalog.current_setting('wal_level')`).
		Scan(&is.ServerVersion, &is.DataChecksums, &is.Superuser, &is.DataDirectory, &segment, &level)
	if err != nil {
		return nil, err
	}
	refused := func(help, text string, args ...any) error {
		return problem.New(problem.Conflict, help, "the base backup was not begun", text, args...)
	}
	switch {
	case is.ServerVersion/10000 != t.Cluster.ServerVersion/10000:
		return nil, refused("Register it anew, as another cluster.", "the server is of version %d, %s was registered with %d",
			is.ServerVersion/10000, t.Cluster.Name, t.Cluster.ServerVersion/10000)
	case pg.SegmentSize(segment) != is.SegmentSize:
		return nil, refused("Register it anew, as another cluster.",
			"the server's WAL segments are of %d bytes, %s was registered with %d: they were changed since", segment, t.Cluster.Name,
			is.SegmentSize)
	case level == "minimal":
		return nil, refused("Set wal_level to replica and restart the server.",
			"the server's wal_level is minimal: its WAL cannot be replayed")
	}
	if is.Superuser != t.Cluster.Superuser {
		report.Log("the superuser is called %s now; it was %s", is.Superuser, t.Cluster.Superuser)
	}
	if was := t.Cluster.DataDirectory; was != "" && is.DataDirectory != "" && is.DataDirectory != was {
		doubts = doubtful("the data directory is %s now; it was %s", is.DataDirectory, was)
	}
	if is.DataDirectory == "" {
		is.DataDirectory = t.Cluster.DataDirectory
	}
	if is.DataChecksums != t.Cluster.DataChecksums {
		report.Log("data checksums have been switched %s", map[bool]string{true: "on", false: "off"}[is.DataChecksums])
	}
	if is.Superuser == t.Cluster.Superuser && is.DataChecksums == t.Cluster.DataChecksums && is.DataDirectory == t.Cluster.DataDirectory &&
		is.ServerVersion == t.Cluster.ServerVersion {
		return doubts, nil
	}
	if err := t.Catalog.SaveFacts(ctx, is); err != nil {
		return nil, err
	}
	if t.Cluster, err = t.Catalog.Cluster(ctx, is.Name); err != nil {
		return nil, err
	}
	return doubts, deposit.PutCluster(ctx, t.Store, t.Cluster)
}

// likeFormer doubts a comparison with a backup whose pages may have been rewritten without WAL.
func (t *Taker) likeFormer(old *former) error {
	if old.head.Checksums != t.Cluster.DataChecksums {
		return doubtful("data checksums were switched since base %s, which rewrites pages without WAL", old.id)
	}
	return nil
}

// serverNow is the server's clock, by which commits are timed. In tests of long times it is moved
// as far as the service's is.
func (t *Taker) serverNow(ctx context.Context, conn *pgx.Conn) (at time.Time, err error) {
	moved := time.Until(t.Now()).Round(time.Second)
	if err := conn.QueryRow(ctx, `select pg_catalog.clock_timestamp()`).Scan(&at); err != nil {
		return at, fmt.Errorf("ask the server for its clock: %w", err)
	}
	return at.Add(moved).UTC(), nil
}

// askNow opens a session for serverNow.
func (t *Taker) askNow(ctx context.Context) (time.Time, error) {
	conn, err := t.Access.SQL(ctx, "")
	if err != nil {
		return time.Time{}, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	return t.serverNow(ctx, conn)
}
