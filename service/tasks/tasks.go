// Package tasks has long work done, by any instance, and shown while it is done.
//
// A task is a job of the queue (river): the queue decides who does it, when, whether one like it is under way already,
// and when what failed is tried again; it brings cancellations to whoever runs the job. The catalogue has what people see
// of the task: state, progress, log and outcome.
//
// Invariant: job and record come to be in one transaction. A task that its instance left unfinished when it died is
// undone, or found to be whole, by whichever instance notices first, and only then recorded as ended; one that was taken
// from the queue and not begun goes back to it. What a kind of task does is left to those who add it.
package tasks

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/events"
	"velvetrewind/service/problems"
)

// Order is what a task is told. Its kind is that of the zero value.
type Order interface{ TaskKind() string }

// Kind is what a kind of task does, and how what it left is put right after its instance died.
type Kind[O Order] struct {
	Work func(ctx context.Context, t catalog.Task, order O, report task.Report) (outcome any, err error)
	// Undo returns whether the work turned out to be whole after all.
	Undo func(ctx context.Context, t catalog.Task) (whole bool, err error)
	// Forget, if there is one, undoes what was recorded when the task was submitted, if it is cancelled before it began.
	Forget func(ctx context.Context, t catalog.Task) (whole bool, err error)
	// Alone, if there is one, is the refusal of a second task for a cluster while one is under way.
	Alone *problem.Problem
	// Tries is how often it is tried before it has failed; 0 is once.
	Tries int
}

// kind is a Kind with its order still in the form in which the queue carries it.
type kind struct {
	alone        error // nil if several may be under way
	undo, forget func(context.Context, catalog.Task) (bool, error)
	insert       func(ctx context.Context, tx *sql.Tx, t catalog.Task) (job int64, err error)
}

// Config is what a queue is told.
type Config struct {
	Catalog  *catalog.Catalog
	Instance int64          // the number of this instance
	Lease    *catalog.Lease // of that number
	Limits   catalog.Limits
	AtOnce   int // tasks of this instance
	Events   *events.Hub
	Log      *slog.Logger
}

// Queue has tasks done.
type Queue struct {
	Config
	kinds    map[string]kind
	workers  *river.Workers
	periodic []*river.PeriodicJob
	client   *river.Client[pgx.Tx]  // runs jobs
	inserter *river.Client[*sql.Tx] // inserts them where records are written
	suspects map[string]bool        // tasks that looked orphaned when last looked at
}

// schema is where the queue has its tables, beside the records.
const schema = "velvet"

const (
	askAgain       = 2 * time.Second // a task that must wait for others
	lookForOrphans = 5 * time.Second
)

// New prepares a queue, making its tables. Kinds are added before it starts.
func New(ctx context.Context, cfg Config) (*Queue, error) {
	q := &Queue{Config: cfg, kinds: make(map[string]kind), workers: river.NewWorkers(), suspects: make(map[string]bool)}
	m, err := rivermigrate.New(riverpgxv5.New(cfg.Catalog.Pool()), &rivermigrate.Config{Schema: schema, Logger: q.quiet()})
	if err != nil {
		return nil, err
	}
	err = cfg.Catalog.Alone(ctx, func(ctx context.Context) error {
		_, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("make the tables of the task queue: %w", err)
	}
	q.inserter, err = river.NewClient(riverdatabasesql.New(cfg.Catalog.DB()), &river.Config{Schema: schema, Logger: q.quiet()})
	return q, err
}

// quiet is a log for the queue itself, of what goes wrong.
func (q *Queue) quiet() *slog.Logger { return slog.New(levelAtLeast{q.Log.Handler(), slog.LevelWarn}) }

// job is what the queue carries.
type job[O Order] struct {
	Task    string `json:"task"`
	Cluster string `json:"cluster" river:"unique"`
	Order   O      `json:"order"`
}

// Kind is the task's, in the letters that the queue takes.
func (j job[O]) Kind() string { return strings.ReplaceAll(j.Order.TaskKind(), " ", "_") }

// whileUnderWay is uniqueness among jobs that have not ended.
var whileUnderWay = river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending,
	rivertype.JobStateRunning, rivertype.JobStateRetryable, rivertype.JobStateScheduled}}

