package handlers

import (
	"context"
	"net/http"

	"velvetrewind/api"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Repairs has damaged or lost files of stopped clusters be replaced.
type Repairs struct {
	Catalog *catalog.Catalog
	Tasks   *tasks.Queue
}

// Register registers the operations.
func (h *Repairs) Register(api *Surface) {
	op(api, http.MethodPost, "/clusters/{cluster}/repair", "repair",
		"Lay right files over damaged or lost ones of a stopped cluster, or say what that would do", http.StatusAccepted, h.repair)
}

type repairIn struct {
	ClusterPath
	Body api.RepairRequest
}

func (h *Repairs) repair(ctx context.Context, in *repairIn) (*body[api.Task], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if !in.Body.Plan {
		if err := confirmed(in.Body.Confirm, k.Name, "nothing was changed", work.Repairing(k)); err != nil {
			return nil, err
		}
	}
	t, err := h.Tasks.Submit(ctx, k.ID, k.ID, work.Repair{Apply: !in.Body.Plan, Tablespaces: in.Body.Tablespaces,
		Relations: in.Body.Relations, NoStart: in.Body.NoStart})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, map[string]string{k.ID: k.Name}))
}
