package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"velvetrewind/core/pg"
)

// States of a capture.
const (
	CaptureRebuilding = "rebuilding" // the cluster is being recorded again from its store
	CaptureStarting   = "starting"
	CaptureStreaming  = "streaming"
	CaptureCatchingUp = "catching up"           // streaming, and behind
	CaptureWaiting    = "waiting for the store" // streaming, and nothing gets from the spool into the store
	CapturePaused     = "paused"                // the spool is full
	CaptureRetrying   = "retrying"              // interrupted, and trying again by itself
	CaptureStopped    = "stopped"
	CaptureFailed     = "failed" // needs attention
)

// Capture is how far the capture of a cluster has got.
type Capture struct {
	ClusterID   string       `db:"cluster_id"`
	Wanted      bool         `db:"wanted"`
	State       string       `db:"state"`
	Problem     string       `db:"problem"`
	Timeline    pg.Timeline  `db:"timeline"`
	ReceivedLSN pg.LSN       `db:"received_lsn"`
	FlushedLSN  pg.LSN       `db:"flushed_lsn"`
	StoredLSN   pg.LSN       `db:"stored_lsn"`
	ServerLSN   pg.LSN       `db:"server_lsn"`
	CompleteTo  sql.NullTime `db:"complete_to"`
	Since       time.Time    `db:"since"`
	UpdatedAt   time.Time    `db:"updated_at"`

	Holder     int64  `db:"holder"`         // the instance that captures it, until it has ended that in order
	Diverged   string `db:"diverged"`       // why the server's WAL is no longer that which was captured
	Asked      pg.LSN `db:"asked_lsn"`      // up to where another instance asks for WAL in the store
	Spooled    int64  `db:"spooled"`        // bytes of finished segments that wait for the store
	Retained   int64  `db:"retained"`       // bytes of WAL that the slot has the server retain
	Room       int64  `db:"room"`           // bytes that it can still retain; -1 where that is not known
	ClockAhead int64  `db:"clock_ahead_us"` // of the server's clock, in microseconds
	ReadableTo pg.LSN `db:"readable_to"`    // where the segment being received is damaged; 0 where it is not

	AuthorsProblem string `db:"authors_problem"` // why it is not seen who writes
	AuthorsLook    int64  `db:"authors_look_us"` // how long a look takes, in microseconds; 0 before the first
}

// Receives tells whether WAL is arriving, or will when the store takes it again.
func (k Capture) Receives() bool {
	switch k.State {
	case CaptureStreaming, CaptureCatchingUp, CaptureWaiting, CapturePaused:
		return true
	}
	return false
}

// CompleteAge is how long before now, by the service's clock, that was for which everything is
// safe here; ok is false where it is not known.
func (k Capture) CompleteAge(now time.Time) (age time.Duration, ok bool) {
	return now.Add(k.ServerAhead()).Sub(k.CompleteTo.Time), k.CompleteTo.Valid
}

// ServerAhead is by how much the server's clock is ahead of the service's.
func (k Capture) ServerAhead() time.Duration { return time.Duration(k.ClockAhead) * time.Microsecond }

// Capture reads a cluster's capture.
func (c *Catalog) Capture(ctx context.Context, cluster string) (Capture, error) {
	var k Capture
	return k, c.db.GetContext(ctx, &k, `select * from velvet.captures where cluster_id = $1`, cluster)
}

// WantCapture says whether a cluster's capture should run.
func (c *Catalog) WantCapture(ctx context.Context, cluster string, wanted bool) error {
	_, err := c.db.ExecContext(ctx, `update velvet.captures set wanted = $2, updated_at = now() where cluster_id = $1`, cluster, wanted)
	return err
}

// SetDiverged records why a server's WAL is no longer that which was captured.
func (c *Catalog) SetDiverged(ctx context.Context, cluster, why string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.captures set diverged = $2 where cluster_id = $1`, cluster, why)
	return err
}

// SetHolder records which instance captures a cluster; 0 for none.
func (c *Catalog) SetHolder(ctx context.Context, cluster string, instance int64) error {
	_, err := c.db.ExecContext(ctx, `update velvet.captures set holder = $2 where cluster_id = $1`, cluster, instance)
	return err
}

// AskStored asks the instance that captures a cluster to put what it has received up to an LSN
// into the store, where others can read it.
func (c *Catalog) AskStored(ctx context.Context, cluster string, to pg.LSN) error {
	_, err := c.db.ExecContext(ctx, `update velvet.captures set asked_lsn = greatest(asked_lsn, $2::pg_lsn) where cluster_id = $1`,
		cluster, to.String())
	return err
}

// StoredTo tells whether the segment that ends with the bytes before an LSN is in the store so far.
func (c *Catalog) StoredTo(ctx context.Context, k Cluster, t pg.Timeline, to pg.LSN) (is bool, err error) {
	return is, c.db.GetContext(ctx, &is, `select exists (select from velvet.segments
		where cluster_id = $1 and timeline = $2 and number = $3 and end_lsn >= $4::pg_lsn)`,
		k.ID, int64(t), int64(k.SegmentSize.Number(to-1)), to.String())
}

// StepBack has a capture be complete only to what is in the store before an LSN, if it had more of that
// timeline. It tells whether that was so, and to what time it is complete then: to none that is known where the store
// has no commit.
func (c *Catalog) StepBack(ctx context.Context, cluster string, t pg.Timeline, at pg.LSN) (lowered bool, complete sql.NullTime, err error) {
	err = c.db.GetContext(ctx, &complete, `update velvet.captures set flushed_lsn = $3::pg_lsn, received_lsn = $3::pg_lsn,
		complete_to = (select case when max(s.last_commit) is not null then least(complete_to, max(s.last_commit)) end
			from velvet.segments s where s.cluster_id = $1 and s.timeline <= $2 and s.end_lsn <= $3::pg_lsn)
		where cluster_id = $1 and timeline = $2 and flushed_lsn > $3::pg_lsn returning complete_to`, cluster, int64(t), at.String())
	if errors.Is(err, sql.ErrNoRows) {
		return false, complete, nil
	}
	return err == nil, complete, err
}

// SaveCapture writes what the running capture knows; what is zero stays as it was.
func (c *Catalog) SaveCapture(ctx context.Context, k Capture) error {
	_, err := c.db.ExecContext(ctx, `update velvet.captures set
		since = case when state = $2 then since else now() end,
		state = $2, problem = $3,
		timeline = case when $4::bigint = 0 then timeline else $4::bigint end,
		received_lsn = coalesce($5::pg_lsn, received_lsn), flushed_lsn = coalesce($6::pg_lsn, flushed_lsn),
		stored_lsn = coalesce($7::pg_lsn, stored_lsn), server_lsn = coalesce($8::pg_lsn, server_lsn),
		complete_to = coalesce($9::timestamptz, complete_to), updated_at = now(),
		spooled = $10, retained = $11, room = $12, clock_ahead_us = $13, readable_to = $14::pg_lsn,
		authors_problem = $15, authors_look_us = $16
		where cluster_id = $1`,
		k.ClusterID, k.State, k.Problem, int64(k.Timeline), lsn(k.ReceivedLSN), lsn(k.FlushedLSN), lsn(k.StoredLSN),
		lsn(k.ServerLSN), k.CompleteTo,
		k.Spooled, k.Retained, k.Room, k.ClockAhead, lsn(k.ReadableTo), k.AuthorsProblem, k.AuthorsLook)
	return err
}
