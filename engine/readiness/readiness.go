// Package readiness finds out what a cluster is and what it lacks before it can
// be protected, with the SQL that mends it.
//
// Invariant: it changes nothing on the cluster.
package readiness

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/engine/access"
	"velvetrewind/engine/problem"
	"velvetrewind/engine/replication"
)

// Facts is what the cluster says of itself.
type Facts struct {
	ServerVersion int            `json:"serverVersion" doc:"server_version_num"`
	VersionText   string         `json:"versionText"`
	SystemID      uint64         `json:"systemId,string"`
	Timeline      pg.Timeline    `json:"timeline"`
	WALLevel      string         `json:"walLevel"`
	SegmentSize   pg.SegmentSize `json:"segmentSize" doc:"bytes"`
	Checksums     bool           `json:"dataChecksums"`
	Role          string         `json:"role"`
	Replication   bool           `json:"replicationRight"`
	FreeSenders   int            `json:"freeSenders"`
	FreeSlots     int            `json:"freeSlots"`
	SlotExists    bool           `json:"slotExists" doc:"our own slot is there already"`
	ReadsFiles    bool           `json:"readsFiles" doc:"may read configuration files and single pages on the server"`
	ReadsTables   bool           `json:"readsTables" doc:"may read every table, to count rows beside a copy's"`
	Superuser     string         `json:"-"`
}

// Finding is one thing that the cluster lacks.
type Finding struct {
	Blocks  bool     `json:"blocks" doc:"without it the cluster cannot be protected"`
	What    string   `json:"what"`
	SQL     []string `json:"sql,omitempty" doc:"what mends it, to be run by a superuser"`
	Restart bool     `json:"restart,omitempty" doc:"the server must be restarted afterwards"`
}

// Report is the result of a check.
type Report struct {
	Facts    Facts     `json:"facts"`
	Findings []Finding `json:"findings"`
}

// Ready says whether nothing blocks.
func (r Report) Ready() bool {
	for _, f := range r.Findings {
		if f.Blocks {
			return false
		}
	}
	return true
}

