package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/engine/problem"
)

// Backup is a complete base backup.
type Backup struct {
	ID          string          `db:"id"`
	ClusterID   string          `db:"cluster_id"`
	Kind        string          `db:"kind"`
	Timeline    pg.Timeline     `db:"timeline"`
	Start       pg.LSN          `db:"start_lsn"`
	Stop        pg.LSN          `db:"stop_lsn"`
	StartedAt   time.Time       `db:"started_at"`
	StoppedAt   time.Time       `db:"stopped_at"`
	Files       int64           `db:"files"`
	BytesRead   int64           `db:"bytes_read"`
	BytesStored int64           `db:"bytes_stored"`
	Pages       int64           `db:"pages"`
	PageFaults  int64           `db:"page_faults"`
	Tablespaces json.RawMessage `db:"tablespaces"` // []layout.TablespaceEntry
	TaskID      string          `db:"task_id"`
	DroppedAt   sql.NullTime    `db:"dropped_at"`
}

// AddBackup records a backup whose manifest is in the store; again is no error.
func (c *Catalog) AddBackup(ctx context.Context, b Backup) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.backups
		(id, cluster_id, kind, timeline, start_lsn, stop_lsn, started_at, stopped_at, files, bytes_read, bytes_stored, pages, page_faults, tablespaces, task_id)
		values ($1, $2, $3, $4, $5::pg_lsn, $6::pg_lsn, $7, $8, $9, $10, $11, $12, $13, $14, $15) on conflict (id) do nothing`,
		b.ID, b.ClusterID, b.Kind, int64(b.Timeline), lsn(b.Start), lsn(b.Stop), b.StartedAt, b.StoppedAt,
		b.Files, b.BytesRead, b.BytesStored, b.Pages, b.PageFaults, string(b.Tablespaces), b.TaskID)
	return err
}

// Backups lists the backups of a cluster, newest first; of all clusters when cluster is "".
func (c *Catalog) Backups(ctx context.Context, cluster string) ([]Backup, error) {
	var list []Backup
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.backups where (cluster_id = $1 or $1 = '') and dropped_at is null order by stopped_at desc`, cluster)
}

// Backup finds a backup by its id.
func (c *Catalog) Backup(ctx context.Context, id string) (Backup, error) {
	var b Backup
	err := c.db.GetContext(ctx, &b, `select * from velvet.backups where id = $1 and dropped_at is null`, id)
	return b, found(err, "base backup", id, "List the backups with: velvet backup list")
}

// DropBackup notes that a backup is let go, so that nobody begins to use it any more. It
// is refused while a copy is laid out from it.
func (c *Catalog) DropBackup(ctx context.Context, id string) error {
	r, err := c.db.ExecContext(ctx, `update velvet.backups set dropped_at = now() where id = $1 and dropped_at is null
		and not exists (select from velvet.copies where backup_id = $1 and state = $2)`, id, CopyLayingOut)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return problem.New(problem.Conflict, "See: velvet copy list", "the base backup was not dropped", "a copy is being laid out from it, or it has been dropped already")
}

// States of a copy.
const (
	CopyLayingOut = "laying out"
	CopyReplaying = "replaying"
	CopyPaused    = "paused" // at its moment, read-only
	CopyOpen      = "open"   // on a timeline of its own, writable
	CopyDown      = "down"   // its server is not running
	CopyDiscarded = "discarded"
)

// Copy is a restored cluster that we run.
type Copy struct {
	ID          string          `db:"id"`
	ClusterID   string          `db:"cluster_id"`
	BackupID    string          `db:"backup_id"`
	Moment      string          `db:"moment"`
	Plan        json.RawMessage `db:"plan"` // plan.Restore
	Directory   string          `db:"directory"`
	Socket      string          `db:"socket"`
	Port        int             `db:"port"`
	State       string          `db:"state"`
	Problem     string          `db:"problem"`
	ReplayedLSN pg.LSN          `db:"replayed_lsn"`
	ReplayedTo  sql.NullTime    `db:"replayed_to"`
	PausedLSN   pg.LSN          `db:"paused_lsn"`
	CreatedAt   time.Time       `db:"created_at"`
	TaskID      string          `db:"task_id"`
}

