package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"velvetrewind/core/partial"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
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
	Gone        bool            `db:"gone"` // for good
	Beside      string          `db:"beside"`
	BytesHeld   int64           `db:"bytes_held"`
	BytesShared int64           `db:"bytes_shared"`
	Extents     int64           `db:"extents"`
	NewExtents  int64           `db:"new_extents"`
	ZeroExtents int64           `db:"zero_extents"`
	Damaged     json.RawMessage `db:"damaged"` // []layout.DamagedPage
}

// AddBackup records a backup whose manifest is in the store; again is no error.
func (c *Catalog) AddBackup(ctx context.Context, b Backup) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.backups
		(id, cluster_id, kind, timeline, start_lsn, stop_lsn, started_at, stopped_at, files, bytes_read, bytes_stored, pages, page_faults,
		tablespaces, task_id,
		beside, bytes_held, bytes_shared, extents, new_extents, zero_extents, damaged)
		values ($1, $2, $3, $4, $5::pg_lsn, $6::pg_lsn, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20, $21,
		coalesce($22::jsonb, '[]')) on conflict (id) do nothing`,
		b.ID, b.ClusterID, b.Kind, int64(b.Timeline), lsn(b.Start), lsn(b.Stop), b.StartedAt, b.StoppedAt,
		b.Files, b.BytesRead, b.BytesStored, b.Pages, b.PageFaults, string(b.Tablespaces), b.TaskID,
		b.Beside, b.BytesHeld, b.BytesShared, b.Extents, b.NewExtents, b.ZeroExtents, textOrNull(b.Damaged))
	return err
}

// Backups lists the backups of a cluster, newest first; of all clusters when cluster is "".
func (c *Catalog) Backups(ctx context.Context, cluster string) ([]Backup, error) {
	var list []Backup
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.backups where (cluster_id = $1 or $1 = '') and dropped_at is null
		order by stopped_at desc`, cluster)
}

// BackupsTaken lists the backups of a cluster, or of all when cluster is "", that were
// complete since a time, oldest first, also those that were deleted since.
func (c *Catalog) BackupsTaken(ctx context.Context, cluster string, since time.Time) ([]Backup, error) {
	var list []Backup
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.backups where (cluster_id = $1 or $1 = '') and stopped_at >= $2
		order by stopped_at`, cluster, since)
}

// Backup finds a backup by its id.
func (c *Catalog) Backup(ctx context.Context, id string) (Backup, error) {
	var b Backup
	return b, c.get(ctx, &b, `select * from velvet.backups where id = $1 and dropped_at is null`,
		`select id from velvet.backups where dropped_at is null`, id, "base backup", "List the backups with: velvet backup list CLUSTER")
}

// DropBackup notes that a backup is deleted, so that nobody begins to use it any more. It
// is refused while a copy is laid out from it.
func (c *Catalog) DropBackup(ctx context.Context, id string) error {
	r, err := c.db.ExecContext(ctx, `with gone as (update velvet.backups set dropped_at = now() where id = $1 and dropped_at is null
		and not exists (select from velvet.copies where backup_id = $1 and state = $2) returning cluster_id)
		update velvet.clusters set tidy_due = true, tidy_after = null where id in (select cluster_id from gone)`, id, CopyLayingOut)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return problem.New(problem.Conflict, "See: velvet copy list", "the base backup was not dropped",
		"a copy is being laid out from it, or it has been dropped already")
}

// Dropped lists the ids of a cluster's backups that were deleted.
func (c *Catalog) Dropped(ctx context.Context, cluster string) ([]string, error) {
	var list []string
	return list, c.db.SelectContext(ctx, &list, `select id from velvet.backups where cluster_id = $1 and dropped_at is not null`, cluster)
}

// SetTidyDue notes whether a cluster's part of the store holds what no base backup needs, and when to look
// at it again; zero is at once.
func (c *Catalog) SetTidyDue(ctx context.Context, cluster string, due bool, after time.Time) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set tidy_due = $2, tidy_after = $3 where id = $1`, cluster, due,
		sql.NullTime{Time: after, Valid: !after.IsZero()})
	return err
}

// MarkGone notes that a dropped backup is about to be deleted for good. It is false if it was taken back.
func (c *Catalog) MarkGone(ctx context.Context, id string) (bool, error) {
	return c.changed(ctx, `update velvet.backups set gone = true where id = $1 and dropped_at is not null`, id)
}

