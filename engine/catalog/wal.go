package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"velvetrewind/core/pg"
)

// Segment is a WAL segment in the store.
type Segment struct {
	ClusterID   string       `db:"cluster_id"`
	Timeline    pg.Timeline  `db:"timeline"`
	Number      uint64       `db:"number"`
	Name        string       `db:"name"`
	Start       pg.LSN       `db:"start_lsn"`
	End         pg.LSN       `db:"end_lsn"`
	StoredBytes int64        `db:"stored_bytes"`
	Records     int64        `db:"records"`
	LastCommit  sql.NullTime `db:"last_commit"`
	StoredAt    time.Time    `db:"stored_at"`
	Unreadable  string       `db:"unreadable"` // why its records cannot be read; "" for one that can
}

// AddSegment records a stored segment; the same one again replaces the record.
func (c *Catalog) AddSegment(ctx context.Context, s Segment) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	// Runs are changed by one at a time.
	if _, err := tx.ExecContext(ctx, `select from velvet.clusters where id = $1 for no key update`, s.ClusterID); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `insert into velvet.segments
		(cluster_id, timeline, number, name, start_lsn, end_lsn, stored_bytes, records, last_commit, unreadable)
		values ($1, $2, $3, $4, $5::pg_lsn, $6::pg_lsn, $7, $8, $9, $10)
		on conflict (cluster_id, timeline, number) do update set
		end_lsn = excluded.end_lsn, stored_bytes = excluded.stored_bytes, records = excluded.records,
		last_commit = excluded.last_commit, unreadable = excluded.unreadable, stored_at = now()`,
		s.ClusterID, int64(s.Timeline), int64(s.Number), s.Name, startLSN(s.Start), s.End.String(), s.StoredBytes, s.Records,
		s.LastCommit, s.Unreadable)
	if err != nil {
		return err
	}
	if err := extendRun(ctx, tx, s); err != nil {
		return err
	}
	return tx.Commit()
}

// extendRun adds a segment to the run that it follows; where it does anything else, the
// runs are made anew.
func extendRun(ctx context.Context, tx *sqlx.Tx, s Segment) error {
	var near []Run
	err := tx.SelectContext(ctx, &near, `select timeline, first, last, start_lsn, end_lsn, last_commit from velvet.runs
		where cluster_id = $1 and timeline = $2 and last >= $3 - 1 and first <= $3 + 1`, s.ClusterID, int64(s.Timeline), int64(s.Number))
	if err != nil {
		return err
	}
	switch {
	case len(near) == 0:
		_, err = tx.ExecContext(ctx, `insert into velvet.runs (cluster_id, timeline, first, last, start_lsn, end_lsn, last_commit)
			values ($1, $2, $3, $3, $4::pg_lsn, $5::pg_lsn,
			$6)`, s.ClusterID, int64(s.Timeline), int64(s.Number), startLSN(s.Start), s.End.String(), s.LastCommit)
		return err
	case len(near) == 1 && near[0].Last+1 == s.Number && near[0].End == s.Start:
		_, err = tx.ExecContext(ctx, `update velvet.runs set last = $4, end_lsn = $5::pg_lsn, last_commit = greatest(last_commit, $6)
			where cluster_id = $1 and timeline = $2 and first = $3`,
			s.ClusterID, int64(s.Timeline), int64(near[0].First), int64(s.Number), s.End.String(), s.LastCommit)
		return err
	}
	return joinRuns(ctx, tx, s.ClusterID)
}

// startLSN passes an LSN that may be 0, where the first segment begins.
func startLSN(l pg.LSN) string { return l.String() }

