package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
)

// Cluster is a protected cluster.
type Cluster struct {
	ID             string         `db:"id"`
	Name           string         `db:"name"`
	ConnString     string         `db:"conn_string"`
	PasswordSealed []byte         `db:"password_sealed"`
	SystemID       uint64         `db:"system_id"`
	ServerVersion  int            `db:"server_version"`
	SegmentSize    pg.SegmentSize `db:"segment_size"`
	DataChecksums  bool           `db:"data_checksums"`
	Superuser      string         `db:"superuser"`
	DataDirectory  string         `db:"data_directory"` // the server's, as last asked; "" where it does not tell
	Slot           string         `db:"slot"`
	CreatedAt      time.Time      `db:"created_at"`
	AlertDrops     bool           `db:"alert_drops"`
	AlertRows      int64          `db:"alert_rows"`
	AlertShare     float64        `db:"alert_share"`
	TidyDue        bool           `db:"tidy_due"` // something is to be deleted from the store
	TidyNow        bool           `db:"tidy_now"` // and has waited long enough, perhaps
	SecondStore    bool           `db:"second_store"`

	LabelsSet         json.RawMessage  `db:"labels"`    // map[string]string
	KeepSet           *json.RawMessage `db:"keep_rule"` // keep.Rule
	ReplicationUser   string           `db:"replication_user"`
	ReplicationSealed []byte           `db:"replication_sealed"`
	CaptureAlert      int              `db:"capture_alert_seconds"`

	FormerSuperusersSet json.RawMessage `db:"former_superusers"` // []string, the newest last
	CopiesUser          string          `db:"copies_user"`       // OS user of its copies; "" is the service's choice
}

// FormerSuperusers are names that the bootstrap superuser had before.
func (c Cluster) FormerSuperusers() (names []string, err error) {
	if len(c.FormerSuperusersSet) == 0 {
		return nil, nil
	}
	return names, json.Unmarshal(c.FormerSuperusersSet, &names)
}

// SaveFacts records what a server says of itself that can change between two of its starts.
func (c *Catalog) SaveFacts(ctx context.Context, k Cluster) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set server_version = $2, data_checksums = $3, data_directory = $4, superuser = $5,
		former_superusers = case when superuser = $5 then former_superusers else (former_superusers - superuser) || to_jsonb(superuser) end where id = $1`,
		k.ID, k.ServerVersion, k.DataChecksums, k.DataDirectory, k.Superuser)
	return err
}

// Labels are by what policies find the cluster.
func (c Cluster) Labels() (labels map[string]string, err error) {
	if len(c.LabelsSet) == 0 {
		return nil, nil
	}
	return labels, json.Unmarshal(c.LabelsSet, &labels)
}

// Major is the server's major version.
func (c Cluster) Major() int { return c.ServerVersion / 10000 }

// Version is what is known of the server's version; nil for one that is no longer, or not
// yet, supported.
func (c Cluster) Version() *pg.Version { return pg.Major(c.Major()) }

// AddCluster records a cluster together with its capture, which is wanted from now on.
func (c *Catalog) AddCluster(ctx context.Context, k Cluster) error {
	return c.insertCluster(ctx, k, CaptureStarting, true)
}

// AdoptCluster records a cluster that is recorded again, piece by piece, from its
// store. Its capture is not wanted before that has ended.
func (c *Catalog) AdoptCluster(ctx context.Context, k Cluster) error {
	return c.insertCluster(ctx, k, CaptureRebuilding, false)
}

// HalfAdopted lists the clusters whose adoption has not ended.
func (c *Catalog) HalfAdopted(ctx context.Context) ([]string, error) {
	var list []string
	return list, c.db.SelectContext(ctx, &list, `select cluster_id from velvet.captures where state = $1 and not wanted`, CaptureRebuilding)
}

func (c *Catalog) insertCluster(ctx context.Context, k Cluster, state string, wanted bool) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	_, err = tx.ExecContext(ctx, `insert into velvet.clusters
		(id, name, conn_string, password_sealed, system_id, server_version, segment_size, data_checksums, superuser, slot, labels, keep_rule, replication_user, replication_sealed, host, data_directory, former_superusers)
		values ($1, $2, $3, $4, $5::text::numeric, $6, $7, $8, $9, $10, coalesce($11::jsonb, '{}'), $12, $13, $14, $15, $16, coalesce($17::jsonb, '[]'))`,
		k.ID, k.Name, k.ConnString, k.PasswordSealed, utoa(k.SystemID), k.ServerVersion, int64(k.SegmentSize), k.DataChecksums, k.Superuser, k.Slot,
		textOrNull(k.LabelsSet), jsonOrNull(k.KeepSet), k.ReplicationUser, k.ReplicationSealed, hostOf(k.ConnString),
		k.DataDirectory, textOrNull(k.FormerSuperusersSet))
	if violates(err, "clusters_name_key") {
		return problem.New(problem.Conflict, "Choose another name, or remove the other cluster first.", "the cluster was not added", "there is a cluster named %q already", k.Name)
	}
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `insert into velvet.captures (cluster_id, state, wanted) values ($1, $2, $3)`, k.ID, state, wanted); err != nil {
		return err
	}
	return tx.Commit()
}

// hostOf is the host that a connection string names, "" if it cannot be read.
func hostOf(conn string) string {
	c, err := pgconn.ParseConfig(conn)
	if err != nil {
		return ""
	}
	return c.Host
}

const clusterColumns = `id, name, conn_string, password_sealed, system_id::text as system_id, server_version, segment_size, data_checksums, superuser, slot, created_at, alert_drops, alert_rows, alert_share,
	tidy_due or exists (select from velvet.released r where r.cluster_id = clusters.id and not r.tidied) as tidy_due,
	tidy_due and coalesce(tidy_after <= now(), true) or exists (select from velvet.released r where r.cluster_id = clusters.id and not r.tidied and coalesce(r.due_at <= now(), true)) as tidy_now, second_store, labels, keep_rule, replication_user, replication_sealed, capture_alert_seconds, data_directory, former_superusers, copies_user`

// Clusters lists all clusters by name.
func (c *Catalog) Clusters(ctx context.Context) ([]Cluster, error) {
	var list []Cluster
	return list, c.db.SelectContext(ctx, &list, `select `+clusterColumns+` from velvet.clusters order by name`)
}

// Cluster finds a cluster by name or id.
func (c *Catalog) Cluster(ctx context.Context, nameOrID string) (Cluster, error) {
	var k Cluster
	return k, c.get(ctx, &k, `select `+clusterColumns+` from velvet.clusters where name = $1 or id = $1`, `select id from velvet.clusters`, nameOrID, "cluster", "List the clusters with: velvet cluster list")
}

// SetCopiesUser says as which OS user a cluster's copies run.
func (c *Catalog) SetCopiesUser(ctx context.Context, cluster, user string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set copies_user = $2 where id = $1`, cluster, user)
	return err
}

