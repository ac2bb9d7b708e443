package catalog

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"velvetrewind/core/task"
	"velvetrewind/core/trail"
)

// States of a task.
const (
	TaskWaiting   = "waiting"
	TaskRunning   = "running"
	TaskDone      = "done"
	TaskFailed    = "failed"
	TaskCancelled = "cancelled"
)

// CopyToSecond is the kind of task that copies a cluster to the second store.
const CopyToSecond = "second store"

// Task is one piece of work.
type Task struct {
	ID         string           `db:"id"`
	Kind       string           `db:"kind"`
	ClusterID  sql.NullString   `db:"cluster_id"`
	Subject    string           `db:"subject"`
	Arguments  json.RawMessage  `db:"arguments"`
	State      string           `db:"state"`
	Done       int64            `db:"done"`
	Total      int64            `db:"total"`
	Unit       string           `db:"unit"`
	Note       string           `db:"note"`
	Outcome    *json.RawMessage `db:"outcome"`
	Problem    *json.RawMessage `db:"problem"`
	Owner      sql.NullInt64    `db:"owner"`
	JobID      sql.NullInt64    `db:"job_id"`
	CreatedAt  time.Time        `db:"created_at"`
	StartedAt  sql.NullTime     `db:"started_at"`
	FinishedAt sql.NullTime     `db:"finished_at"`
}

// Ended tells whether nothing more will happen to the task.
func (t Task) Ended() bool { return t.State != TaskWaiting && t.State != TaskRunning }

// TaskLine is a line of a task's log.
type TaskLine struct {
	TaskID string    `db:"task_id"`
	Number int       `db:"number"`
	At     time.Time `db:"at"`
	Level  string    `db:"level"` // "info" or "warning"
	Text   string    `db:"text"`
}

// AddTask records a waiting task together with the job of the queue that carries it, which enqueue inserts and whose id
// it returns: both come to be, or neither.
func (c *Catalog) AddTask(ctx context.Context, t Task, enqueue func(*sql.Tx) (job int64, err error)) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	job, err := enqueue(tx.Tx)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `insert into velvet.tasks (id, kind, cluster_id, subject, arguments, state, job_id)
		values ($1, $2, $3, $4, $5, $6, $7)`, t.ID, t.Kind, t.ClusterID, t.Subject, string(t.Arguments), TaskWaiting, job)
	if err != nil {
		return err
	}
	return tx.Commit()
}

// WaitAgain moves a task that failed and is tried again from running to waiting; note says why.
func (c *Catalog) WaitAgain(ctx context.Context, id, note string) error {
	_, err := c.db.ExecContext(ctx, `update velvet.tasks set state = $2, owner = null, note = $3 where id = $1 and state = $4`,
		id, TaskWaiting, note, TaskRunning)
	return err
}

// DiscardJob ends a job of the queue whose instance died while it ran it.
func (c *Catalog) DiscardJob(ctx context.Context, job int64) error {
	_, err := c.db.ExecContext(ctx, `update velvet.river_job set state = 'discarded', finalized_at = now()
		where id = $1 and state = 'running'`, job)
	return err
}

// DiscardEnded ends jobs of the queue whose tasks ended before a time: their instances died before the queue heard of it.
func (c *Catalog) DiscardEnded(ctx context.Context, before time.Time) error {
	_, err := c.db.ExecContext(ctx, `update velvet.river_job j set state = 'discarded', finalized_at = now() from velvet.tasks t
		where t.job_id = j.id and j.state = 'running' and t.state not in ($1, $2) and t.finished_at < $3`, TaskWaiting, TaskRunning, before)
	return err
}

// FreeJob gives a job back to the queue whose instance died before it began the task. That was no try of it.
func (c *Catalog) FreeJob(ctx context.Context, job int64) error {
	_, err := c.db.ExecContext(ctx, `update velvet.river_job set state = 'available', attempt = greatest(attempt - 1, 0)
		where id = $1 and state = 'running'`, job)
	return err
}

// Limits say how much may run at once; 0 is no limit.
type Limits struct {
	PerCluster     int // tasks of one cluster
	BackupsPerHost int // base backups of clusters on one host
}