// changed tells whether a statement has found a row to change.
func (c *Catalog) changed(ctx context.Context, query string, args ...any) (bool, error) {
	r, err := c.db.ExecContext(ctx, query, args...)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
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
	Name        string          `db:"name"` // short; no other copy that stands has it
	ClusterID   string          `db:"cluster_id"`
	BackupID    string          `db:"backup_id"`
	Moment      string          `db:"moment"`
	Plan        json.RawMessage `db:"plan"` // plan.Restore
	Directory   string          `db:"directory"`
	Socket      string          `db:"socket"`
	Port        int             `db:"port"`
	OSUser      string          `db:"os_user"` // "" is the service's choice
	Host        string          `db:"host_id"` // on which it is; "" is the service's own
	State       string          `db:"state"`
	Problem     string          `db:"problem"`
	ReplayedLSN pg.LSN          `db:"replayed_lsn"`
	ReplayedTo  sql.NullTime    `db:"replayed_to"`
	PausedLSN   pg.LSN          `db:"paused_lsn"`
	CreatedAt   time.Time       `db:"created_at"`
	TaskID      string          `db:"task_id"`
	Moves       int             `db:"moves"` // how often it has been moved to another moment
	// Over says that it was laid over the original's own files, of which nothing else is left.
	Over bool `db:"over"`
	// Partial is partial.Spec, an empty one for a whole copy.
	Partial json.RawMessage `db:"partial"`
	// Beside is the copy for whose proof it was made, and with which it goes; nobody is shown it.
	Beside string `db:"beside"`
	// When it was begun, laid out, and had come to its moment, since it was last moved.
	BegunAt   sql.NullTime `db:"begun_at"`
	LaidOutAt sql.NullTime `db:"laid_out_at"`
	ArrivedAt sql.NullTime `db:"arrived_at"`
}

// Complete tells whether a copy has come to its moment since it was last moved.
func (k Copy) Complete() bool {
	return k.ArrivedAt.Valid || !k.BegunAt.Valid // of an earlier version of this program
}

// Part is what a partial copy holds; nil of a whole one.
func (k Copy) Part() (*partial.Spec, error) {
	if len(k.Partial) == 0 {
		return nil, nil
	}
	s := new(partial.Spec)
	if err := json.Unmarshal(k.Partial, s); err != nil || s.Database == "" {
		return nil, err
	}
	return s, nil
}

// Place names where a copy is put, until it is moved.
func (k Copy) Place() string { return fmt.Sprintf("%s#%d", k.ID, k.Moves) }

// AddCopy records a copy that is about to be made, unless its base or any of the WAL that
// it will replay has been deleted since it was planned.
func (c *Catalog) AddCopy(ctx context.Context, k Copy, replays []Stretch) error {
	return c.placeCopy(ctx, k, replays, "the copy was not made", func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `insert into velvet.copies
			(id, name, cluster_id, backup_id, moment, plan, directory, socket, port, state, os_user, host_id, task_id, beside, over,
			partial, begun_at)
			values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15,
			coalesce($16::jsonb, '{}'), now())`,
			k.ID, k.Name, k.ClusterID, k.BackupID, k.Moment, string(k.Plan), k.Directory, k.Socket, k.Port, k.State, k.OSUser,
			k.Host, k.TaskID, k.Beside, k.Over, textOrNull(k.Partial))
		if violates(err, "copy_names") {
			return problem.New(problem.Conflict, "Choose another with --name, or leave it out.", "the copy was not made",
				"there is a copy named %q already", k.Name)
		}
		return err
	})
}

// MoveCopy records that a paused copy is about to be made anew, by a task at another moment,
// unless what that needs has been deleted since it was planned.
func (c *Catalog) MoveCopy(ctx context.Context, k Copy, replays []Stretch) error {
	const title = "the copy was not moved"
	return c.placeCopy(ctx, k, replays, title, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `update velvet.copies set backup_id = $2, moment = $3, plan = $4, state = $5, task_id = $6,
			moves = moves + 1,
			replayed_lsn = null, replayed_to = null, paused_lsn = null, begun_at = now(), laid_out_at = null, arrived_at = null where id
				= $1 and state in ($7, $8)`,
			k.ID, k.BackupID, k.Moment, string(k.Plan), k.State, k.TaskID, CopyPaused, CopyDown)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n > 0 {
			return err
		}
		return problem.New(problem.Conflict, "See: velvet copy show "+k.ID, title, "it is neither paused nor down any more")
	})
}

