// Package survey finds out what a cluster is and what it lacks before it can be
// protected, and, when told to, has SQL fix it.
//
// Invariant: Check changes nothing on the cluster; Apply runs only the statements of the checks that it is given,
// which a person was shown. What the facts mean is judged by core/readiness.
package survey

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/readiness"
	"velvetrewind/engine/host"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/server/replication"
)

// Checker looks at clusters from the service's host.
type Checker struct {
	Host        *host.Host
	Now         func() time.Time
	StoreFree   int64 // bytes; -1 without a known limit
	StoreSealed bool
}

// Check connects to the cluster and looks. slot is the name of our slot there. That the
// cluster cannot be reached at all is an error, everything else a check.
func (c *Checker) Check(ctx context.Context, a access.Access, slot string) (readiness.Report, error) {
	r := readiness.Report{Checks: []readiness.Check{}}
	if err := a.Validate(); err != nil {
		return r, problem.Wrap(err, problem.Invalid, "the cluster was not checked", "")
	}
	conn, err := a.SQL(ctx, "")
	if err != nil {
		return r, unreachable(err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if err := c.look(ctx, conn, slot, &r.Facts); err != nil {
		return r, unreachable(err)
	}
	c.lookHere(&r.Facts)
	r.Facts.Unverified = a.Unverified()
	r.Facts.ReplicationRole = r.Facts.Role
	if a.ReplicationUser != "" {
		r.Facts.ReplicationRole = a.ReplicationUser
	}
	if err := identify(ctx, a, &r.Facts); err != nil {
		return r, err
	}
	r.Checks = readiness.Judge(r.Facts)
	return r, nil
}

func unreachable(err error) error {
	p := problem.Wrap(err, problem.Unreachable, "the cluster cannot be used", "Then try again.")
	p.Detail = access.Remedy(err)
	return p
}

// look asks the server.
func (c *Checker) look(ctx context.Context, conn *pgx.Conn, slot string, f *readiness.Facts) error {
	var segment int64
	var clock time.Time
	err := conn.QueryRow(ctx, `select pg_catalog.current_setting('server_version_num')::int, pg_catalog.current_setting('server_version'),
		(select setting::bigint from pg_catalog.pg_settings where name operator(pg_catalog.=) 'wal_segment_size'),
		pg_catalog.current_setting('data_checksums')::pg_catalog.bool, current_user::pg_catalog.text,
		(select rolreplication or rolsuper from pg_catalog.pg_roles where rolname operator(pg_catalog.=) current_user), (select rolsuper
		from pg_catalog.pg_roles where rolname operator(pg_catalog.=) current_user),
		(select pg_catalog.count(*) from pg_catalog.pg_stat_get_wal_senders())::int, (select pg_catalog.count(*)
		from pg_catalog.pg_replication_slots)::int,
		exists (select from pg_catalog.pg_replication_slots where slot_name operator(pg_catalog.=) $1),
		(select rolname from pg_catalog.pg_roles where oid operator(pg_catalog.=) 10),
		coalesce((select last_failed_time operator(pg_catalog.>) coalesce(last_archived_time, '-infinity')
		from pg_catalog.pg_stat_archiver), false),
		array(select case when pg_catalog.pg_tablespace_location(oid) operator(pg_catalog.<>) ''
		then pg_catalog.pg_tablespace_location(oid) else spcname end from pg_catalog.pg_tablespace where oid operator(pg_catalog.>=) 16384),
		pg_catalog.current_setting('block_size')::int, pg_catalog.current_setting('wal_block_size')::int, (select setting::int
		from pg_catalog.pg_settings where name operator(pg_catalog.=) 'segment_size'),
		coalesce((select pg_catalog.sum(case when pg_catalog.has_database_privilege(oid, 'connect')
		or pg_catalog.pg_has_role('pg_read_all_stats', 'usage') then pg_catalog.pg_database_size(oid) end)
		from pg_catalog.pg_database), 0)::bigint,
		pg_catalog.clock_timestamp()`, slot).
		Scan(&f.ServerVersion, &f.VersionText, &segment, &f.Checksums, &f.Role, &f.Replication, &f.RoleSuperuser,
			&f.SendersUsed, &f.SlotsUsed, &f.SlotExists, &f.Superuser, &f.ArchiveFailing, &f.Tablespaces,
			&f.Sizes.Block, &f.Sizes.WALBlock, &f.Sizes.BlocksPerFile, &f.Bytes, &clock)
	if err != nil {
		return err
	}
	f.SegmentSize, f.ClockAhead = pg.SegmentSize(segment), clock.Sub(c.Now())
	if v, err := pg.ServerVersion(f.ServerVersion); err == nil {
		if err := lookRights(ctx, conn, v, f); err != nil {
			return err
		}
	}
	f.Settings = make(map[string]string)
	rows, err := conn.Query(ctx, `select name, setting from pg_catalog.pg_settings where name operator(pg_catalog.=) any($1)`,
		readiness.Seen)
	if err != nil {
		return err
	}
	var name, value string
	_, err = pgx.ForEachRow(rows, []any{&name, &value}, func() error {
		f.Settings[name] = value
		return nil
	})
	return err
}

// lookRights asks what the role may do; the functions are of supported versions.
func lookRights(ctx context.Context, conn *pgx.Conn, v *pg.Version, f *readiness.Facts) error {
	return conn.QueryRow(ctx, `select
		pg_catalog.has_function_privilege('pg_read_file(text)', 'execute')
		and pg_catalog.has_function_privilege('pg_read_binary_file(text,bigint,bigint,boolean)', 'execute')
			and pg_catalog.pg_has_role('pg_read_server_files', 'usage') and pg_catalog.pg_has_role('pg_read_all_settings', 'usage'),
		pg_catalog.pg_has_role('pg_read_all_data', 'usage'), pg_catalog.pg_has_role('pg_read_all_stats', 'usage'),
		(select pg_catalog.bool_and(pg_catalog.has_function_privilege(f, 'execute')) from pg_catalog.unnest($1::pg_catalog.text[]) f),
		case when pg_catalog.has_function_privilege('pg_control_system()', 'execute') then (select catalog_version_no
		from pg_catalog.pg_control_system()) else 0 end`, readiness.OnlineBackupFunctions(v)).
		Scan(&f.ReadsFiles, &f.ReadsTables, &f.ReadsSessions, &f.ReadsChanges, &f.Catalog)
}

// lookHere finds out what the service's own host tells.
func (c *Checker) lookHere(f *readiness.Facts) {
	f.StoreFree, f.StoreSealed, f.ServerFree = c.StoreFree, c.StoreSealed, -1
	f.ServiceZone, f.CopiesUser = c.Now().Local().Format("MST -07:00"), c.Host.User()
	if dir := f.Settings["data_directory"]; dir != "" {
		wal := filepath.Join(dir, "pg_wal")
		if _, err := os.Stat(wal); err == nil { // it is this host, or one that looks the same
			if free, err := c.Host.FreeSpace(wal); err == nil {
				f.ServerFree = free
			}
		}
	}
	if err := c.Host.HasPrograms(f.ServerVersion / 10000); err != nil {
		f.CopiesFailure = err.Error()
	}
}

// identify opens a replication session, which needs its own admission in pg_hba.conf.
func identify(ctx context.Context, a access.Access, f *readiness.Facts) error {
	s, err := replication.Open(ctx, a)
	if err != nil {
		f.ReplicationFail = access.Remedy(err)
		return nil
	}
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	sys, err := s.Identify(ctx)
	if err != nil {
		return unreachable(err)
	}
	f.SystemID, f.Timeline = sys.ID, sys.Timeline
	return nil
}

// Applied is what was run on a cluster.
type Applied struct {
	SQL      []string // statements that were run, in order
	Reloaded bool     // the server was told to read its configuration again
	Restart  bool     // something takes effect only when the server is restarted, which is left to you
}

// Statements lists what applying some checks would run. IDs that no check has, or that SQL
// cannot fix, are refused.
func Statements(r readiness.Report, ids []string) (list []readiness.Check, err error) {
	for _, id := range ids {
		i := slices.IndexFunc(r.Checks, func(c readiness.Check) bool { return c.ID == id })
		if i < 0 || r.Checks[i].State == readiness.OK || !readiness.SQLAlone(r.Checks[i].SQL) {
			return nil, problem.New(problem.Invalid, "See: velvet cluster ready", "nothing was applied",
				"there is nothing that SQL can do about %q", id)
		}
		list = append(list, r.Checks[i])
	}
	return list, nil
}

// Apply runs the statements of checks as somebody who may, and has the server read its
// configuration again where that is enough. It stops at the first that fails.
func Apply(ctx context.Context, admin access.Access, checks []readiness.Check) (done Applied, err error) {
	done.SQL = []string{}
	if err := admin.Validate(); err != nil {
		return done, problem.Wrap(err, problem.Invalid, "nothing was applied", "")
	}
	conn, err := admin.Admin(ctx, "")
	if err != nil {
		return done, unreachable(err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	reload := false
	for _, c := range checks {
		for _, q := range c.SQL {
			if _, err := conn.Exec(ctx, q); err != nil {
				return done, failed(err, q, done)
			}
			done.SQL = append(done.SQL, q)
		}
		reload = reload || c.After != ""
		done.Restart = done.Restart || c.After == "restart"
	}
	if reload {
		if _, err := conn.Exec(ctx, "select pg_catalog.pg_reload_conf()"); err != nil {
			return done, failed(err, "select pg_catalog.pg_reload_conf()", done)
		}
		done.Reloaded = true
	}
	return done, nil
}

func failed(err error, statement string, done Applied) error {
	p := problem.Wrap(fmt.Errorf("%s: %w", statement, err), problem.Conflict, "not everything was applied",
		"Apply it as a superuser: --as ROLE")
	p.Detail = fmt.Sprintf("%s: %s", statement, access.Remedy(err))
	if len(done.SQL) > 0 {
		p.Detail += fmt.Sprintf("; %d statements before it were run", len(done.SQL))
	}
	return p
}