// WantSecondStore says whether a cluster is copied to the second store.
func (c *Catalog) WantSecondStore(ctx context.Context, cluster string, wanted bool) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set second_store = $2 where id = $1`, cluster, wanted)
	return err
}

// Growth is what was stored in a stretch of time.
type Growth struct {
	ClusterID string    `db:"cluster_id"`
	At        time.Time `db:"at"` // when the stretch began
	Backups   int64     `db:"backups"`
	WAL       int64     `db:"wal"`
}

// Growths tells how many bytes of backups and WAL that are still kept were stored in
// each stretch of a number of seconds, oldest first.
func (c *Catalog) Growths(ctx context.Context, seconds int64) ([]Growth, error) {
	var list []Growth
	return list, c.db.SelectContext(ctx, &list, `select cluster_id, to_timestamp(slot * $1::bigint) as at, sum(backups)::bigint as backups, sum(wal)::bigint as wal from (
			select cluster_id, floor(extract(epoch from stopped_at) / $1::bigint)::bigint as slot, bytes_stored as backups, 0 as wal from velvet.backups where dropped_at is null
			union all select cluster_id, floor(extract(epoch from stored_at) / $1::bigint)::bigint, 0, stored_bytes from velvet.segments) s
		group by cluster_id, slot order by slot, cluster_id`, seconds)
}

// RemoveCluster forgets a cluster that has neither backups nor copies.
func (c *Catalog) RemoveCluster(ctx context.Context, id string) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, q := range []string{
		`delete from velvet.proofs where cluster_id = $1`,
		`delete from velvet.copies where cluster_id = $1 and state = '` + CopyDiscarded + `'`,
		`delete from velvet.backups where cluster_id = $1 and dropped_at is not null`,
		`delete from velvet.clusters where id = $1`,
	} {
		if _, err := tx.ExecContext(ctx, q, id); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Removed is a cluster that was removed and whose part of the store is to be deleted.
type Removed struct {
	ID        string    `db:"id"`
	Name      string    `db:"name"`
	RemovedAt time.Time `db:"removed_at"`
}

// NoteRemoved has a cluster's part of the store be deleted once it has waited long enough.
func (c *Catalog) NoteRemoved(ctx context.Context, k Cluster) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.removed_clusters (id, name) values ($1, $2) on conflict (id) do update set removed_at = now(), look_at = null`, k.ID, k.Name)
	return err
}

