package catalog

import (
	"context"
	"database/sql"
	"time"
)

// Rehearsal is a copy that is made to be proved and discarded: asked for, running, or ended.
type Rehearsal struct {
	ID        string       `db:"id"` // of its task, too
	ClusterID string       `db:"cluster_id"`
	Pick      string       `db:"pick"` // latest, random, oldest, or a moment
	AskedBy   string       `db:"asked_by"`
	AskedAt   time.Time    `db:"asked_at"`
	NotBefore time.Time    `db:"not_before"`
	Try       int          `db:"try"`
	BegunAt   sql.NullTime `db:"begun_at"`
	EndedAt   sql.NullTime `db:"ended_at"`
	Moment    string       `db:"moment"`
	BackupID  string       `db:"backup_id"`
	ProofID   string       `db:"proof_id"`
	Outcome   string       `db:"outcome"` // core/rehearsal.Outcome
	Cause     string       `db:"cause"`   // why it was not good
	LaidOut   int64        `db:"laid_out_us"`
	Replayed  int64        `db:"replayed_us"`
	Proved    int64        `db:"proved_us"`
	Bytes     int64        `db:"bytes"`       // that were laid out
	WAL       int64        `db:"wal"`         // bytes that were replayed
	Lost      int64        `db:"lost_us"`     // how old the newest moment was that could be reached; -1 where that was not asked
	Estimate  int64        `db:"estimate_us"` // that it was to take
}

// What may be picked for a rehearsal, besides a moment.
const (
	PickLatest = "latest"
	PickRandom = "random"
	PickOldest = "oldest" // that is promised and can be reached
)

// AskRehearsal records the wish for a rehearsal. Where one of the cluster waits already, that stands, and its id comes back.
func (c *Catalog) AskRehearsal(ctx context.Context, r Rehearsal) (id string, err error) {
	r.ID = NewID()
	err = c.db.GetContext(ctx, &id, `insert into velvet.rehearsals (id, cluster_id, pick, asked_by, not_before, try)
		values ($1, $2, $3, $4, $5, $6) on conflict (cluster_id) where begun_at is null
		do update set not_before = least(rehearsals.not_before, excluded.not_before) returning id`,
		r.ID, r.ClusterID, r.Pick, r.AskedBy, r.NotBefore, max(r.Try, 1))
	return id, err
}

// StartRehearsal records a rehearsal that begins at once.
func (c *Catalog) StartRehearsal(ctx context.Context, r Rehearsal) (id string, err error) {
	r.ID = NewID()
	_, err = c.db.ExecContext(ctx,
		`insert into velvet.rehearsals (id, cluster_id, pick, asked_by, begun_at) values ($1, $2, $3, $4, now())`, r.ID, r.ClusterID,
		r.Pick, r.AskedBy)
	return r.ID, err
}

// BeginRehearsal notes that a rehearsal begins. It is false if another instance was first.
func (c *Catalog) BeginRehearsal(ctx context.Context, id string) (bool, error) {
	return c.changed(ctx, `update velvet.rehearsals set begun_at = now() where id = $1 and begun_at is null`, id)
}

// EndRehearsal records how a rehearsal ended, unless that is recorded.
func (c *Catalog) EndRehearsal(ctx context.Context, r Rehearsal) error {
	_, err := c.db.ExecContext(
		ctx,
		`update velvet.rehearsals set ended_at = now(), moment = $2, backup_id = $3, proof_id = $4, outcome = $5,
		cause = $6, laid_out_us = $7, replayed_us = $8, proved_us = $9, bytes = $10, wal = $11, lost_us = $12, estimate_us = $13
		where id = $1 and ended_at is null`,
		r.ID,
		r.Moment,
		r.BackupID,
		r.ProofID,
		r.Outcome,
		r.Cause,
		r.LaidOut,
		r.Replayed,
		r.Proved,
		r.Bytes,
		r.WAL,
		r.Lost,
		r.Estimate,
	)
	return err
}

// Rehearsal finds a rehearsal by its id.
func (c *Catalog) Rehearsal(ctx context.Context, id string) (Rehearsal, error) {
	var r Rehearsal
	return r, c.get(ctx, &r, `select * from velvet.rehearsals where id = $1`, `select id from velvet.rehearsals`, id, "rehearsal",
		"List them with: velvet rehearse history")
}

// OpenRehearsals lists those that wait or run, oldest first.
func (c *Catalog) OpenRehearsals(ctx context.Context) ([]Rehearsal, error) {
	var list []Rehearsal
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.rehearsals where ended_at is null order by asked_at, id`)
}

// Rehearsals lists those that ended since a time, newest first, of one cluster or of all; and of each the last that ended
// before.
func (c *Catalog) Rehearsals(ctx context.Context, cluster string, since time.Time) ([]Rehearsal, error) {
	var list []Rehearsal
	return list, c.db.SelectContext(ctx, &list, `select r.* from velvet.rehearsals r where r.ended_at is not null
		and (r.cluster_id = $1 or $1 = '') and (r.ended_at >= $2 or not exists (select from velvet.rehearsals n
		where n.cluster_id = r.cluster_id and n.ended_at > r.ended_at and n.ended_at < $2)) order by r.ended_at desc`, cluster, since)
}

// LastProved is when a copy of each cluster last passed its proof.
func (c *Catalog) LastProved(ctx context.Context) (map[string]time.Time, error) {
	var list []struct {
		Cluster string    `db:"cluster_id"`
		At      time.Time `db:"at"`
	}
	err := c.db.SelectContext(ctx, &list, `select cluster_id, max(finished_at) as at from velvet.proofs where verdict = 'passed'
		group by cluster_id`)
	at := make(map[string]time.Time, len(list))
	for _, l := range list {
		at[l.Cluster] = l.At
	}
	return at, err
}

// Unrehearsed lists the clusters that have a base backup and of which no rehearsal was ever asked for, but for one that was
// cancelled, more than an hour ago: perhaps because the service ended.
func (c *Catalog) Unrehearsed(ctx context.Context) ([]string, error) {
	var list []string
	return list, c.db.SelectContext(ctx, &list, `select k.id from velvet.clusters k where exists (select from velvet.backups b
		where b.cluster_id = k.id and b.dropped_at is null) and not exists (select from velvet.rehearsals r where r.cluster_id = k.id
		and (r.outcome <> 'cancelled' or r.ended_at > now() - interval '1 hour'))
		order by k.created_at`)
}

// SetObjective records what a cluster is to keep to, in seconds; 0 is nothing.
func (c *Catalog) SetObjective(ctx context.Context, cluster string, back, lose int) error {
	_, err := c.db.ExecContext(ctx, `update velvet.clusters set back_within_seconds = $2, losing_at_most_seconds = $3 where id = $1`,
		cluster, back, lose)
	return err
}

// TidyRehearsals takes back the beginning of rehearsals whose instance died before their task was there, and ends those whose
// task ended without recording it.
func (c *Catalog) TidyRehearsals(ctx context.Context) error {
	_, err := c.db.ExecContext(ctx, `update velvet.rehearsals r set begun_at = null where begun_at < now() - interval '1 minute'
		and ended_at is null and not exists (select from velvet.tasks t where t.id = r.id)
		and not exists (select from velvet.rehearsals w where w.cluster_id = r.cluster_id and w.begun_at is null)`)
	if err != nil {
		return err
	}
	_, err = c.db.ExecContext(ctx, `update velvet.rehearsals r set ended_at = now(), outcome = 'cancelled', cause = 'its task ended early'
		where ended_at is null and exists (select from velvet.tasks t where t.id = r.id and t.finished_at < now() - interval '1 minute')`)
	return err
}