// Check connects to the cluster and looks. slot is the name of our slot there.
// That the cluster cannot be reached at all is an error, everything else a finding.
func Check(ctx context.Context, a access.Access, slot string) (Report, error) {
	var r Report
	if err := a.Validate(); err != nil {
		return r, problem.Wrap(err, problem.Invalid, "the cluster was not checked", "")
	}
	conn, err := a.SQL(ctx, "")
	if err != nil {
		return r, unreachable(err)
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if err := r.look(ctx, conn, slot); err != nil {
		return r, unreachable(err)
	}
	if !r.supported() {
		return r, nil
	}
	r.judge()
	if err := r.identify(ctx, a); err != nil {
		return r, err
	}
	return r, nil
}

func unreachable(err error) error {
	p := problem.Wrap(err, problem.Unreachable, "the cluster cannot be used", "Then try again.")
	p.Detail = access.Remedy(err)
	return p
}

func (r *Report) look(ctx context.Context, conn *pgx.Conn, slot string) error {
	f := &r.Facts
	var segment int64
	err := conn.QueryRow(ctx, `select current_setting('server_version_num')::int, current_setting('server_version'),
		current_setting('wal_level'), (select setting::bigint from pg_settings where name = 'wal_segment_size'),
		current_setting('data_checksums')::bool, current_user::text,
		(select rolreplication or rolsuper from pg_roles where rolname = current_user),
		current_setting('max_wal_senders')::int - (select count(*) from pg_stat_replication)::int,
		current_setting('max_replication_slots')::int - (select count(*) from pg_replication_slots)::int,
		exists (select from pg_replication_slots where slot_name = $1),
		has_function_privilege('pg_read_file(text)', 'execute') and has_function_privilege('pg_read_binary_file(text,bigint,bigint,boolean)', 'execute')
			and pg_has_role('pg_read_server_files', 'usage') and pg_has_role('pg_read_all_settings', 'usage'),
		pg_has_role('pg_read_all_data', 'usage'),
		(select rolname from pg_roles where oid = 10)`, slot).
		Scan(&f.ServerVersion, &f.VersionText, &f.WALLevel, &segment, &f.Checksums, &f.Role, &f.Replication,
			&f.FreeSenders, &f.FreeSlots, &f.SlotExists, &f.ReadsFiles, &f.ReadsTables, &f.Superuser)
	f.SegmentSize = pg.SegmentSize(segment)
	return err
}

func (r *Report) supported() bool {
	major := r.Facts.ServerVersion / 10000
	if major >= pg.OldestSupported && major <= pg.NewestSupported {
		return true
	}
	r.add(Finding{Blocks: true, What: fmt.Sprintf("the server is PostgreSQL %s; versions %d to %d are supported", r.Facts.VersionText, pg.OldestSupported, pg.NewestSupported)})
	return false
}

func (r *Report) add(f Finding) { r.Findings = append(r.Findings, f) }

func (r *Report) judge() {
	f := r.Facts
	role := pgx.Identifier{f.Role}.Sanitize()
	if f.WALLevel == "minimal" {
		r.add(Finding{Blocks: true, Restart: true, What: "wal_level is minimal: the WAL holds too little to restore from",
			SQL: []string{"ALTER SYSTEM SET wal_level = 'replica';"}})
	}
	if !f.Replication {
		r.add(Finding{Blocks: true, What: fmt.Sprintf("the role %s lacks the replication right", f.Role),
			SQL: []string{"ALTER ROLE " + role + " REPLICATION;"}})
	}
	if f.FreeSenders < 2 && !f.SlotExists {
		r.add(Finding{Blocks: true, Restart: true, What: fmt.Sprintf("%d WAL senders are free, and 2 are needed: one for capture, one for base backups", max(0, f.FreeSenders)),
			SQL: []string{"ALTER SYSTEM SET max_wal_senders = 12;"}})
	}
	if f.FreeSlots < 1 && !f.SlotExists {
		r.add(Finding{Blocks: true, Restart: true, What: "no replication slot is free, and capture needs one",
			SQL: []string{"-- drop a slot that is no longer used:", "SELECT slot_name, active FROM pg_replication_slots;", "-- or allow more:", "ALTER SYSTEM SET max_replication_slots = 12;"}})
	}
	if !f.ReadsFiles {
		r.add(Finding{What: fmt.Sprintf("the role %s may not read configuration files that lie outside the data directory, nor read a suspect page again", f.Role),
			SQL: []string{"GRANT pg_read_all_settings, pg_read_server_files TO " + role + ";",
				"GRANT EXECUTE ON FUNCTION pg_read_file(text), pg_read_binary_file(text, bigint, bigint, boolean) TO " + role + ";"}})
	}
	if !f.ReadsTables {
		r.add(Finding{What: fmt.Sprintf("the role %s may not read every table: proofs cannot count the live rows beside a copy's", f.Role),
			SQL: []string{"GRANT pg_read_all_data TO " + role + ";"}})
	}
	if !f.Checksums {
		r.add(Finding{What: "data checksums are off: damaged pages cannot be told from sound ones. They are switched on with the server shut down, or at initdb"})
	}
}

// identify opens a replication session, which needs its own admission in pg_hba.conf.
func (r *Report) identify(ctx context.Context, a access.Access) error {
	if !r.Ready() {
		return nil
	}
	s, err := replication.Open(ctx, a)
	if err != nil {
		r.add(Finding{Blocks: true, What: "a replication session was refused: " + access.Remedy(err)})
		return nil
	}
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	sys, err := s.Identify(ctx)
	if err != nil {
		return unreachable(err)
	}
	r.Facts.SystemID, r.Facts.Timeline = sys.ID, sys.Timeline
	return nil
}
