package handlers

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"time"

	"velvetrewind/api"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/fleet"
	"velvetrewind/service/planner"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Rehearsals begins rehearsals, and shows what they came to.
type Rehearsals struct {
	Catalog *catalog.Catalog
	Fleet   *fleet.Reader
	Planner *planner.Planner
	Tasks   *tasks.Queue
	Now     func() time.Time
}

// Register registers the operations.
func (h *Rehearsals) Register(api *Surface) {
	op(api, http.MethodPost, "/clusters/{cluster}/rehearsals", "rehearse", "Make a copy, prove it, record what that took, and discard it",
		http.StatusAccepted, h.rehearse)
	op(api, http.MethodGet, "/rehearsals", "list-rehearsals", "List rehearsals, newest first", 0, h.list)
	op(api, http.MethodGet, "/rehearsals/digest", "show-digest", "Show what the rehearsals of all clusters come to", 0, h.showDigest)
	op(api, http.MethodGet, "/rehearsals/report", "report-digest", "Write that down", 0, h.report)
	op(api, http.MethodPut, "/clusters/{cluster}/objective", "set-objective",
		"Say within what time a cluster is to be back, and losing how much", 0, h.setObjective)
}

type rehearse struct {
	ClusterPath
	Body api.RehearseRequest
}

func (h *Rehearsals) rehearse(ctx context.Context, in *rehearse) (*body[api.Task], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	pick := in.Body.Pick
	switch pick {
	case "":
		pick = catalog.PickLatest
	case catalog.PickLatest, catalog.PickRandom, catalog.PickOldest:
	default:
		_, p, _, err := h.Planner.Plan(ctx, in.Cluster, pick, "")
		if err != nil {
			return nil, err
		}
		pick = p.Boundary.Moment
	}
	id, err := h.Catalog.StartRehearsal(ctx, catalog.Rehearsal{ClusterID: k.ID, Pick: pick, AskedBy: "by hand"})
	if err != nil {
		return nil, err
	}
	t, err := h.Tasks.SubmitAs(ctx, id, k.ID, id, work.Rehearse{})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, map[string]string{k.ID: k.Name}))
}

type listRehearsals struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
	Days    int    `query:"days"                               minimum:"1" maximum:"3660" default:"30"`
}

func (h *Rehearsals) list(ctx context.Context, in *listRehearsals) (*body[[]api.Rehearsal], error) {
	of, names, err := only(ctx, h.Catalog, in.Cluster)
	if err != nil {
		return nil, err
	}
	since := h.Now().AddDate(0, 0, -in.Days)
	list, err := h.Catalog.Rehearsals(ctx, of, since)
	if err != nil {
		return nil, err
	}
	views := []api.Rehearsal{}
	for i := range list {
		if !list[i].EndedAt.Time.Before(since) {
			views = append(views, shapes.Rehearsal(&list[i], names))
		}
	}
	return answer(views, nil)
}

// DigestSpan says how much of the past is consolidated.
type DigestSpan struct {
	Days int `query:"days" minimum:"1" maximum:"3660" default:"30"`
}

func (h *Rehearsals) showDigest(ctx context.Context, in *DigestSpan) (*body[api.Digest], error) {
	d, err := h.Fleet.Digest(ctx, in.Days)
	return answer(shapes.Digest(&d), err)
}

type reportDigest struct {
	DigestSpan
	Format string `query:"format" enum:"html,csv,json" default:"html"`
}

func (h *Rehearsals) report(ctx context.Context, in *reportDigest) (*body[api.Report], error) {
	d, err := h.Fleet.Digest(ctx, in.Days)
	if err != nil {
		return nil, err
	}
	out := api.Report{Name: "rehearsals-" + d.To.UTC().Format(time.DateOnly) + "." + in.Format, Type: "text/" + in.Format}
	var content []byte
	switch in.Format {
	case "csv":
		content, err = d.CSV()
	case "json":
		out.Type = "application/json"
		content, err = json.MarshalIndent(shapes.Digest(&d), "", "  ")
	default:
		content, err = d.HTML()
	}
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(content)
	out.Content, out.SHA256 = string(content), hex.EncodeToString(sum[:])
	return answer(out, nil)
}

type setObjective struct {
	ClusterPath
	Body api.Objective
}

func (h *Rehearsals) setObjective(ctx context.Context, in *setObjective) (*body[api.Objective], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return answer(in.Body, h.Catalog.SetObjective(ctx, k.ID, in.Body.BackWithin, in.Body.LosingAtMost))
}