// RemovedClusters lists them; those that were registered again are forgotten.
func (c *Catalog) RemovedClusters(ctx context.Context) ([]Removed, error) {
	if _, err := c.db.ExecContext(ctx, `delete from velvet.removed_clusters where id in (select id from velvet.clusters)`); err != nil {
		return nil, err
	}
	var list []Removed
	return list, c.db.SelectContext(ctx, &list, `select id, name, removed_at from velvet.removed_clusters order by removed_at`)
}

// RemovedToLookAt lists those that may have waited long enough.
func (c *Catalog) RemovedToLookAt(ctx context.Context) ([]Removed, error) {
	var list []Removed
	return list, c.db.SelectContext(ctx, &list, `select id, name, removed_at from velvet.removed_clusters where coalesce(look_at <= now(), true) order by removed_at`)
}

// LookAtRemoved notes when to look at a removed cluster again.
func (c *Catalog) LookAtRemoved(ctx context.Context, id string, at time.Time) error {
	_, err := c.db.ExecContext(ctx, `update velvet.removed_clusters set look_at = $2 where id = $1`, id, at)
	return err
}

// ForgetRemoved notes that nothing of a removed cluster is left.
func (c *Catalog) ForgetRemoved(ctx context.Context, id string) error {
	_, err := c.db.ExecContext(ctx, `delete from velvet.removed_clusters where id = $1`, id)
	return err
}

// ForgetCluster removes every record of a cluster, also of its base backups, which stay
// in the store.
func (c *Catalog) ForgetCluster(ctx context.Context, id string) error {
	if _, err := c.db.ExecContext(ctx, `delete from velvet.backups where cluster_id = $1`, id); err != nil {
		return err
	}
	return c.RemoveCluster(ctx, id)
}

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

// SetLogin records how a cluster is reached.
func (c *Catalog) SetLogin(ctx context.Context, k Cluster) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set conn_string = $2, password_sealed = $3, replication_user = $4, replication_sealed = $5, host = $6 where id = $1`,
		k.ID, k.ConnString, k.PasswordSealed, k.ReplicationUser, k.ReplicationSealed, hostOf(k.ConnString))
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
	_, err := c.db.ExecContext(ctx, `update velvet.captures set asked_lsn = greatest(asked_lsn, $2::pg_lsn) where cluster_id = $1`, cluster, to.String())
	return err
}

// StoredTo tells whether the segment that ends with the bytes before an LSN is in the store so far.
func (c *Catalog) StoredTo(ctx context.Context, k Cluster, t pg.Timeline, to pg.LSN) (is bool, err error) {
	return is, c.db.GetContext(ctx, &is, `select exists (select from velvet.segments where cluster_id = $1 and timeline = $2 and number = $3 and end_lsn >= $4::pg_lsn)`,
		k.ID, int64(t), int64(k.SegmentSize.Number(to-1)), to.String())
}

// StepBack has a capture be complete only to what is in the store before an LSN, if it had more of that
// timeline. It tells whether that was so, and to what time it is complete then.
func (c *Catalog) StepBack(ctx context.Context, cluster string, t pg.Timeline, at pg.LSN) (lowered bool, complete sql.NullTime, err error) {
	err = c.db.GetContext(ctx, &complete, `update velvet.captures set flushed_lsn = $3::pg_lsn, received_lsn = $3::pg_lsn, complete_to = least(complete_to,
			(select max(s.last_commit) from velvet.segments s where s.cluster_id = $1 and s.timeline <= $2 and s.end_lsn <= $3::pg_lsn))
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
		spooled = $10, retained = $11, room = $12, clock_ahead_us = $13, readable_to = $14::pg_lsn
		where cluster_id = $1`,
		k.ClusterID, k.State, k.Problem, int64(k.Timeline), lsn(k.ReceivedLSN), lsn(k.FlushedLSN), lsn(k.StoredLSN), lsn(k.ServerLSN), k.CompleteTo,
		k.Spooled, k.Retained, k.Room, k.ClockAhead, lsn(k.ReadableTo))
	return err
}

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
		s.ClusterID, int64(s.Timeline), int64(s.Number), s.Name, startLSN(s.Start), s.End.String(), s.StoredBytes, s.Records, s.LastCommit, s.Unreadable)
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
			values ($1, $2, $3, $3, $4::pg_lsn, $5::pg_lsn, $6)`, s.ClusterID, int64(s.Timeline), int64(s.Number), startLSN(s.Start), s.End.String(), s.LastCommit)
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
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.runs where cluster_id = $1 or $1 = '' order by cluster_id, timeline, first`, cluster)
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
		from velvet.segments where cluster_id = $1 and timeline = $2 and number = $3`, cluster, int64(seg.Timeline), int64(seg.Number)).Scan(&there, &read)
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
		values ($1, $2, $3, $4::pg_lsn, $5) on conflict do nothing`, t.ClusterID, int64(t.Timeline), int64(t.Parent), t.ForkedAt.String(), t.History)
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
