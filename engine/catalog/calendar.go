package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"velvetrewind/core/keep"
)

// Policy is what applies to all clusters that have its labels.
type Policy struct {
	ID           string           `db:"id"`
	Name         string           `db:"name"`
	LabelsSet    json.RawMessage  `db:"labels"` // map[string]string
	KeepSet      *json.RawMessage `db:"keep_rule"`
	SecondStore  sql.NullBool     `db:"second_store"`
	CaptureAlert sql.NullInt64    `db:"capture_alert_seconds"`
	CreatedAt    time.Time        `db:"created_at"`
}

// Labels are those that a cluster must have for the policy to apply to it.
func (p Policy) Labels() (labels map[string]string, err error) {
	return labels, json.Unmarshal(p.LabelsSet, &labels)
}

// KeepRule is the policy's rule; ok is false if it has none.
func (p Policy) KeepRule() (r keep.Rule, ok bool, err error) {
	if p.KeepSet == nil {
		return r, false, nil
	}
	return r, true, json.Unmarshal(*p.KeepSet, &r)
}

// SavePolicy records a policy, or changes the one of that name.
func (c *Catalog) SavePolicy(ctx context.Context, p Policy) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.policies (id, name, labels, keep_rule, second_store, capture_alert_seconds)
		values ($1, $2, $3, $4, $5, $6) on conflict (name) do update set labels = excluded.labels, keep_rule = excluded.keep_rule,
		second_store = excluded.second_store, capture_alert_seconds = excluded.capture_alert_seconds`,
		p.ID, p.Name, string(p.LabelsSet), jsonOrNull(p.KeepSet), p.SecondStore, p.CaptureAlert)
	return err
}

// Policies lists all policies by name.
func (c *Catalog) Policies(ctx context.Context) ([]Policy, error) {
	var list []Policy
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.policies order by name`)
}

// Policy finds a policy by its name or id.
func (c *Catalog) Policy(ctx context.Context, name string) (Policy, error) {
	var p Policy
	return p, c.get(ctx, &p, `select * from velvet.policies where name = $1 or id = $1`, `select id from velvet.policies`, name, "policy",
		"List them with: velvet policy list")
}

// RemovePolicy forgets a policy and its calendar.
func (c *Catalog) RemovePolicy(ctx context.Context, id string) error {
	_, err := c.db.ExecContext(ctx, `delete from velvet.policies where id = $1`, id)
	return err
}

// SetLabels replaces a cluster's labels.
func (c *Catalog) SetLabels(ctx context.Context, cluster string, labels map[string]string) error {
	encoded, err := json.Marshal(labels)
	if err != nil {
		return err
	}
	_, err = c.db.ExecContext(ctx, `update velvet.clusters set labels = $2 where id = $1`, cluster, string(encoded))
	return err
}

// Work that recurs.
const (
	WorkBackup = "backup"
	WorkKeep   = "keep"
	WorkAudit  = "audit"

	WorkRehearsal = "rehearsal"
)

// Entry is something that recurs: for a cluster, for those of a policy, or, without
// either, for the store.
type Entry struct {
	ID        string          `db:"id"`
	ClusterID sql.NullString  `db:"cluster_id"`
	PolicyID  sql.NullString  `db:"policy_id"`
	Work      string          `db:"work"`
	Detail    string          `db:"detail"`
	Schedule  json.RawMessage `db:"schedule"` // calendar.Schedule
	Paused    bool            `db:"paused"`
	Since     time.Time       `db:"since"`
	CreatedAt time.Time       `db:"created_at"`
}

// AddEntry puts an entry into the calendar. What was due before now is not caught up.
func (c *Catalog) AddEntry(ctx context.Context, e Entry) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.calendar (id, cluster_id, policy_id, work, detail, schedule)
		values ($1, $2, $3, $4, $5, $6)`,
		e.ID, e.ClusterID, e.PolicyID, e.Work, e.Detail, string(e.Schedule))
	return err
}

// Entries lists the whole calendar, oldest entry first.
func (c *Catalog) Entries(ctx context.Context) ([]Entry, error) {
	var list []Entry
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.calendar order by created_at, id`)
}

// Entry finds an entry of the calendar.
func (c *Catalog) Entry(ctx context.Context, id string) (Entry, error) {
	var e Entry
	return e, c.get(ctx, &e, `select * from velvet.calendar where id = $1`, `select id from velvet.calendar`, id, "entry of the calendar",
		"List them with: velvet calendar list")
}

// PauseEntry pauses an entry or has it go on; what was due meanwhile is not caught up.
func (c *Catalog) PauseEntry(ctx context.Context, id string, paused bool) error {
	_, err := c.db.ExecContext(ctx, `update velvet.calendar set paused = $2, since = case when paused and not $2 then now() else since end
		where id = $1`, id, paused)
	return err
}

// RemoveEntry takes an entry out of the calendar.
func (c *Catalog) RemoveEntry(ctx context.Context, id string) error {
	_, err := c.db.ExecContext(ctx, `delete from velvet.calendar where id = $1`, id)
	return err
}

// CalendarRun is a due time that was begun.
type CalendarRun struct {
	EntryID   string    `db:"entry_id"`
	ClusterID string    `db:"cluster_id"` // "" for the store
	Due       time.Time `db:"due"`
	BegunAt   time.Time `db:"begun_at"`
	TaskID    string    `db:"task_id"`
	Problem   string    `db:"problem"`
}

// LastRuns lists the newest begun run of each entry and cluster.
func (c *Catalog) LastRuns(ctx context.Context) ([]CalendarRun, error) {
	var list []CalendarRun
	return list, c.db.SelectContext(ctx, &list, `select distinct on (entry_id, cluster_id) * from velvet.calendar_runs
		order by entry_id, cluster_id, due desc`)
}

// ClaimRun takes a due time for this instance; ok is false if it was begun already.
func (c *Catalog) ClaimRun(ctx context.Context, r CalendarRun) (ok bool, err error) {
	res, err := c.db.ExecContext(ctx, `insert into velvet.calendar_runs (entry_id, cluster_id, due, begun_at)
		select id, $2, $3, $4 from velvet.calendar where id = $1 and not paused
		on conflict do nothing`, r.EntryID, r.ClusterID, r.Due, r.BegunAt)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	if err == nil && n > 0 { // the newest few tell all that is asked
		_, err = c.db.ExecContext(ctx, `delete from velvet.calendar_runs where entry_id = $1 and cluster_id = $2 and due < (
			select due from velvet.calendar_runs where entry_id = $1 and cluster_id = $2
			order by due desc offset 20 limit 1)`, r.EntryID, r.ClusterID)
	}
	return n > 0, err
}

// ReclaimRun takes over a run whose instance died before it began it; ok is false if
// another has done so.
func (c *Catalog) ReclaimRun(ctx context.Context, r CalendarRun, now time.Time) (ok bool, err error) {
	res, err := c.db.ExecContext(ctx, `update velvet.calendar_runs set begun_at = $5
		where entry_id = $1 and cluster_id = $2 and due = $3 and begun_at = $4 and task_id = ''
		and problem = ''`, r.EntryID, r.ClusterID, r.Due, r.BegunAt, now)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n > 0, err
}

// SettleRun notes what became of a run: its task, or why there is none.
func (c *Catalog) SettleRun(ctx context.Context, r CalendarRun) error {
	_, err := c.db.ExecContext(ctx, `update velvet.calendar_runs set task_id = $4, problem = $5
		where entry_id = $1 and cluster_id = $2 and due = $3`,
		r.EntryID, r.ClusterID, r.Due, r.TaskID, r.Problem)
	return err
}
