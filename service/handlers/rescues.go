package handlers

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Rescues has rows brought back, and shows what that would do, and did.
type Rescues struct {
	Catalog *catalog.Catalog
	Worker  *work.Worker
	Tasks   *tasks.Queue
	Log     *slog.Logger
}

// Register registers the operations.
func (h *Rescues) Register(api *Surface) {
	op(api, http.MethodPost, "/copies/{copy}/rescues", "rescue", "Bring back what the transaction just after a copy took",
		http.StatusAccepted, h.begin)
	op(api, http.MethodPost, "/copies/{copy}/rescues/script", "script-rescue", "Write SQL that brings it back, changing nothing", 0,
		h.script)
	op(api, http.MethodPost, "/copies/{copy}/export", "export-rows", "Write rows of a table of a copy as CSV, Parquet or SQL", 0, h.export)
	question(api, "/copies/{copy}/comparisons", "compare",
		"Hold tables of a copy against the live ones; what differs is the task's outcome", h.compare)
	op(api, http.MethodGet, "/rescues", "list-rescues", "List the rescues, newest first", 0, h.list)
	op(api, http.MethodGet, "/rescues/{rescue}", "show-rescue", "Show a rescue", 0, h.show)
}

type beginRescue struct {
	CopyPath
	Body api.RescueRequest
}

// order reads what is asked for.
func (h *Rescues) order(ctx context.Context, in *beginRescue) (k catalog.Copy, cluster catalog.Cluster, id string, o work.Rescue,
	err error) {
	const title = "nothing was changed"
	if k, cluster, err = h.Catalog.CopyAndCluster(ctx, in.Copy); err != nil {
		return k, cluster, "", o, err
	}
	if err := readable(k); err != nil {
		return k, cluster, "", o, err
	}
	b := in.Body
	o = work.Rescue{Copy: k.ID, XID: b.Transaction, Also: b.Also, Tables: b.Tables, NoTriggers: b.NoTriggers, Trust: b.TrustCode,
		As: b.As, Mode: b.Mode, Open: b.Open, AtOnce: b.AtOnce, Pause: time.Duration(b.Pause * float64(time.Second))}
	for _, text := range b.Settle {
		r, err := rescue.ParseRule(text)
		if err != nil {
			return k, cluster, "", o, problem.Wrap(err, problem.Invalid, title, "")
		}
		o.Rules = append(o.Rules, r)
	}
	if o.XID == 0 {
		var p plan.Restore
		if err := json.Unmarshal(k.Plan, &p); err != nil {
			return k, cluster, "", o, err
		}
		if p.Boundary.FirstOut == nil {
			return k, cluster, "", o, problem.New(problem.Invalid, "Make one just before the accident: velvet restore start "+cluster.Name+
				" \"before tx XID\"", title, "no transaction is known that comes just after the copy")
		}
		o.XID = uint64(p.Boundary.FirstOut.XID)
	}
	id = catalog.NewID()
	if b.As != "" {
		o.Password, err = h.Worker.SealFor(id, b.AsPassword)
	}
	return k, cluster, id, o, err
}

func (h *Rescues) begin(ctx context.Context, in *beginRescue) (*body[api.Task], error) {
	_, cluster, id, o, err := h.order(ctx, in)
	if err != nil {
		return nil, err
	}
	if o.Mode == work.ModeApply {
		loss := fmt.Sprintf("the rows that %s %s took are written into %s, which goes on serving",
			map[bool]string{false: "transaction", true: "transactions"}[len(o.Also) > 0], xids(o), cluster.Name)
		if err := confirmed(in.Body.Confirm, cluster.Name, "nothing was changed", loss); err != nil {
			return nil, err
		}
	}
	t, err := h.Tasks.Submit(ctx, cluster.ID, id, o)
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, map[string]string{cluster.ID: cluster.Name}))
}

// xids are the ids of what a rescue undoes.
func xids(o work.Rescue) string {
	text := fmt.Sprint(o.XID)
	for _, x := range o.Also {
		text += fmt.Sprintf(", %d", x)
	}
	return text
}

type compareCopy struct {
	CopyPath
	Body api.CompareRequest
}