// placeCopy writes a copy's record while its base and the WAL that it will replay cannot be deleted.
func (c *Catalog) placeCopy(ctx context.Context, k Copy, replays []Stretch, title string, write func(*sqlx.Tx) error) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, `select from velvet.clusters where id = $1 for share`, k.ClusterID); err != nil {
		return err
	}
	var base []string
	if err := tx.SelectContext(ctx, &base, `select id from velvet.backups where id = $1 and dropped_at is null for share`,
		k.BackupID); err != nil {
		return err
	}
	if len(base) == 0 {
		return problem.New(problem.Conflict, "Plan it again.", title, "the base backup %s has been dropped meanwhile", k.BackupID)
	}
	for _, s := range replays {
		var gone bool
		err := tx.GetContext(ctx, &gone, `select exists (select from velvet.released
			where cluster_id = $1 and timeline = $2 and first <= $4 and last >= $3)`,
			k.ClusterID, int64(s.Timeline), int64(s.First), int64(s.Last))
		if err != nil {
			return err
		}
		if gone {
			return problem.New(problem.Conflict, "Plan it again.", title, "WAL that it would replay has been deleted meanwhile")
		}
	}
	if err := write(tx); err != nil {
		return err
	}
	return tx.Commit()
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
		paused_lsn = coalesce($7::pg_lsn, paused_lsn),
		laid_out_at = case when $2 = '`+CopyReplaying+`' then coalesce(laid_out_at, now()) else laid_out_at end,
		arrived_at = case when $2 = '`+CopyPaused+`' then coalesce(arrived_at, now()) else arrived_at end where id = $1`,
		k.ID, k.State, k.Problem, k.Socket, lsn(k.ReplayedLSN), k.ReplayedTo, lsn(k.PausedLSN))
	return err
}

// MakeWhole records that a copy that was to be partial becomes a whole one.
func (c *Catalog) MakeWhole(ctx context.Context, id string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.copies set partial = '{}', laid_out_at = null, replayed_lsn = null, replayed_to = null
		where id = $1`, id)
	return err
}

// Copies lists the copies that still exist, newest first; of all clusters when cluster is "". Those of proofs are among them.
func (c *Catalog) Copies(ctx context.Context, cluster string) ([]Copy, error) {
	var list []Copy
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.copies
		where (cluster_id = $1 or $1 = '') and state <> $2 order by created_at desc`, cluster, CopyDiscarded)
}

// Copy finds a copy by its id, or one that stands by its name.
func (c *Catalog) Copy(ctx context.Context, nameOrID string) (Copy, error) {
	var k Copy
	return k, c.get(ctx, &k, `select * from velvet.copies where id = $1 or name = $1 and state <> '`+CopyDiscarded+`'`,
		`select id from velvet.copies`, nameOrID, "copy", "List the copies with: velvet copy list")
}

// FreeCopyName makes a short name for a copy that is about to be made: the cluster's, and a number.
func (c *Catalog) FreeCopyName(ctx context.Context, k Cluster) (string, error) {
	var name string
	err := c.db.GetContext(ctx, &name, `select $1 || '-' || n from generate_series((select count(*) + 1 from velvet.copies
		where cluster_id = $2 and beside = ''),
		(select 2 * count(*) + 2 from velvet.copies)) n where not exists (select from velvet.copies
		where name = $1 || '-' || n and state <> $3) order by n limit 1`,
		k.Name, k.ID, CopyDiscarded)
	return name, err
}

// BackupAndCluster finds a backup and the cluster that it is of.
func (c *Catalog) BackupAndCluster(ctx context.Context, id string) (b Backup, k Cluster, err error) {
	if b, err = c.Backup(ctx, id); err != nil {
		return b, k, err
	}
	k, err = c.Cluster(ctx, b.ClusterID)
	return b, k, err
}

// CopyAndCluster finds a copy and the cluster that it is of.
func (c *Catalog) CopyAndCluster(ctx context.Context, nameOrID string) (k Copy, of Cluster, err error) {
	if k, err = c.Copy(ctx, nameOrID); err != nil {
		return k, of, err
	}
	of, err = c.Cluster(ctx, k.ClusterID)
	return k, of, err
}
