package service

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
)

// Kinds of tasks.
const (
	taskBackup  = "backup"
	taskCopy    = "side copy"
	taskStep    = "step copy"
	taskOpen    = "open copy"
	taskDiscard = "discard copy"
	taskProve   = "proof"
	taskDrop    = "drop backup"
	taskAudit   = "audit"
	taskRebuild = "rebuild"
	taskMirror  = "second store"
	taskKeep    = "keep run"
)

// kind is what a kind of task does, and how what it left is put right after its instance died.
type kind struct {
	work func(ctx context.Context, t catalog.Task, report task.Report) (outcome any, err error)
	// undo returns whether the work turned out to be whole after all.
	undo func(ctx context.Context, t catalog.Task) (whole bool, err error)
	// forget, if there is one, undoes what was recorded when the task was submitted, if
	// it is cancelled before it began.
	forget func(ctx context.Context, t catalog.Task) (whole bool, err error)
}

// tasks runs tasks from the queue. The catalogue's record of a task is what people
// see; the queue's job only carries its id to an instance.
type tasks struct {
	catalog  *catalog.Catalog
	queue    *river.Client[pgx.Tx]
	kinds    map[string]kind
	instance int64
	lease    *catalog.Lease // of the instance's number
	limits   catalog.Limits
	suspects map[string]bool // tasks that looked orphaned when last looked at
	events   *events
	log      *slog.Logger
}

type jobArgs struct {
	TaskID string `json:"taskId"`
}

func (jobArgs) Kind() string { return "task" }

type worker struct {
	river.WorkerDefaults[jobArgs]
	tasks *tasks
}

// Timeout says that a task takes as long as it takes.
func (*worker) Timeout(*river.Job[jobArgs]) time.Duration { return -1 }

func (w *worker) Work(ctx context.Context, job *river.Job[jobArgs]) error {
	return w.tasks.run(ctx, job.Args.TaskID)
}

const (
	queueSchema    = "velvet"
	askAgain       = 2 * time.Second // a task that must wait for others
	progressEvery  = 250 * time.Millisecond
	lookForOrphans = 5 * time.Second
)

// newTasks prepares the queue, making its tables.
func newTasks(ctx context.Context, c *catalog.Catalog, instance int64, lease *catalog.Lease, cfg Config, ev *events,
	log *slog.Logger) (*tasks, error) {
	t := &tasks{catalog: c, instance: instance, limits: catalog.Limits{PerCluster: cfg.TasksPerCluster, BackupsPerHost: cfg.BackupsPerHost},
		lease: lease, suspects: make(map[string]bool), events: ev, log: log}
	quiet := slog.New(levelAtLeast{log.Handler(), slog.LevelWarn})
	driver := riverpgxv5.New(c.Pool())
	m, err := rivermigrate.New(driver, &rivermigrate.Config{Schema: queueSchema, Logger: quiet})
	if err != nil {
		return nil, err
	}
	err = c.Alone(ctx, func(ctx context.Context) error {
		_, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("make the tables of the task queue: %w", err)
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{tasks: t})
	t.queue, err = river.NewClient(driver, &river.Config{
		Schema: queueSchema, Workers: workers, Logger: quiet, MaxAttempts: 1, JobTimeout: -1,
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: cfg.TasksAtOnce}},
	})
	return t, err
}

// submit records a task and queues it.
func (t *tasks) submit(ctx context.Context, kind, cluster, subject string, args any) (catalog.Task, error) {
	encoded, err := json.Marshal(args)
	if err != nil {
		return catalog.Task{}, err
	}
	record := catalog.Task{
		ID: catalog.NewID(), Kind: kind, ClusterID: sql.NullString{String: cluster, Valid: cluster != ""},
		Subject: subject, Arguments: encoded,
	}
	if err := t.catalog.AddTask(ctx, record); err != nil {
		return catalog.Task{}, err
	}
	if err := t.enqueue(ctx, record.ID); err != nil {
		return catalog.Task{}, err
	}
	t.events.publish(eventTask, record.ID)
	return t.catalog.Task(ctx, record.ID)
}

func (t *tasks) enqueue(ctx context.Context, id string) error {
	job, err := t.queue.Insert(ctx, jobArgs{TaskID: id}, nil)
	if err != nil {
		return fmt.Errorf("queue the task: %w", err)
	}
	return t.catalog.SetJob(ctx, id, job.Job.ID)
}

