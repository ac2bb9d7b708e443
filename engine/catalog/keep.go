package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"velvetrewind/core/keep"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
)

// KeepRule is the rule that was set for the cluster; ok is false if none was.
func (c Cluster) KeepRule() (r keep.Rule, ok bool, err error) {
	if c.KeepSet == nil {
		return r, false, nil
	}
	return r, true, json.Unmarshal(*c.KeepSet, &r)
}

// SetKeepRule sets a cluster's own rule; nil takes it away.
func (c *Catalog) SetKeepRule(ctx context.Context, cluster string, r *keep.Rule) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set keep_rule = $2 where id = $1`, cluster, jsonOrNull(r))
	return err
}

// jsonOrNull encodes what is there.
func jsonOrNull[T any](v *T) any {
	if v == nil {
		return nil
	}
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain structs of ours
	}
	return string(b)
}

// textOrNull passes JSON that may be missing.
func textOrNull(m json.RawMessage) any {
	if len(m) == 0 {
		return nil
	}
	return string(m)
}

// Pin keeps a base backup whatever the rule says.
type Pin struct {
	BackupID string       `db:"backup_id"`
	Reason   string       `db:"reason"`
	Until    sql.NullTime `db:"until"`
	PinnedAt time.Time    `db:"pinned_at"`
}

// SetPin pins a backup that has not been dropped; a pin that it has is replaced.
func (c *Catalog) SetPin(ctx context.Context, p Pin) error {
	r, err := c.db.ExecContext(ctx, `insert into velvet.pins (backup_id, reason, until)
		select id, $2, $3 from velvet.backups where id = $1 and dropped_at is null for share
		on conflict (backup_id) do update set reason = excluded.reason, until = excluded.until,
		pinned_at = now()`, p.BackupID, p.Reason, p.Until)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return found(sql.ErrNoRows, "base backup", p.BackupID,
		"It may have been deleted. List those there are with: velvet backup list CLUSTER")
}

// RemovePin takes the pin off a backup.
func (c *Catalog) RemovePin(ctx context.Context, backup string) error {
	r, err := c.db.ExecContext(ctx, `delete from velvet.pins where backup_id = $1`, backup)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return found(sql.ErrNoRows, "pin", backup, "See: velvet keep show CLUSTER")
}

// Pins lists the pins on a cluster's backups.
func (c *Catalog) Pins(ctx context.Context, cluster string) ([]Pin, error) {
	var list []Pin
	return list, c.db.SelectContext(ctx, &list, `select p.* from velvet.pins p join velvet.backups b on b.id = p.backup_id
		where b.cluster_id = $1 and b.dropped_at is null order by p.pinned_at`, cluster)
}

// Stretch is segments of a timeline, both numbers included.
type Stretch struct {
	Timeline pg.Timeline `db:"timeline" json:"timeline"`
	First    uint64      `db:"first" json:"first"`
	Last     uint64      `db:"last" json:"last"`
}

// Released is WAL that was deleted.
type Released struct {
	Stretch
	ReleasedAt time.Time `db:"released_at"`
	Tidied     bool      `db:"tidied"` // its objects are gone
	Going      bool      `db:"going"`  // they are being deleted: there is no way back
}

// Released lists the WAL of a cluster that was deleted.
func (c *Catalog) Released(ctx context.Context, cluster string) ([]Released, error) {
	var list []Released
	return list, c.db.SelectContext(ctx, &list, `select timeline, first, last, released_at, tidied, going from velvet.released
		where cluster_id = $1 order by timeline, first`, cluster)
}

// ReleasedSince tells whether anything of a cluster was deleted since a time.
func (c *Catalog) ReleasedSince(ctx context.Context, cluster string, since time.Time) (any bool, err error) {
	return any, c.db.GetContext(ctx, &any, `select exists (select from velvet.released where cluster_id = $1 and released_at >= $2)
		or exists (select from velvet.backups where cluster_id = $1 and dropped_at >= $2)`, cluster, since)
}

// Tidied notes that the objects of released WAL are gone.
func (c *Catalog) Tidied(ctx context.Context, cluster string, s Stretch) error {
	_, err := c.db.ExecContext(ctx, `with gone as (update velvet.released set tidied = true
		where cluster_id = $1 and timeline = $2 and first = $3 and last = $4)
		delete from velvet.deleted_segments where cluster_id = $1 and timeline = $2 and number between $3 and $4`,
		cluster, int64(s.Timeline), int64(s.First), int64(s.Last))
	return err
}

// MarkGoing notes that the objects of released WAL are about to be deleted. It is false if it was taken back.
func (c *Catalog) MarkGoing(ctx context.Context, cluster string, s Stretch) (bool, error) {
	return c.changed(ctx, `update velvet.released set going = true where cluster_id = $1 and timeline = $2 and first = $3 and last = $4
		and not tidied`,
		cluster, int64(s.Timeline), int64(s.First), int64(s.Last))
}

// WaitFor notes when to look again at released WAL that waits.
func (c *Catalog) WaitFor(ctx context.Context, cluster string, at time.Time) error {
	_, err := c.db.ExecContext(ctx, `update velvet.released set due_at = $2 where cluster_id = $1 and not tidied and not going`, cluster,
		at)
	return err
}

// LookAgain has everything be looked at that waits to be deleted, for the delay may be another now.
func (c *Catalog) LookAgain(ctx context.Context) error {
	for _, q := range []string{
		`update velvet.clusters set tidy_after = null where tidy_after is not null`,
		`update velvet.released set due_at = null where due_at is not null`,
		`update velvet.removed_clusters set look_at = null where look_at is not null`,
	} {
		if _, err := c.db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// Pending is what was deleted of a cluster and is not gone yet.
type Pending struct {
	Backups  []PendingBackup
	Segments int64
	Bytes    int64        // of WAL
	Since    sql.NullTime // when the oldest of the WAL was deleted
}

// PendingBackup is a base backup that was deleted and is not gone yet.
type PendingBackup struct {
	ID        string    `db:"id"`
	StoppedAt time.Time `db:"stopped_at"`
	DroppedAt time.Time `db:"dropped_at"`
}

// Pending tells what can be taken back.
func (c *Catalog) Pending(ctx context.Context, cluster string) (p Pending, err error) {
	if err := c.db.SelectContext(ctx, &p.Backups, `select id, stopped_at, dropped_at from velvet.backups
		where cluster_id = $1 and dropped_at is not null and not gone order by stopped_at`, cluster); err != nil {
		return p, err
	}
	row := c.db.QueryRowxContext(ctx, `select count(*), coalesce(sum(d.stored_bytes), 0)::bigint, min(r.released_at)
		from velvet.deleted_segments d join velvet.released r
		on r.cluster_id = d.cluster_id and r.timeline = d.timeline and d.number between r.first and r.last
		where d.cluster_id = $1 and not r.going and not r.tidied`, cluster)
	return p, row.Scan(&p.Segments, &p.Bytes, &p.Since)
}

// Undelete takes back what was deleted of a cluster and is not gone yet.
func (c *Catalog) Undelete(ctx context.Context, cluster string) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, q := range []string{
		`select from velvet.clusters where id = $1 for update`,
		`update velvet.backups set dropped_at = null where cluster_id = $1 and dropped_at is not null and not gone`,
		`with back as (delete from velvet.released where cluster_id = $1 and not going and not tidied returning *),
			there as (delete from velvet.deleted_segments d using back b where d.cluster_id = b.cluster_id and d.timeline = b.timeline
			and d.number between b.first and b.last returning d.*)
			insert into velvet.segments select * from there on conflict do nothing`,
	} {
		if _, err := tx.ExecContext(ctx, q, cluster); err != nil {
			return err
		}
	}
	if err := joinRuns(ctx, tx, cluster); err != nil {
		return err
	}
	return tx.Commit()
}

// HasSegments tells whether any segment of a stretch is recorded.
func (c *Catalog) HasSegments(ctx context.Context, cluster string, s Stretch) (any bool, err error) {
	return any, c.db.GetContext(ctx, &any, `select exists (select from velvet.segments
		where cluster_id = $1 and timeline = $2 and number between $3 and $4)`,
		cluster, int64(s.Timeline), int64(s.First), int64(s.Last))
}

// StoredBytes adds up what stretches of WAL take in the store.
func (c *Catalog) StoredBytes(ctx context.Context, cluster string, stretches []Stretch) (total int64, err error) {
	for _, s := range stretches {
		var n int64
		err := c.db.GetContext(ctx, &n, `select coalesce(sum(stored_bytes), 0) from velvet.segments
			where cluster_id = $1 and timeline = $2 and number between $3
			and $4`, cluster, int64(s.Timeline), int64(s.First), int64(s.Last))
		if err != nil {
			return 0, err
		}
		total += n
	}
	return total, nil
}

// Release deletes base backups and WAL, in the catalogue, all at once or not at all:
// from then on no restore is planned through them. It is refused if a copy was made or
// moved to a place that is none of those known, for it may need any of it, or if a backup
// has a pin that holds at the time for which that was decided.
func (c *Catalog) Release(ctx context.Context, cluster string, backups []string, stretches []Stretch, places []string, at time.Time) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, `select from velvet.clusters where id = $1 for update`, cluster); err != nil {
		return err
	}
	var used []string
	if err := tx.SelectContext(ctx, &used, `select id from velvet.copies where cluster_id = $1 and id || '#' || moves <> all($2)
		and state not in ($3, $4)`, cluster, places, CopyOpen, CopyDiscarded); err != nil {
		return err
	}
	if len(used) > 0 {
		return problem.New(problem.Conflict, "Preview it again.", "nothing was deleted",
			"copy %s was begun or moved meanwhile and may need what would be deleted", used[0])
	}
	// A pin is set with a share of the backup's row, so that it is there now or finds it gone.
	if _, err := tx.ExecContext(ctx, `select from velvet.backups where id = any($1) order by id for update`, backups); err != nil {
		return err
	}
	var pinned []string
	if err := tx.SelectContext(ctx, &pinned, `select backup_id from velvet.pins where backup_id = any($1) and (until is null
		or until > $2)`, backups, at); err != nil {
		return err
	}
	if len(pinned) > 0 {
		return problem.New(problem.Conflict, "Preview it again.", "nothing was deleted", "base %s was pinned meanwhile", pinned[0])
	}
	if _, err := tx.ExecContext(ctx, `update velvet.backups set dropped_at = now() where id = any($1) and dropped_at is null`,
		backups); err != nil {
		return err
	}
	for _, s := range stretches {
		if err := releaseStretch(ctx, tx, cluster, s); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `update velvet.clusters set tidy_due = true, tidy_after = null where id = $1`, cluster); err != nil {
		return err
	}
	if err := joinRuns(ctx, tx, cluster); err != nil {
		return err
	}
	return tx.Commit()
}

func releaseStretch(ctx context.Context, tx *sqlx.Tx, cluster string, s Stretch) error {
	_, err := tx.ExecContext(ctx, `insert into velvet.released (cluster_id, timeline, first, last) values ($1, $2, $3, $4)
		on conflict (cluster_id, timeline, first) do update set last = greatest(velvet.released.last, excluded.last), released_at = now(),
		tidied = false, going = false, due_at = null`,
		cluster, int64(s.Timeline), int64(s.First), int64(s.Last))
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `with deleted as (delete from velvet.segments where cluster_id = $1 and timeline = $2 and number between $3
		and $4 returning *)
		insert into velvet.deleted_segments select * from deleted`,
		cluster, int64(s.Timeline), int64(s.First), int64(s.Last))
	return err
}

// joinRuns makes a cluster's runs anew from its segments.
func joinRuns(ctx context.Context, tx *sqlx.Tx, cluster string) error {
	if _, err := tx.ExecContext(ctx, `delete from velvet.runs where cluster_id = $1`, cluster); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `insert into velvet.runs (cluster_id, timeline, first, last, start_lsn, end_lsn, last_commit)
		select $1, timeline, min(number), max(number), min(start_lsn), max(end_lsn), max(last_commit)
		from (select *, sum(case when start_lsn = before then 0 else 1 end) over (partition by timeline order by number) as run
			from (select *, lag(end_lsn) over (partition by timeline order by number) as before from velvet.segments
			where cluster_id = $1) s) r
		group by timeline, run`, cluster)
	return err
}
