package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/service/wire"
)

func (s *Service) taskAPI(api huma.API) {
	op(s, api, http.MethodGet, "/tasks", "list-tasks", "List tasks, newest first", 0, s.listTasks)
	op(s, api, http.MethodGet, "/tasks/{task}", "show-task", "Show a task", 0, s.showTask)
	op(s, api, http.MethodGet, "/tasks/{task}/lines", "read-task-log", "Read a task's log", 0, s.readLog)
	op(s, api, http.MethodPost, "/tasks/{task}/cancel", "cancel-task", "Cancel a task; what it had made is removed", 0, s.cancelTask)
}

// TaskPath names a task in a path.
type TaskPath struct {
	Task string `path:"task" doc:"id of the task"`
}

func (s *Service) clusterNames(ctx context.Context) (map[string]string, error) {
	list, err := s.catalog.Clusters(ctx)
	names := make(map[string]string, len(list))
	for _, k := range list {
		names[k.ID] = k.Name
	}
	return names, err
}

type listTasks struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
	Active  bool   `query:"active" doc:"only those that wait or run"`
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"1000"`
}

func (s *Service) listTasks(ctx context.Context, in *listTasks) (*body[[]wire.Task], error) {
	of, err := s.clusterID(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	names, err := s.clusterNames(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.catalog.Tasks(ctx, of, in.Active, in.Limit)
	if err != nil {
		return nil, err
	}
	views := make([]wire.Task, len(list))
	for i, t := range list {
		if views[i], err = taskView(t, names); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

func (s *Service) showTask(ctx context.Context, in *TaskPath) (*body[wire.Task], error) {
	names, err := s.clusterNames(ctx)
	if err != nil {
		return nil, err
	}
	t, err := s.catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	return answer(taskView(t, names))
}

type readLog struct {
	TaskPath
	After int `query:"after" doc:"only lines behind this number"`
}

func (s *Service) readLog(ctx context.Context, in *readLog) (*body[[]wire.Line], error) {
	if _, err := s.catalog.Task(ctx, in.Task); err != nil {
		return nil, err
	}
	lines, err := s.catalog.TaskLines(ctx, in.Task, in.After)
	if err != nil {
		return nil, err
	}
	views := make([]wire.Line, len(lines))
	for i, l := range lines {
		views[i] = wire.Line{Number: l.Number, At: l.At.UTC(), Level: l.Level, Text: l.Text}
	}
	return answer(views, nil)
}

func (s *Service) cancelTask(ctx context.Context, in *TaskPath) (*body[wire.Task], error) {
	t, err := s.catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	if err := s.tasks.cancel(ctx, t); err != nil {
		return nil, err
	}
	return s.showTask(ctx, in)
}
