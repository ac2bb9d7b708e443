package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/problem"
	"velvetrewind/engine/host"
)

// Steps of a takeover, in their order. Each is recorded before anything of it is done.
const (
	TakeoverRefusing = "refusing"      // clients are refused, where that is wanted ahead of the stop
	TakeoverOpening  = "opening"       // the copy ends its recovery, where nobody reaches it, and is stopped
	TakeoverBringing = "bringing"      // what lies on another file system is copied beside its place
	TakeoverStopping = "stopping"      // the original is stopped, and its last WAL captured
	TakeoverAside    = "setting aside" // its directory and tablespaces get another name
	TakeoverPlacing  = "placing"       // the copy's get theirs, with the original's configuration
	TakeoverStarting = "starting"      // the server is started as the original was
	TakeoverHanding  = "handing over"  // where a copy is laid over the original's files: these are moved into the copy's directory
	TakeoverHanded   = "laid over"     // they are the copy's; ended
	TakeoverDone     = "in service"    // at the boundary; ended
	TakeoverBack     = "as before"     // everything is where it was; ended
)

// Takeover is a copy put in the place of its original.
type Takeover struct {
	ID        string          `db:"id"`
	ClusterID string          `db:"cluster_id"`
	CopyID    string          `db:"copy_id"`
	TaskID    string          `db:"task_id"`
	Moment    string          `db:"moment"`
	Step      string          `db:"step"`
	Original  json.RawMessage `db:"original"` // host.Original
	Aside     string          `db:"aside"`
	Captured  bool            `db:"captured"`
	HBA       string          `db:"hba"` // by which clients are refused; "" where they are not
	RemovedAt sql.NullTime    `db:"removed_at"`
	BegunAt   time.Time       `db:"begun_at"`
	EndedAt   sql.NullTime    `db:"ended_at"`
	Problem   string          `db:"problem"` // why it went back
}

// AddTakeover records one that is about to begin, unless one of the cluster is under way.
func (c *Catalog) AddTakeover(ctx context.Context, t Takeover) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.takeovers
		(id, cluster_id, copy_id, task_id, moment, step, original, aside, captured, hba) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`,
		t.ID, t.ClusterID, t.CopyID, t.TaskID, t.Moment, t.Step, string(t.Original), t.Aside, t.Captured, t.HBA)
	var pgErr *pgconn.PgError
	if errors.As(err, &pgErr) && pgErr.ConstraintName == "one_takeover_at_a_time" {
		return problem.New(problem.Conflict, "Watch it with: velvet task list", "no takeover was begun", "one of this cluster is under way")
	}
	return err
}

// TakeoverStep records the step that begins now.
func (c *Catalog) TakeoverStep(ctx context.Context, id, step string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.takeovers set step = $2 where id = $1`, id, step)
	return err
}

// EndTakeover records how it ended: done, or back and why.
func (c *Catalog) EndTakeover(ctx context.Context, id, step, why string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.takeovers set step = $2, problem = $3, ended_at = now() where id = $1`, id, step, why)
	return err
}

// AsideRemoved records that what a takeover had set aside is gone.
func (c *Catalog) AsideRemoved(ctx context.Context, id string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.takeovers set removed_at = now() where id = $1`, id)
	return err
}

// Takeovers lists those of a cluster, newest first.
func (c *Catalog) Takeovers(ctx context.Context, cluster string) ([]Takeover, error) {
	var list []Takeover
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.takeovers where cluster_id = $1 order by begun_at desc`, cluster)
}

// Takeover finds one by its id.
func (c *Catalog) Takeover(ctx context.Context, id string) (t Takeover, err error) {
	return t, c.get(ctx, &t, `select * from velvet.takeovers where id = $1`, `select id from velvet.takeovers`, id, "takeover",
		"List them with: velvet restore takeover history CLUSTER")
}

// TakeoverOfTask finds the takeover that a task carries out; ok is false if it had not begun.
func (c *Catalog) TakeoverOfTask(ctx context.Context, task string) (t Takeover, ok bool, err error) {
	err = c.db.GetContext(ctx, &t, `select * from velvet.takeovers where task_id = $1`, task)
	if errors.Is(err, sql.ErrNoRows) {
		return t, false, nil
	}
	return t, err == nil, err
}

// Original is how a cluster's server is run, and where.
type Original struct {
	Original json.RawMessage `db:"original"` // host.Original
	Host     string          `db:"host_id"`  // "" is the service's own
}

// Server is how it was run.
func (o *Original) Server() (was host.Original, err error) {
	return was, json.Unmarshal(o.Original, &was)
}

// SaveOriginal records how a cluster's server is run.
func (c *Catalog) SaveOriginal(ctx context.Context, cluster string, o Original) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.originals (cluster_id, original, host_id) values ($1, $2, $3)
		on conflict (cluster_id) do update set original = excluded.original, host_id = excluded.host_id, seen_at = now()`, cluster,
		string(o.Original), o.Host)
	return err
}

// Original is how a cluster's server was run when it was last seen, or nil.
func (c *Catalog) Original(ctx context.Context, cluster string) (*Original, error) {
	var o Original
	err := c.db.GetContext(ctx, &o, `select original, host_id from velvet.originals where cluster_id = $1`, cluster)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &o, err
}

// TakeoversLeft lists those that have not ended on a host, "" for the service's own, and that no task carries out any more.
func (c *Catalog) TakeoversLeft(ctx context.Context, host string) ([]Takeover, error) {
	var list []Takeover
	return list, c.db.SelectContext(ctx, &list, `select o.* from velvet.takeovers o join velvet.copies k on k.id = o.copy_id
		join velvet.tasks t on t.id = o.task_id
		where o.ended_at is null and k.host_id = $1 and t.state not in ($2, $3)`, host, TaskWaiting, TaskRunning)
}
