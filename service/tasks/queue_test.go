package tasks

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/events"
	"velvetrewind/testbed"
)

var ctx = context.Background()

// Kinds of tasks for tests: one that only one may do at a time, and one that is tried twice.
type (
	alone struct{}
	twice struct {
		Text string `json:"text"`
	}
)

func (alone) TaskKind() string { return "alone at it" }
func (twice) TaskKind() string { return "twice" }

func openCatalogue(t *testing.T) *catalog.Catalog {
	p := testbed.New(t).Postgres("catalogue", false)
	c, err := catalog.Open(ctx, p.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// instance is a queue of its own over a catalogue, as another service would have it.
func instance(t *testing.T, c *catalog.Catalog) *Queue {
	number, lease, err := c.TakeInstance(ctx)
	require.NoError(t, err)
	q, err := New(ctx, Config{Catalog: c, Instance: number, Lease: lease, AtOnce: 4, Events: events.New(),
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	require.NoError(t, err)
	return q
}

func start(t *testing.T, q *Queue) {
	require.NoError(t, q.Start(ctx))
	t.Cleanup(func() { assert.NoError(t, q.Stop(ctx)) })
}

// ends waits for a task's end.
func ends(t *testing.T, c *catalog.Catalog, id string) (last catalog.Task) {
	require.Eventually(t, func() bool {
		var err error
		last, err = c.Task(ctx, id)
		require.NoError(t, err)
		return last.Ended()
	}, time.Minute, 20*time.Millisecond)
	return last
}

func neverUndone(context.Context, catalog.Task) (bool, error) {
	return false, errors.New("it had not died")
}

// TestTasks lets tasks be done, failed, tried again, refused and cancelled.
func TestTasks(t *testing.T) {
	c := openCatalogue(t)
	k := catalog.Cluster{ID: catalog.NewID(), Name: "ferries", SegmentSize: 1 << 20}
	other := catalog.Cluster{ID: catalog.NewID(), Name: "barges", SegmentSize: 1 << 20}
	require.NoError(t, c.AddCluster(ctx, k))
	require.NoError(t, c.AddCluster(ctx, other))
	q := instance(t, c)
	goOn, tries := make(chan struct{}), atomic.Int32{}
	refusal := problem.New(problem.Conflict, "Wait.", "nothing was begun", "one is at it")
	wait := func(ctx context.Context, _ catalog.Task, _ alone, r task.Report) (any, error) {
		r.Log("waiting")
		select {
		case <-goOn:
			return map[string]int{"done": 1}, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	Add(q, Kind[alone]{Undo: neverUndone, Alone: refusal, Work: wait})
	Add(q, Kind[twice]{Undo: neverUndone, Tries: 2, Work: func(_ context.Context, _ catalog.Task, o twice, _ task.Report) (any, error) {
		if n := tries.Add(1); o.Text == "panic" || n%2 == 1 {
			panic(o.Text)
		}
		return o.Text, nil
	}})
	start(t, q)

	one, err := q.Submit(ctx, k.ID, "", alone{})
	require.NoError(t, err)
	_, err = q.Submit(ctx, k.ID, "", alone{})
	require.ErrorIs(t, err, error(refusal), "a second one of the cluster")
	beside, err := q.Submit(ctx, other.ID, "", alone{})
	require.NoError(t, err, "one of another cluster")
	list, err := c.Tasks(ctx, catalog.TaskFilter{Limit: 10})
	require.NoError(t, err)
	assert.Len(t, list, 2, "what was refused was not recorded")
	require.NoError(t, q.Cancel(ctx, beside))
	assert.Equal(t, catalog.TaskCancelled, ends(t, c, beside.ID).State)
	close(goOn)
	done := ends(t, c, one.ID)
	assert.Equal(t, catalog.TaskDone, done.State)
	assert.JSONEq(t, `{"done": 1}`, string(*done.Outcome))
	assert.Equal(t, problem.Conflict, q.Cancel(ctx, done).(*problem.Problem).Kind, "it has ended")
	again, err := q.Submit(ctx, k.ID, "", alone{})
	require.NoError(t, err, "the first one has ended")
	assert.Equal(t, catalog.TaskDone, ends(t, c, again.ID).State)

	second, err := q.Submit(ctx, "", "", twice{Text: "at last"})
	require.NoError(t, err)
	done = ends(t, c, second.ID)
	assert.Equal(t, catalog.TaskDone, done.State, "the first time it panicked")
	assert.JSONEq(t, `"at last"`, string(*done.Outcome))
	lines, err := c.TaskLines(ctx, second.ID, 0)
	require.NoError(t, err)
	require.NotEmpty(t, lines)
	assert.Contains(t, lines[0].Text, "a fault in the program: at last")
	failing, err := q.Again(ctx, catalog.Task{Kind: "twice", Arguments: []byte(`{"text": "panic"}`)}, "subject")
	require.NoError(t, err)
	failed := ends(t, c, failing.ID)
	assert.Equal(t, catalog.TaskFailed, failed.State)
	assert.Equal(t, "subject", failed.Subject)
	assert.EqualValues(t, 4, tries.Load(), "not tried a third time")
}

// TestAnInstanceDies has another one put right what it left: a task that it ran, and one that it had only taken.
func TestAnInstanceDies(t *testing.T) {
	c := openCatalogue(t)
	k := catalog.Cluster{ID: catalog.NewID(), Name: "ferries", SegmentSize: 1 << 20}
	require.NoError(t, c.AddCluster(ctx, k))
	undone, did := atomic.Int32{}, atomic.Int32{}
	kinds := func(q *Queue) {
		Add(q, Kind[alone]{Alone: problem.New(problem.Conflict, "", "no", "one is at it"),
			Work: func(context.Context, catalog.Task, alone, task.Report) (any, error) { did.Add(1); return nil, nil },
			Undo: func(context.Context, catalog.Task) (bool, error) { undone.Add(1); return false, nil }})
		Add(q, Kind[twice]{Undo: neverUndone,
			Work: func(context.Context, catalog.Task, twice, task.Report) (any, error) { did.Add(1); return nil, nil }})
	}
	dead := instance(t, c)
	kinds(dead)
	running, err := dead.Submit(ctx, k.ID, "", alone{})
	require.NoError(t, err)
	taken, err := dead.Submit(ctx, k.ID, "", twice{})
	require.NoError(t, err)
	// It has taken both from the queue, and begun one, when it dies.
	took := time.Now().Add(-time.Hour)
	_, err = c.DB().ExecContext(ctx, `update velvet.river_job set state = 'running', attempt = 1, attempted_at = $1`, took)
	require.NoError(t, err)
	_, err = c.DB().ExecContext(ctx, `update velvet.tasks set created_at = $1`, took)
	require.NoError(t, err)
	began, _, err := c.BeginTask(ctx, running.ID, dead.Instance, catalog.Limits{})
	require.NoError(t, err)
	require.True(t, began)
	dead.Lease.Release()

	q := instance(t, c)
	kinds(q)
	start(t, q)
	_, err = q.Submit(ctx, k.ID, "", alone{})
	require.Error(t, err, "the dead one's task still counts")
	require.NoError(t, q.recoverOnce(ctx))
	assert.Zero(t, undone.Load(), "it may have lost its connection only")
	require.NoError(t, q.recoverOnce(ctx))
	assert.EqualValues(t, 1, undone.Load())
	interrupted := ends(t, c, running.ID)
	assert.Equal(t, catalog.TaskFailed, interrupted.State)
	assert.Contains(t, string(*interrupted.Problem), "the service ended while it ran")
	assert.Equal(t, catalog.TaskDone, ends(t, c, taken.ID).State)
	after, err := q.Submit(ctx, k.ID, "", alone{})
	require.NoError(t, err)
	assert.Equal(t, catalog.TaskDone, ends(t, c, after.ID).State)
	assert.EqualValues(t, 2, did.Load())

	// One that dies when it has recorded the end of a task, before the queue has heard of it, blocks nothing either.
	finished := `select state from velvet.river_job where id = $1`
	require.Eventually(t, func() bool {
		var state string
		require.NoError(t, c.DB().QueryRowContext(ctx, finished, ends(t, c, after.ID).JobID).Scan(&state))
		return state == "completed"
	}, time.Minute, 20*time.Millisecond)
	_, err = c.DB().ExecContext(ctx, `update velvet.river_job set state = 'running', finalized_at = null where id = $1`,
		ends(t, c, after.ID).JobID)
	require.NoError(t, err)
	_, err = c.DB().ExecContext(ctx, `update velvet.tasks set finished_at = $1 where state <> 'running'`, took)
	require.NoError(t, err)
	require.NoError(t, q.recoverOnce(ctx))
	last, err := q.Submit(ctx, k.ID, "", alone{})
	require.NoError(t, err)
	assert.Equal(t, catalog.TaskDone, ends(t, c, last.ID).State)
}

// TestNothingIsHalfRecorded leaves neither task nor job behind where one of them cannot be written.
func TestNothingIsHalfRecorded(t *testing.T) {
	c := openCatalogue(t)
	q := instance(t, c)
	Add(q, Kind[twice]{Undo: neverUndone})
	_, err := q.Submit(ctx, "no such cluster", "", twice{})
	require.Error(t, err)
	_, err = q.Submit(ctx, "", "", alone{})
	require.ErrorContains(t, err, "alone at it")
	var rows int
	require.NoError(t, c.DB().QueryRowContext(ctx, `select (select count(*) from velvet.tasks) + (select count(*) from velvet.river_job)`).
		Scan(&rows))
	assert.Zero(t, rows)
}