// Add says what a kind of task does.
func Add[O Order](q *Queue, k Kind[O]) {
	var zero O
	opts := &river.InsertOpts{MaxAttempts: max(k.Tries, 1)}
	if k.Alone != nil {
		opts.UniqueOpts = whileUnderWay
	}
	river.AddWorker(q.workers, &worker[O]{queue: q, kind: k})
	added := kind{undo: k.Undo, forget: k.Forget,
		insert: func(ctx context.Context, tx *sql.Tx, t catalog.Task) (int64, error) {
			j := job[O]{Task: t.ID, Cluster: t.ClusterID.String}
			if err := json.Unmarshal(t.Arguments, &j.Order); err != nil {
				return 0, err
			}
			r, err := q.inserter.InsertTx(ctx, tx, j, opts)
			if err != nil {
				return 0, fmt.Errorf("queue the task: %w", err)
			}
			if r.UniqueSkippedAsDuplicate {
				return 0, k.Alone
			}
			return r.Job.ID, nil
		}}
	if k.Alone != nil {
		added.alone = k.Alone
	}
	q.kinds[zero.TaskKind()] = added
}

// worker does the jobs of one kind.
type worker[O Order] struct {
	river.WorkerDefaults[job[O]]
	queue *Queue
	kind  Kind[O]
}

// Timeout says that a task takes as long as it takes.
func (*worker[O]) Timeout(*river.Job[job[O]]) time.Duration { return -1 }

func (w *worker[O]) Work(ctx context.Context, j *river.Job[job[O]]) error {
	return w.queue.run(ctx, j.Args.Task, j.Attempt < j.MaxAttempts, func(t catalog.Task, r task.Report) (any, error) {
		return w.kind.Work(ctx, t, j.Args.Order, r)
	})
}

// Every has work done at the times of a schedule, by one of the instances, and once when that starts. What fails is
// tried again.
func Every[O Order](q *Queue, schedule river.PeriodicSchedule, work func(context.Context) error) {
	river.AddWorker(q.workers, river.WorkFunc(func(ctx context.Context, _ *river.Job[recurring[O]]) error { return work(ctx) }))
	q.periodic = append(q.periodic, river.NewPeriodicJob(schedule, func() (river.JobArgs, *river.InsertOpts) {
		return recurring[O]{}, &river.InsertOpts{MaxAttempts: 10, UniqueOpts: whileUnderWay}
	}, &river.PeriodicJobOpts{RunOnStart: true}))
}

// recurring is a job that is no task: nobody is shown it.
type recurring[O Order] struct{}

func (recurring[O]) Kind() string {
	var zero O
	return zero.TaskKind()
}

// Start has the tasks done of the kinds that were added, until Stop.
func (q *Queue) Start(ctx context.Context) (err error) {
	q.client, err = river.NewClient(riverpgxv5.New(q.Catalog.Pool()), &river.Config{
		Schema: schema, Workers: q.workers, PeriodicJobs: q.periodic, Logger: q.quiet(), JobTimeout: -1,
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: q.AtOnce}},
	})
	if err != nil {
		return err
	}
	return q.client.Start(ctx)
}

// Stop cancels what runs, and waits for it until ctx ends.
func (q *Queue) Stop(ctx context.Context) error { return q.client.StopAndCancel(ctx) }

// Submit records a task and queues it. Its subject is the id of the backup or copy that it is about.
func (q *Queue) Submit(ctx context.Context, cluster, subject string, order Order) (catalog.Task, error) {
	return q.SubmitAs(ctx, catalog.NewID(), cluster, subject, order)
}

// SubmitAs does the same for a task whose id is known already.
func (q *Queue) SubmitAs(ctx context.Context, id, cluster, subject string, order Order) (catalog.Task, error) {
	encoded, err := json.Marshal(order)
	if err != nil {
		return catalog.Task{}, err
	}
	return q.submit(ctx, id, order.TaskKind(), cluster, subject, encoded)
}

// Again submits the work of a task again, about another subject.
func (q *Queue) Again(ctx context.Context, t catalog.Task, subject string) (catalog.Task, error) {
	return q.submit(ctx, catalog.NewID(), t.Kind, t.ClusterID.String, subject, t.Arguments)
}

func (q *Queue) submit(ctx context.Context, id, name, cluster, subject string, order json.RawMessage) (catalog.Task, error) {
	t := catalog.Task{ID: id, Kind: name, ClusterID: sql.NullString{String: cluster, Valid: cluster != ""}, Subject: subject,
		Arguments: order}
	k, ok := q.kinds[name]
	if !ok {
		return t, fmt.Errorf("nothing does tasks of the kind %q", name)
	}
	if err := q.add(ctx, t, k); err != nil {
		return catalog.Task{}, err
	}
	q.Events.Publish(events.Task, t.ID)
	return q.Catalog.Task(ctx, t.ID)
}

