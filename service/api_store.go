package service

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/engine/audit"
	"velvetrewind/engine/problem"
	"velvetrewind/service/wire"
)

func (s *Service) storeAPI(api huma.API) {
	op(s, api, http.MethodPost, "/store/audits", "audit-store", "Look through the store", http.StatusAccepted, s.submitAudit)
	op(s, api, http.MethodPost, "/store/rebuilds", "rebuild-catalogue", "Record everything that the store holds and the catalogue does not know", http.StatusAccepted, s.submitRebuild)
	op(s, api, http.MethodGet, "/store/audits/{task}", "show-audit", "Show what an audit found", 0, s.showAudit)
}

type submitAudit struct {
	Body struct {
		Full bool `json:"full,omitempty" doc:"read every byte, not only what is there"`
	}
}

func (s *Service) submitAudit(ctx context.Context, in *submitAudit) (*body[wire.Task], error) {
	t, err := s.tasks.submit(ctx, taskAudit, "", "", auditArgs{Full: in.Body.Full})
	if err != nil {
		return nil, err
	}
	return answer(taskView(t, nil))
}

func (s *Service) submitRebuild(ctx context.Context, _ *empty) (*body[wire.Task], error) {
	t, err := s.tasks.submit(ctx, taskRebuild, "", "", noArgs{})
	if err != nil {
		return nil, err
	}
	return answer(taskView(t, nil))
}

func (s *Service) showAudit(ctx context.Context, in *TaskPath) (*body[audit.Result], error) {
	t, err := s.catalog.Task(ctx, in.Task)
	if err != nil {
		return nil, err
	}
	if t.Kind != taskAudit || t.Outcome == nil {
		return nil, problem.New(problem.NotFound, "Begin one with: velvet store audit", "there is no such audit", "task %s is no audit that has ended well", in.Task)
	}
	var r audit.Result
	return answer(r, json.Unmarshal(*t.Outcome, &r))
}