// BeginTask moves a task from waiting to running; ok is false if it is not waiting, or
// if it must wait, which why then says.
func (c *Catalog) BeginTask(ctx context.Context, id string, owner int64, limits Limits) (ok bool, why string, err error) {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return false, "", err
	}
	defer func() { _ = tx.Rollback() }()
	// One at a time, so that two do not both see room for one.
	if _, err := tx.ExecContext(ctx, `select pg_advisory_xact_lock($1, 0)`, spaceBegin); err != nil {
		return false, "", err
	}
	var now struct {
		Kind    string         `db:"kind"`
		Cluster sql.NullString `db:"cluster_id"`
		Host    string         `db:"host"`
		Mine    int            `db:"mine"`
		OnHost  int            `db:"on_host"`
		Since   time.Time      `db:"created_at"`
	}
	err = tx.GetContext(ctx, &now, `select t.kind, t.cluster_id, t.created_at, coalesce(k.host, '') as host,
			(select count(*) from velvet.tasks o where o.cluster_id = t.cluster_id and o.state = $2) as mine,
			(select count(*) from velvet.tasks o join velvet.clusters ok on ok.id = o.cluster_id
			where o.state = $2 and o.kind = 'backup' and ok.host = k.host) as on_host
		from velvet.tasks t left join velvet.clusters k on k.id = t.cluster_id where t.id = $1
		and t.state = $3`, id, TaskRunning, TaskWaiting)
	if errors.Is(err, sql.ErrNoRows) {
		return false, "", nil
	}
	if err != nil {
		return false, "", err
	}
	switch {
	case limits.PerCluster > 0 && now.Cluster.Valid && now.Mine >= limits.PerCluster:
		why = task.Waiting(fmt.Sprintf("one of the %d running tasks of its cluster to end", now.Mine), now.Since,
			"as long as those take: velvet task list")
	case limits.BackupsPerHost > 0 && now.Kind == "backup" && now.Host != "" && now.OnHost >= limits.BackupsPerHost:
		why = task.Waiting(fmt.Sprintf("one of the %d running base backups of clusters on %s to end", now.OnHost, now.Host), now.Since,
			"as long as those take: velvet task list")
	}
	if why != "" {
		if _, err := tx.ExecContext(ctx, `update velvet.tasks set note = $2 where id = $1`, id, why); err != nil {
			return false, why, err
		}
		return false, why, tx.Commit()
	}
	r, err := tx.ExecContext(ctx, `update velvet.tasks set state = $2, owner = $3, started_at = now(), note = ''
		where id = $1 and state = $4`, id, TaskRunning, owner, TaskWaiting)
	if err != nil {
		return false, "", err
	}
	n, err := r.RowsAffected()
	if err != nil {
		return false, "", err
	}
	return n > 0, "", tx.Commit() // none when it was cancelled just now
}

// SaveProgress writes how far a running task is.
func (c *Catalog) SaveProgress(ctx context.Context, t Task) error {
	_, err := c.db.ExecContext(ctx, `update velvet.tasks set done = $2, total = $3, unit = $4, note = $5 where id = $1`,
		t.ID, t.Done, t.Total, t.Unit, t.Note)
	return err
}

// EndTask writes how a task ended. outcome and trouble may be nil.
func (c *Catalog) EndTask(ctx context.Context, id, state string, outcome, trouble any) error {
	_, err := c.endTask(ctx, id, []string{TaskWaiting, TaskRunning}, state, outcome, trouble)
	return err
}

// CancelWaiting ends a task that has not begun, and tells whether that was so.
func (c *Catalog) CancelWaiting(ctx context.Context, id string, trouble any) (bool, error) {
	return c.endTask(ctx, id, []string{TaskWaiting}, TaskCancelled, nil, trouble)
}

func (c *Catalog) endTask(ctx context.Context, id string, from []string, state string, outcome, trouble any) (bool, error) {
	encode := func(v any) (any, error) {
		if v == nil {
			return nil, nil
		}
		b, err := json.Marshal(v)
		return string(b), err
	}
	o, err := encode(outcome)
	if err != nil {
		return false, err
	}
	p, err := encode(trouble)
	if err != nil {
		return false, err
	}
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return false, err
	}
	defer func() { _ = tx.Rollback() }()
	var t Task
	err = tx.GetContext(ctx, &t, `update velvet.tasks set state = $2, outcome = $3, problem = $4, finished_at = now()
		where id = $1 and state = any($5) returning *`, id, state, o, p, from)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if t.Kind != CopyToSecond || state != TaskDone { // which is done many times an hour
		if err := addToTrail(ctx, tx, t.ended()); err != nil {
			return false, err
		}
	}
	return true, tx.Commit()
}

// ended is the end of the task as an act.
func (t Task) ended() trail.Entry {
	e := trail.Entry{Who: TheService, Did: t.Kind, Cluster: t.ClusterID.String, Subject: "task " + t.ID, Outcome: t.State}
	if t.Subject != "" {
		e.Subject += ", about " + t.Subject
	}
	var why struct{ Detail string }
	if t.Problem != nil && json.Unmarshal(*t.Problem, &why) == nil && why.Detail != "" {
		e.Outcome += ": " + why.Detail
	}
	return e
}