// AddCopy records a copy that is about to be made.
func (c *Catalog) AddCopy(ctx context.Context, k Copy) error {
	r, err := c.db.ExecContext(ctx, `insert into velvet.copies
		(id, cluster_id, backup_id, moment, plan, directory, socket, port, state, task_id)
		select $1, $2, id, $4, $5, $6, $7, $8, $9, '' from velvet.backups where id = $3 and dropped_at is null for share`,
		k.ID, k.ClusterID, k.BackupID, k.Moment, string(k.Plan), k.Directory, k.Socket, k.Port, k.State)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return problem.New(problem.Conflict, "Plan it again.", "the copy was not made", "the base backup %s has been dropped meanwhile", k.BackupID)
}

// SetCopyTask notes which task makes a copy.
func (c *Catalog) SetCopyTask(ctx context.Context, copyID, task string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.copies set task_id = $2 where id = $1`, copyID, task)
	return err
}

// SaveCopy writes the state of a copy; a zero LSN or time stays as it was.
func (c *Catalog) SaveCopy(ctx context.Context, k Copy) error {
	_, err := c.db.ExecContext(ctx, `update velvet.copies set state = $2, problem = $3, socket = $4,
		replayed_lsn = coalesce($5::pg_lsn, replayed_lsn), replayed_to = coalesce($6::timestamptz, replayed_to),
		paused_lsn = coalesce($7::pg_lsn, paused_lsn) where id = $1`,
		k.ID, k.State, k.Problem, k.Socket, lsn(k.ReplayedLSN), k.ReplayedTo, lsn(k.PausedLSN))
	return err
}

// Copies lists the copies that still exist, newest first; of all clusters when cluster is "".
func (c *Catalog) Copies(ctx context.Context, cluster string) ([]Copy, error) {
	var list []Copy
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.copies
		where (cluster_id = $1 or $1 = '') and state <> $2 order by created_at desc`, cluster, CopyDiscarded)
}

// Copy finds a copy by its id.
func (c *Catalog) Copy(ctx context.Context, id string) (Copy, error) {
	var k Copy
	err := c.db.GetContext(ctx, &k, `select * from velvet.copies where id = $1`, id)
	return k, found(err, "copy", id, "List the copies with: velvet copy list")
}

// Proof is the verdict on a copy.
type Proof struct {
	ID         string          `db:"id"`
	CopyID     string          `db:"copy_id"`
	ClusterID  string          `db:"cluster_id"`
	Moment     string          `db:"moment"`
	Verdict    string          `db:"verdict"`
	Checks     json.RawMessage `db:"checks"` // []proof.Check
	StartedAt  time.Time       `db:"started_at"`
	FinishedAt time.Time       `db:"finished_at"`
	TaskID     string          `db:"task_id"`
}

// AddProof records a proof.
func (c *Catalog) AddProof(ctx context.Context, p Proof) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.proofs
		(id, copy_id, cluster_id, moment, verdict, checks, started_at, finished_at, task_id)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
		p.ID, p.CopyID, p.ClusterID, p.Moment, p.Verdict, string(p.Checks), p.StartedAt, p.FinishedAt, p.TaskID)
	return err
}

// Proofs lists proofs, newest first, of one cluster or one copy.
func (c *Catalog) Proofs(ctx context.Context, clusterOrCopy string) ([]Proof, error) {
	var list []Proof
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.proofs where cluster_id = $1 or copy_id = $1 order by finished_at desc`, clusterOrCopy)
}

// Proof finds a proof by its id, or the newest one of a copy by the copy's.
func (c *Catalog) Proof(ctx context.Context, id string) (Proof, error) {
	var p Proof
	err := c.db.GetContext(ctx, &p, `select * from velvet.proofs where id = $1 or copy_id = $1 order by finished_at desc limit 1`, id)
	return p, found(err, "proof", id, "Prove a copy with: velvet prove run COPY")
}
