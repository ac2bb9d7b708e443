package handlers

import (
	"context"
	"net/http"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Tasks shows tasks, and ends or repeats them.
type Tasks struct {
	Catalog *catalog.Catalog
	Queue   *tasks.Queue
	Now     func() time.Time
}

// Register registers the operations.
func (h *Tasks) Register(api *Surface) {
	op(api, http.MethodGet, "/tasks", "list-tasks", "List tasks, newest first", 0, h.listTasks)
	op(api, http.MethodGet, "/tasks/{task}", "show-task", "Show a task", 0, h.showTask)
	op(api, http.MethodGet, "/tasks/{task}/lines", "read-task-log", "Read a task's log", 0, h.readLog)
	op(api, http.MethodPost, "/tasks/{task}/retry", "retry-task", "Do again what a task that failed or was cancelled was to do",
		http.StatusAccepted, h.retryTask)
	op(api, http.MethodGet, "/reports/backups", "report-backups",
		"List the base backups that were taken, also those deleted since, with what each read and stored", 0, h.reportBackups)
	op(api, http.MethodPost, "/tasks/{task}/cancel", "cancel-task", "Cancel a task; what it had made is removed", 0, h.cancelTask)
}

// TaskPath names a task in a path.
type TaskPath struct {
	Task string `path:"task" doc:"id of the task"`
}

type listTasks struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
	Kind    string `query:"kind" doc:"only of this kind"`
	State   string `query:"state" enum:"waiting,running,done,failed,cancelled" doc:"only in this state"`
	Active  bool   `query:"active" doc:"only those that wait or run"`
	Days    int    `query:"days" minimum:"0" maximum:"36500" doc:"only of the last so many days"`
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
}

func (h *Tasks) listTasks(ctx context.Context, in *listTasks) (*body[[]api.Task], error) {
	of, names, err := only(ctx, h.Catalog, in.Cluster)
	if err != nil {
		return nil, err
	}
	f := catalog.TaskFilter{Cluster: of, Kind: in.Kind, State: in.State, Active: in.Active, Limit: in.Limit}
	if in.Days > 0 {
		f.Since = time.Now().AddDate(0, 0, -in.Days)
	}
	list, err := h.Catalog.Tasks(ctx, f)
	if err != nil {
		return nil, err
	}
	views := make([]api.Task, len(list))
	for i, t := range list {
		if views[i], err = shapes.Task(t, names); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

func (h *Tasks) showTask(ctx context.Context, in *TaskPath) (*body[api.Task], error) {
	names, err := h.Catalog.ClusterNames(ctx)
	if err != nil {
		return nil, err
	}
	t, err := h.Catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, names))
}

// retryTask submits the same work again. What depends on something that the task had made
// and that was removed with it is begun anew by its own command.
func (h *Tasks) retryTask(ctx context.Context, in *TaskPath) (*body[api.Task], error) {
	old, err := h.Catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	refuse := func(next, why string) error {
		return problem.New(problem.Conflict, next, "the task was not begun again", "%s", why)
	}
	switch {
	case !old.Ended():
		return nil, refuse("Wait for its end, or cancel it: velvet task cancel "+old.ID, "it has not ended")
	case old.State == catalog.TaskDone:
		return nil, refuse("", "it was done")
	case old.Kind == work.KindCopy || old.Kind == work.KindOpen:
		return nil, refuse("Plan it anew: velvet restore start CLUSTER MOMENT", "what there was of the copy has been removed")
	case old.Kind == work.KindStep:
		return nil, refuse("See whether the copy is still there, and plan anew: velvet copy list", "what it was planned on may be gone")
	case old.Kind == work.KindRehearse:
		return nil, refuse("Ask for another: velvet rehearse now CLUSTER", "a rehearsal is of the moment at which it was begun")
	case old.Kind == work.KindKeep:
		return nil, refuse("Preview it anew: velvet keep preview CLUSTER", "what would be deleted may have changed")
	}
	subject := old.Subject
	if old.Kind == work.KindBackup {
		subject = catalog.NewID()
	}
	t, err := h.Queue.Again(ctx, old, subject)
	if err != nil {
		return nil, err
	}
	names, err := h.Catalog.ClusterNames(ctx)
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, names))
}

type reportBackups struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
	Days    int    `query:"days" default:"31" minimum:"1" maximum:"36500" doc:"of the last so many days"`
}

func (h *Tasks) reportBackups(ctx context.Context, in *reportBackups) (*body[[]api.BackupLine], error) {
	of, names, err := only(ctx, h.Catalog, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.BackupsTaken(ctx, of, h.Now().AddDate(0, 0, -in.Days))
	if err != nil {
		return nil, err
	}
	views := make([]api.BackupLine, len(list))
	for i, b := range list {
		views[i] = api.BackupLine{
			ID: b.ID, Cluster: names[b.ClusterID], Kind: b.Kind, StoppedAt: b.StoppedAt.UTC(),
			Seconds:   b.StoppedAt.Sub(b.StartedAt).Seconds(),
			BytesHeld: b.BytesHeld, BytesRead: b.BytesRead, BytesStored: b.BytesStored, Dropped: b.DroppedAt.Valid,
		}
	}
	return answer(views, nil)
}

type readLog struct {
	TaskPath
	After int `query:"after" doc:"only lines after this number"`
}

func (h *Tasks) readLog(ctx context.Context, in *readLog) (*body[[]api.Line], error) {
	t, err := h.Catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	lines, err := h.Catalog.TaskLines(ctx, t.ID, in.After)
	if err != nil {
		return nil, err
	}
	views := make([]api.Line, len(lines))
	for i, l := range lines {
		views[i] = api.Line{Number: l.Number, At: l.At.UTC(), Level: l.Level, Text: l.Text}
	}
	return answer(views, nil)
}

func (h *Tasks) cancelTask(ctx context.Context, in *TaskPath) (*body[api.Task], error) {
	t, err := h.Catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	if err := h.Queue.Cancel(ctx, t); err != nil {
		return nil, err
	}
	return h.showTask(ctx, in)
}