func (h *Rescues) compare(ctx context.Context, in *compareCopy) (*body[api.Task], error) {
	k, cluster, err := h.Catalog.CopyAndCluster(ctx, in.Copy)
	if err != nil {
		return nil, err
	}
	if err := readable(k); err != nil {
		return nil, err
	}
	t, err := h.Tasks.Submit(ctx, cluster.ID, k.ID, work.Compare(in.Body))
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, map[string]string{cluster.ID: cluster.Name}))
}

// readable refuses a copy whose rows cannot be read now.
func readable(k catalog.Copy) error {
	if k.State == catalog.CopyPaused || k.State == catalog.CopyOpen {
		return nil
	}
	return problem.New(problem.Conflict, "See: velvet copy show "+k.Name, "nothing was changed",
		"the copy is %s; rows are read from one that is paused or open", k.State)
}

// script writes into a file first: what cannot be written to its end is not begun.
func (h *Rescues) script(ctx context.Context, in *beginRescue) (*huma.StreamResponse, error) {
	k, cluster, id, o, err := h.order(ctx, in)
	if err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(h.Worker.Spool, "rescue-*")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(file.Name()) // it goes with its last reader
	if err = h.Worker.ScriptRescue(ctx, k, cluster, id, o, file); err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, joinClose(err, file)
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer func() { _ = file.Close() }()
		out.SetHeader("Content-Type", "application/sql")
		_, _ = io.Copy(out.BodyWriter(), file)
	}}, nil
}

type exportRows struct {
	CopyPath
	Body api.ExportRequest
}

// export finds everything first, and then writes as it reads: an end too early is an error at the other end.
func (h *Rescues) export(ctx context.Context, in *exportRows) (*huma.StreamResponse, error) {
	b := in.Body
	k, cluster, _, o, err := h.order(ctx, &beginRescue{CopyPath: in.CopyPath, Body: api.RescueRequest{Transaction: b.Transaction,
		Also: b.Also}})
	if err != nil && !b.EveryRow {
		return nil, err
	}
	if b.EveryRow {
		if k, cluster, err = h.Catalog.CopyAndCluster(ctx, in.Copy); err == nil {
			err = readable(k)
		}
		if err != nil {
			return nil, err
		}
		if o.XID = 0; b.Database == "" {
			return nil, problem.New(problem.Invalid, "Name it with --database.", "nothing was written", "the table's database is missing")
		}
	}
	e, err := h.Worker.Exporting(ctx, k, cluster, o, b)
	if err != nil {
		return nil, err
	}
	types := map[string]string{"csv": "text/csv; charset=utf-8", "sql": "application/sql", "parquet": "application/vnd.apache.parquet"}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer e.Close()
		out.SetHeader("Content-Type", types[b.Form])
		if err := e.Write(out.Context(), out.BodyWriter()); err != nil {
			h.Log.Error("rows could not be written to their end", "copy", k.Name, "table", b.Table, "error", err)
			panic(http.ErrAbortHandler) // so that the other end does not take them for all
		}
	}}, nil
}

func joinClose(err error, c io.Closer) error {
	_ = c.Close()
	return err
}

type listRescues struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
	Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (h *Rescues) list(ctx context.Context, in *listRescues) (*body[[]api.Rescue], error) {
	of, err := h.Catalog.ClusterID(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.Rescues(ctx, of, in.Limit)
	if err != nil {
		return nil, err
	}
	views := make([]api.Rescue, len(list))
	for i := range list {
		if views[i], err = h.view(ctx, &list[i]); err != nil {
			return nil, err
		}
		for t := range views[i].Tables {
			views[i].Tables[t].Conflicts = []api.RescueConflict{}
		}
	}
	return answer(views, nil)
}

func (h *Rescues) view(ctx context.Context, r *catalog.Rescue) (api.Rescue, error) {
	names, err := h.Catalog.ClusterNames(ctx)
	if err != nil {
		return api.Rescue{}, err
	}
	copies := make(map[string]string)
	if k, err := h.Catalog.Copy(ctx, r.CopyID); err == nil {
		copies[k.ID] = k.Name
	}
	return shapes.Rescue(r, names, copies)
}

type showRescue struct {
	Rescue string `path:"rescue" doc:"id, or an unambiguous end of it"`
}

func (h *Rescues) show(ctx context.Context, in *showRescue) (*body[api.Rescue], error) {
	r, err := h.Catalog.Rescue(ctx, in.Rescue)
	if err != nil {
		return nil, err
	}
	return answer(h.view(ctx, &r))
}