// The queue hears of a task's end a little later than who watches it, and where the instance died just then, from another
// one; until then it refuses one like it.
const (
	hearsWithin = 30 * time.Second
	hearsEvery  = 50 * time.Millisecond
)

// add records and queues a task, unless one like it is under way.
func (q *Queue) add(ctx context.Context, t catalog.Task, k kind) error {
	for asked := time.Now(); ; {
		err := q.Catalog.AddTask(ctx, t, func(tx *sql.Tx) (int64, error) { return k.insert(ctx, tx, t) })
		if k.alone == nil || !errors.Is(err, k.alone) || time.Since(asked) > hearsWithin {
			return err
		}
		active, e := q.Catalog.Tasks(ctx, catalog.TaskFilter{Cluster: t.ClusterID.String, Kind: t.Kind, Active: true, Limit: 1})
		if e != nil || len(active) > 0 {
			return errors.Join(err, e)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(hearsEvery):
		}
	}
}

// run does one task and records its outcome. more tells whether it may be tried again.
func (q *Queue) run(ctx context.Context, id string, more bool, work func(catalog.Task, task.Report) (any, error)) error {
	began, why, err := q.Catalog.BeginTask(ctx, id, q.Instance, q.Limits)
	if why != "" && err == nil {
		q.Events.Publish(events.Task, id)
		return river.JobSnooze(askAgain)
	}
	if err != nil || !began {
		return err
	}
	record, err := q.Catalog.Task(ctx, id)
	if err != nil {
		return err
	}
	r := &reporter{queue: q, id: id, ctx: context.WithoutCancel(ctx)}
	q.Events.Publish(events.Task, id)
	outcome, err := q.guarded(record, func() (any, error) { return work(record, r) })
	r.settle()
	defer q.Events.Publish(events.Task, id)
	state, trouble := ending(ctx, err)
	if trouble == nil {
		return q.Catalog.EndTask(r.ctx, id, state, outcome, nil)
	}
	r.Warn("%s", trouble.Error())
	if more && ctx.Err() == nil {
		q.Log.Warn("task failed, and is tried again", "task", id, "kind", record.Kind, "error", err)
		return errors.Join(err, q.Catalog.WaitAgain(r.ctx, id, "it failed and is tried again: "+trouble.Detail))
	}
	q.Log.Warn("task ended", "task", id, "kind", record.Kind, "state", state, "error", err)
	if e := q.Catalog.EndTask(r.ctx, id, state, outcome, problems.Doc(trouble)); e != nil {
		return e
	}
	return river.JobCancel(err) // what is recorded as ended is not tried again
}

// guarded takes a panic for the task's failure, not the service's.
func (q *Queue) guarded(t catalog.Task, work func() (any, error)) (outcome any, err error) {
	defer func() {
		if p := recover(); p != nil {
			q.Log.Error("a task panicked", "task", t.ID, "kind", t.Kind, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("a fault in the program: %v", p)
		}
	}()
	return work()
}

// ending tells done from failed, cancelled and interrupted.
func ending(ctx context.Context, err error) (string, *problem.Problem) {
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

// Cancel ends a task that waits or runs.
func (q *Queue) Cancel(ctx context.Context, t catalog.Task) error {
	if t.Ended() {
		return problem.New(problem.Conflict, "", "the task was not cancelled", "it has ended already: %s", t.State)
	}
	p := problem.New(problem.Interrupted, "", "the task was cancelled", "it had not begun")
	waited, err := q.Catalog.CancelWaiting(ctx, t.ID, problems.Doc(p))
	if err != nil {
		return err
	}
	if forget := q.kinds[t.Kind].forget; waited && forget != nil {
		if _, err := forget(ctx, t); err != nil {
			return err
		}
	}
	if t.JobID.Valid {
		if _, err := q.client.JobCancel(ctx, t.JobID.Int64); err != nil && !errors.Is(err, rivertype.ErrNotFound) {
			return err
		}
	}
	q.Events.Publish(events.Task, t.ID)
	return nil
}

// levelAtLeast drops what is below a level.
type levelAtLeast struct {
	slog.Handler
	least slog.Level
}

func (h levelAtLeast) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= h.least && h.Handler.Enabled(ctx, l)
}