// Segments lists the stored segments of a cluster by timeline and place.
func (c *Catalog) Segments(ctx context.Context, cluster string) ([]Segment, error) {
	var list []Segment
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.segments where cluster_id = $1 order by timeline, number`, cluster)
}

// Run is segments of one timeline that follow one another in the store without a gap.
type Run struct {
	ClusterID  string       `db:"cluster_id"`
	Timeline   pg.Timeline  `db:"timeline"`
	First      uint64       `db:"first"` // numbers of the segments, both included
	Last       uint64       `db:"last"`
	Start      pg.LSN       `db:"start_lsn"`
	End        pg.LSN       `db:"end_lsn"`
	LastCommit sql.NullTime `db:"last_commit"` // newest commit time in any of them
}

// Runs lists the stored WAL of a cluster by timeline and place; of all clusters when
// cluster is "". A month of segments is usually one run.
func (c *Catalog) Runs(ctx context.Context, cluster string) ([]Run, error) {
	var list []Run
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.runs where cluster_id = $1 or $1 = ''
		order by cluster_id, timeline, first`, cluster)
}

// LastWhole finds the newest whole segment of a cluster in the store; ok is false if there is none.
func (c *Catalog) LastWhole(ctx context.Context, k Cluster) (s pg.Segment, ok bool, err error) {
	var row Segment
	err = c.db.GetContext(ctx, &row, `select * from velvet.segments where cluster_id = $1 and end_lsn - start_lsn = $2
		order by timeline desc, number desc limit 1`, k.ID, int64(k.SegmentSize))
	if errors.Is(err, sql.ErrNoRows) {
		return s, false, nil
	}
	return pg.Segment{Timeline: row.Timeline, Number: row.Number}, err == nil, err
}

// HasSegment tells whether a segment is recorded.
func (c *Catalog) HasSegment(ctx context.Context, cluster string, seg pg.Segment) (there, read bool, err error) {
	err = c.db.QueryRowxContext(ctx, `select count(*) > 0, coalesce(bool_or(records > 0 or unreadable <> ''), false)
		from velvet.segments where cluster_id = $1 and timeline = $2
		and number = $3`, cluster, int64(seg.Timeline), int64(seg.Number)).Scan(&there, &read)
	return there, read, err
}

// HoleCause is why WAL from a place on was never captured.
type HoleCause struct {
	ClusterID string      `db:"cluster_id"`
	Timeline  pg.Timeline `db:"timeline"`
	From      pg.LSN      `db:"from_lsn"`
	Cause     string      `db:"cause"`
	FoundAt   time.Time   `db:"found_at"`
}

// AddHoleCause notes why WAL is missing.
func (c *Catalog) AddHoleCause(ctx context.Context, h HoleCause) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.hole_causes (cluster_id, timeline, from_lsn, cause) values ($1, $2, $3::pg_lsn, $4)
		on conflict do nothing`, h.ClusterID, int64(h.Timeline), h.From.String(), h.Cause)
	return err
}

// Timeline is a timeline above 1 with its history file.
type Timeline struct {
	ClusterID string      `db:"cluster_id"`
	Timeline  pg.Timeline `db:"timeline"`
	Parent    pg.Timeline `db:"parent"`
	ForkedAt  pg.LSN      `db:"forked_at"`
	History   string      `db:"history"`
}

// AddTimeline records a timeline.
func (c *Catalog) AddTimeline(ctx context.Context, t Timeline) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.timelines (cluster_id, timeline, parent, forked_at, history)
		values ($1, $2, $3, $4::pg_lsn, $5)
		on conflict do nothing`, t.ClusterID, int64(t.Timeline), int64(t.Parent), t.ForkedAt.String(), t.History)
	return err
}

// Timelines lists a cluster's timelines above 1.
func (c *Catalog) Timelines(ctx context.Context, cluster string) ([]Timeline, error) {
	var list []Timeline
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.timelines where cluster_id = $1 order by timeline`, cluster)
}

// Histories gives the forks that lead to each timeline above 1, oldest first.
func Histories(timelines []Timeline) (map[pg.Timeline][]pg.Fork, error) {
	all := make(map[pg.Timeline][]pg.Fork, len(timelines))
	for _, t := range timelines {
		forks, err := pg.ParseHistory(t.Timeline, []byte(t.History))
		if err != nil {
			return nil, err
		}
		all[t.Timeline] = forks
	}
	return all, nil
}
