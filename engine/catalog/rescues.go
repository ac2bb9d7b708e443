package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"velvetrewind/core/problem"
)

// How a rescue stands.
const (
	RescueLooking = "looking"
	RescuePlanned = "planned" // it was looked at what would be done; ended
	RescueTried   = "tried"   // everything was done and taken back; ended
	RescueWriting = "writing" // the transaction that writes is about to be committed
	RescueApplied = "applied" // it is; ended
	RescuePartly  = "partly"  // some batches are committed, and no more come; ended
	RescueFailed  = "failed"  // nothing was changed; ended
)

// Rescue is what is brought back of what a transaction took, or several.
type Rescue struct {
	ID        string          `db:"id"`
	ClusterID string          `db:"cluster_id"`
	CopyID    string          `db:"copy_id"`
	TaskID    string          `db:"task_id"`
	Moment    string          `db:"moment"`
	XID       int64           `db:"xid"`
	Also      json.RawMessage `db:"also"` // the ids of other transactions that are undone with it
	State     string          `db:"state"`
	OwnXID    int64           `db:"own_xid"` // of the transaction that writes; 0 until it is about to be committed
	Plan      json.RawMessage `db:"plan"`    // rescue.Plan
	Checks    json.RawMessage `db:"checks"`  // []rescue.Check
	Batches   json.RawMessage `db:"batches"` // []rescue.Batch: those that are committed, and the one that is about to be
	BegunAt   time.Time       `db:"begun_at"`
	EndedAt   sql.NullTime    `db:"ended_at"`
}

// AddRescue records one that begins.
func (c *Catalog) AddRescue(ctx context.Context, r Rescue) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.rescues (id, cluster_id, copy_id, task_id, moment, xid, state, also)
		values ($1, $2, $3, $4, $5, $6, $7, coalesce($8::jsonb, '[]'))`, r.ID, r.ClusterID, r.CopyID, r.TaskID, r.Moment, r.XID, r.State,
		textOrNull(r.Also))
	return err
}

// RescueWrites records the transaction that writes, before that is committed, and which batch it is; a list of one, or of none. It takes
// the place of one that was recorded for the same rows, which was not committed.
func (c *Catalog) RescueWrites(ctx context.Context, id string, own int64, plan, batch json.RawMessage) error {
	_, err := c.db.ExecContext(ctx, `update velvet.rescues set state = $2, own_xid = $3, plan = $4, batches =
		(select coalesce(jsonb_agg(b order by n), '[]') from jsonb_array_elements(batches) with ordinality e (b, n)
		where b -> 'parts' is distinct from $5::jsonb -> 0 -> 'parts') || $5::jsonb where id = $1`, id, RescueWriting, own,
		string(plan), string(batch))
	return err
}

// EndRescue records how one ended, with what is known of it.
func (c *Catalog) EndRescue(ctx context.Context, r Rescue) error {
	_, err := c.db.ExecContext(ctx, `update velvet.rescues set state = $2, plan = $3, checks = $4, batches = $5,
		ended_at = now() where id = $1`, r.ID, r.State, string(r.Plan), string(r.Checks), string(r.Batches))
	return err
}

// Rescue finds one by its id, or an unambiguous end of it.
func (c *Catalog) Rescue(ctx context.Context, id string) (r Rescue, err error) {
	var list []Rescue
	if err := c.db.SelectContext(ctx, &list, `select * from velvet.rescues where id = $1 or (length($1) >= 4 and right(id, length($1)) = $1)
		limit 2`, id); err != nil {
		return r, err
	}
	if len(list) != 1 {
		return r, problem.New(problem.NotFound, "List them with: velvet rescue list", "there is nothing to show",
			"no rescue has the id %q", id)
	}
	return list[0], nil
}

// Rescues lists a cluster's, or with "" all, newest first.
func (c *Catalog) Rescues(ctx context.Context, cluster string, limit int) (list []Rescue, err error) {
	err = c.db.SelectContext(ctx, &list, `select * from velvet.rescues where $1 = '' or cluster_id = $1 order by begun_at desc limit $2`,
		cluster, limit)
	return list, err
}

// RescuesOf lists those in a state that brought back what a transaction of a cluster took.
func (c *Catalog) RescuesOf(ctx context.Context, cluster string, xid int64, state string) (list []Rescue, err error) {
	err = c.db.SelectContext(ctx, &list, `select * from velvet.rescues where cluster_id = $1
		and (xid = $2 or also @> to_jsonb($2::bigint)) and state = $3 order by begun_at`, cluster, xid, state)
	return list, err
}

// RescueOfTask finds the one that a task carries out.
func (c *Catalog) RescueOfTask(ctx context.Context, task string) (r Rescue, found bool, err error) {
	err = c.db.GetContext(ctx, &r, `select * from velvet.rescues where task_id = $1`, task)
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	return r, err == nil, err
}