// run does one task. Its outcome is recorded; the queue hears of no error, since a
// task is never tried twice by itself.
func (t *tasks) run(ctx context.Context, id string) error {
	began, why, err := t.catalog.BeginTask(ctx, id, t.instance, t.limits)
	if why != "" && err == nil {
		t.events.publish(eventTask, id)
		return river.JobSnooze(askAgain)
	}
	if err != nil || !began {
		return err
	}
	record, err := t.catalog.Task(ctx, id)
	if err != nil {
		return err
	}
	r := &reporter{tasks: t, id: id, ctx: context.WithoutCancel(ctx)}
	t.events.publish(eventTask, id)
	outcome, err := t.work(ctx, record, r)
	r.settle()
	state, trouble := taskEnd(ctx, err)
	if trouble != nil {
		r.Warn("%s", trouble.Error())
		t.log.Warn("task ended", "task", id, "kind", record.Kind, "state", state, "error", err)
		err = t.catalog.EndTask(r.ctx, id, state, outcome, problemDoc(trouble))
	} else {
		err = t.catalog.EndTask(r.ctx, id, state, outcome, nil)
	}
	t.events.publish(eventTask, id)
	return err
}

// work does what the task's kind does; a panic is the task's failure, not the service's.
func (t *tasks) work(ctx context.Context, record catalog.Task, r *reporter) (outcome any, err error) {
	defer func() {
		if p := recover(); p != nil {
			t.log.Error("a task panicked", "task", record.ID, "kind", record.Kind, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("a fault in the program: %v", p)
		}
	}()
	return t.kinds[record.Kind].work(ctx, record, r)
}

// taskEnd tells done from failed, cancelled and interrupted.
func taskEnd(ctx context.Context, err error) (string, *problem.Problem) {
	switch {
	case err == nil:
		return catalog.TaskDone, nil
	case errors.Is(context.Cause(ctx), rivertype.ErrJobCancelledRemotely):
		return catalog.TaskCancelled, problem.New(problem.Interrupted, "What there was of it has been removed.", "the task was cancelled",
			"somebody cancelled it")
	case ctx.Err() != nil:
		return catalog.TaskFailed, problem.New(problem.Interrupted, "Start it again.", "the task was interrupted",
			"the service was stopped while it ran; it was removed")
	}
	return catalog.TaskFailed, problem.Wrap(err, problem.Failed, "the task failed", "The task's log has the details.")
}

// cancel ends a task that waits or runs.
func (t *tasks) cancel(ctx context.Context, record catalog.Task) error {
	if record.Ended() {
		return problem.New(problem.Conflict, "", "the task was not cancelled", "it has ended already: %s", record.State)
	}
	p := problem.New(problem.Interrupted, "", "the task was cancelled", "it had not begun")
	waited, err := t.catalog.CancelWaiting(ctx, record.ID, problemDoc(p))
	if err != nil {
		return err
	}
	if forget := t.kinds[record.Kind].forget; waited && forget != nil {
		if _, err := forget(ctx, record); err != nil {
			return err
		}
	}
	if record.JobID.Valid {
		if _, err := t.queue.JobCancel(ctx, record.JobID.Int64); err != nil && !errors.Is(err, rivertype.ErrNotFound) {
			return err
		}
	}
	t.events.publish(eventTask, record.ID)
	return nil
}

// recover puts right, again and again, what dead instances left.
func (t *tasks) recover(ctx context.Context) {
	tick := time.NewTicker(lookForOrphans)
	defer tick.Stop()
	for {
		if err := t.recoverOnce(ctx); err != nil && ctx.Err() == nil {
			t.log.Warn("recovering unfinished tasks failed", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (t *tasks) recoverOnce(ctx context.Context) error {
	if err := t.keepLease(ctx); err != nil {
		return err
	}
	orphans, err := t.catalog.Orphans(ctx)
	if err != nil {
		return err
	}
	// A restart of the catalogue takes every instance's lock for a moment: only who
	// still looks dead at the next look is.
	before := t.suspects
	t.suspects = make(map[string]bool, len(orphans))
	for _, o := range orphans {
		t.suspects[o.ID] = true
		if before[o.ID] && o.Owner.Int64 != t.instance {
			if err := t.putRight(ctx, o); err != nil {
				return err
			}
		}
	}
	return t.requeue(ctx)
}

// keepLease takes the lock of our number again if its connection was lost.
func (t *tasks) keepLease(ctx context.Context) error {
	if t.lease.Held(ctx) {
		return nil
	}
	lease, err := t.catalog.HoldInstance(ctx, t.instance)
	if err != nil {
		return err
	}
	t.lease.Release()
	t.lease = lease
	return nil
}

// putRight undoes or finishes what a dead instance left of a task.
func (t *tasks) putRight(ctx context.Context, o catalog.Task) error {
	whole, err := t.kinds[o.Kind].undo(ctx, o)
	if err != nil {
		t.log.Warn("what an interrupted task left could not be put right yet", "task", o.ID, "kind", o.Kind, "error", err)
		return nil
	}
	t.log.Info("an interrupted task was put right", "task", o.ID, "kind", o.Kind, "whole", whole)
	if whole {
		err = t.catalog.EndTask(ctx, o.ID, catalog.TaskDone, nil, nil)
	} else {
		p := problem.New(problem.Interrupted, "Start it again.", "the task was interrupted",
			"the service ended while it ran; what there was of it has been removed")
		err = t.catalog.EndTask(ctx, o.ID, catalog.TaskFailed, nil, problemDoc(p))
	}
	t.events.publish(eventTask, o.ID)
	return err
}

// requeue queues tasks that were recorded by an instance that died before it queued them,
// or taken from the queue by one that died before it began them. Queued twice, a task is
// still begun once.
func (t *tasks) requeue(ctx context.Context) error {
	active, err := t.catalog.Tasks(ctx, catalog.TaskFilter{Active: true, Limit: 1000})
	if err != nil {
		return err
	}
	for _, a := range active {
		if a.State != catalog.TaskWaiting || time.Since(a.CreatedAt) < lookForOrphans {
			continue
		}
		lost, err := t.lost(ctx, a)
		if err == nil && lost {
			err = t.enqueue(ctx, a.ID)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// lost tells whether no job will bring a waiting task to an instance.
func (t *tasks) lost(ctx context.Context, a catalog.Task) (bool, error) {
	if !a.JobID.Valid {
		return true, nil
	}
	job, err := t.queue.JobGet(ctx, a.JobID.Int64)
	if errors.Is(err, rivertype.ErrNotFound) {
		return true, nil
	}
	if err != nil {
		return false, err
	}
	waits := job.State == rivertype.JobStateAvailable || job.State == rivertype.JobStateScheduled ||
		job.State == rivertype.JobStatePending || job.State == rivertype.JobStateRetryable
	return !waits && (job.AttemptedAt == nil || time.Since(*job.AttemptedAt) > lookForOrphans), nil
}

// reporter writes what a task tells into the catalogue and passes it on to who watches.
type reporter struct {
	tasks *tasks
	id    string
	ctx   context.Context

	mu    sync.Mutex
	state catalog.Task
	saved time.Time
	later *time.Timer // saves what came too soon after the last time
}

func (r *reporter) Log(format string, args ...any)  { r.line("info", format, args...) }
func (r *reporter) Warn(format string, args ...any) { r.line("warning", format, args...) }

func (r *reporter) line(level, format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.tasks.catalog.AddTaskLine(r.ctx, r.id, level, fmt.Sprintf(format, args...)); err != nil {
		r.tasks.log.Warn("a line of a task's log was lost", "task", r.id, "error", err)
	}
	r.tasks.events.publish(eventTask, r.id)
}

func (r *reporter) Progress(done, total int64, unit task.Unit, note string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.state = catalog.Task{ID: r.id, Done: done, Total: total, Unit: string(unit), Note: note}
	// What comes too soon is saved a little later, not never: it may be the last for long.
	if wait := progressEvery - time.Since(r.saved); wait <= 0 {
		r.save()
	} else if r.later == nil {
		r.later = time.AfterFunc(wait, r.saveLater)
	}
}

func (r *reporter) saveLater() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.later != nil {
		r.save()
	}
}

func (r *reporter) settle() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.state.ID != "" {
		r.save()
	}
}

func (r *reporter) save() {
	if r.later != nil {
		r.later.Stop()
		r.later = nil
	}
	r.saved = time.Now()
	if err := r.tasks.catalog.SaveProgress(r.ctx, r.state); err != nil {
		r.tasks.log.Warn("a task's progress was not saved", "task", r.id, "error", err)
	}
	r.tasks.events.publish(eventTask, r.id)
}

// levelAtLeast drops what is below a level.
type levelAtLeast struct {
	slog.Handler
	least slog.Level
}

func (h levelAtLeast) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= h.least && h.Handler.Enabled(ctx, l)
}