// AddTaskLine appends to a task's log.
func (c *Catalog) AddTaskLine(ctx context.Context, task, level, text string) error {
	_, err := c.db.ExecContext(ctx, `insert into velvet.task_lines (task_id, number, level, text)
		select $1, coalesce(max(number), 0) + 1, $2, $3 from velvet.task_lines where task_id = $1`, task, level, text)
	return err
}

// TaskLines reads a task's log after line number after.
func (c *Catalog) TaskLines(ctx context.Context, task string, after int) ([]TaskLine, error) {
	var list []TaskLine
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.task_lines where task_id = $1 and number > $2 order by number`, task,
		after)
}

// Task finds a task by its id.
func (c *Catalog) Task(ctx context.Context, id string) (Task, error) {
	var t Task
	return t, c.get(ctx, &t, `select * from velvet.tasks where id = $1`, `select id from velvet.tasks`, id, "task",
		"List the tasks with: velvet task list")
}

// TaskFilter narrows a list of tasks; what is zero does not.
type TaskFilter struct {
	Cluster string // id
	Kind    string
	State   string
	Active  bool // only those that have not ended
	Since   time.Time
	Limit   int
}

// Tasks lists tasks, newest first.
func (c *Catalog) Tasks(ctx context.Context, f TaskFilter) ([]Task, error) {
	var list []Task
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.tasks
		where ($1 = '' or cluster_id = $1) and (not $2 or state in ('waiting', 'running')) and ($3 = '' or kind = $3) and ($4 = ''
		or state = $4)
		and created_at >= $5 order by created_at desc limit $6`, f.Cluster, f.Active, f.Kind, f.State, f.Since, f.Limit)
}

// LastDone finds the newest task of a kind that ended well; ok is false if there is none.
func (c *Catalog) LastDone(ctx context.Context, kind string) (t Task, ok bool, err error) {
	err = c.db.GetContext(ctx, &t, `select * from velvet.tasks where kind = $1 and state = $2 order by finished_at desc limit 1`,
		kind, TaskDone)
	if errors.Is(err, sql.ErrNoRows) {
		return t, false, nil
	}
	return t, err == nil, err
}

// Orphans lists the tasks whose instance died while it ran them.
func (c *Catalog) Orphans(ctx context.Context) ([]Task, error) {
	var list []Task
	if err := c.db.SelectContext(ctx, &list, `select * from velvet.tasks where state = $1`, TaskRunning); err != nil {
		return nil, err
	}
	alive := make(map[int64]bool)
	orphans := list[:0]
	for _, t := range list {
		if _, known := alive[t.Owner.Int64]; !known {
			var held bool
			err := c.db.GetContext(ctx, &held, `select exists (select from pg_locks where locktype = 'advisory'
				and classid = $1::bigint::oid and objid = (hashtext($2)::bigint & 4294967295)::oid and granted
				and database = (select oid from pg_database where datname = current_database()))`,
				spaceInstance, utoa(uint64(t.Owner.Int64)))
			if err != nil {
				return nil, err
			}
			alive[t.Owner.Int64] = held
		}
		if !alive[t.Owner.Int64] {
			orphans = append(orphans, t)
		}
	}
	return orphans, nil
}

// Kinds of sign-in secrets.
const (
	SignInLink    = "link"    // opens the console once
	SignInSession = "session" // a browser's cookie
)

// AddSignIn keeps the hash of a secret until it expires.
func (c *Catalog) AddSignIn(ctx context.Context, kind, secret string, expires time.Time) error {
	hash := sha256.Sum256([]byte(secret))
	_, err := c.db.ExecContext(ctx, `insert into velvet.sign_ins (hash, kind, expires_at) values ($1, $2, $3)`, hash[:], kind, expires)
	if err == nil {
		_, err = c.db.ExecContext(ctx, `delete from velvet.sign_ins where expires_at < now()`)
	}
	return err
}

// CheckSignIn tells whether a secret is known and has not expired.
func (c *Catalog) CheckSignIn(ctx context.Context, kind, secret string) (bool, error) {
	hash := sha256.Sum256([]byte(secret))
	var ok bool
	err := c.db.GetContext(ctx, &ok, `select exists (select from velvet.sign_ins where hash = $1 and kind = $2 and expires_at > now())`,
		hash[:], kind)
	return ok, err
}

// UseSignIn takes a secret that may be used only once.
func (c *Catalog) UseSignIn(ctx context.Context, kind, secret string) (bool, error) {
	hash := sha256.Sum256([]byte(secret))
	r, err := c.db.ExecContext(ctx, `delete from velvet.sign_ins where hash = $1 and kind = $2 and expires_at > now()`, hash[:], kind)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n == 1, err
}
