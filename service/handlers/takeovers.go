package handlers

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/takeover"
	"velvetrewind/service/logins"
	"velvetrewind/service/planner"
	"velvetrewind/service/problems"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Takeovers shows what putting copies in the place of their originals would do, and has it done.
type Takeovers struct {
	Catalog *catalog.Catalog
	Logins  logins.Logins
	Planner *planner.Planner
	Taker   *takeover.Taker
	Tasks   *tasks.Queue
	Now     func() time.Time
}

// Register registers the operations.
func (h *Takeovers) Register(api *Surface) {
	op(api, http.MethodGet, "/copies/{copy}/takeover", "plan-takeover", "Show what putting a copy in the place of its original would do", 0,
		h.show)
	op(api, http.MethodPost, "/copies/{copy}/takeover", "take-over", "Put a copy in the place of its original",
		http.StatusAccepted, h.begin)
	op(api, http.MethodGet, "/clusters/{cluster}/takeovers", "list-takeovers", "List a cluster's takeovers, newest first", 0, h.list)
	op(api, http.MethodDelete, "/takeovers/{takeover}/aside", "clear-takeover", "Remove what a takeover has set aside",
		http.StatusAccepted, h.clear)
}

// plan looks at what a takeover with a copy would do.
func (h *Takeovers) plan(ctx context.Context, name string, w takeover.Wish) (k catalog.Copy, cluster catalog.Cluster,
	v api.Takeover, err error) {
	if k, cluster, err = h.Catalog.CopyAndCluster(ctx, name); err != nil {
		return k, cluster, v, err
	}
	if err := copies.Whole(k, "the original was not touched"); err != nil {
		return k, cluster, v, err
	}
	p := h.Taker.Prepare(ctx, cluster, k, w)
	v = api.Takeover{Cluster: cluster.Name, Copy: k.Name, Moment: k.Moment, Original: original(p.Original)}
	if p.Original.DataDir != "" && !p.Original.Gone {
		v.Aside = takeover.Aside(cluster, p.Original, p.Aside)
	}
	v.Plan = &api.TakeoverPlan{Obstacles: shapes.Each(p.Obstacles, func(o problem.Problem) api.Problem { return *problems.Doc(&o) })}
	v.Plan.Brought = append([]string{}, p.Brought...)
	var r plan.Restore
	if err := json.Unmarshal(k.Plan, &r); err != nil {
		return k, cluster, v, err
	}
	v.Plan.Boundary = shapes.Boundary(r.Boundary)
	o, err := h.Planner.Open(ctx, cluster.ID)
	if err != nil {
		return k, cluster, v, err
	}
	cost, err := h.Planner.Undone(ctx, o, r.Boundary)
	if err != nil {
		return k, cluster, v, err
	}
	v.Plan.Cost = shapes.Cost(cost)
	proofs, err := h.Catalog.Proofs(ctx, k.ID, 1)
	if err != nil {
		return k, cluster, v, err
	}
	if len(proofs) > 0 && proofs[0].Moves == k.Moves {
		var checks []proof.Check
		if err := json.Unmarshal(proofs[0].Checks, &checks); err != nil {
			return k, cluster, v, err
		}
		v.Plan.Verdict = string(work.Verdict(checks, p.Original.Running))
	}
	if v.Plan.Connected, v.Plan.Standbys, err = h.attached(ctx, cluster); err != nil {
		v.Plan.Unknown = err.Error()
	}
	kept := "its directory of today is kept as " + p.Original.DataDir + p.Aside
	if p.Original.Gone {
		kept = "its directory is lost, and made anew"
	}
	v.Plan.Loss = fmt.Sprintf("%s is stopped, and serves again as it was %s: of what committed since, %s and %s of tables are undone; %s",
		cluster.Name, k.Moment, figures.Of(int(v.Plan.Cost.Transactions), "transaction"),
		figures.Of(int(undone(v.Plan.Cost)), "change"), kept)
	return k, cluster, v, nil
}

// undone is how many changes of rows going back takes back.
func undone(c api.Cost) (n int64) {
	for _, t := range c.Tables {
		n += t.Inserted + t.Updated + t.Deleted
	}
	return n
}

func original(o host.Original) api.TakeoverOriginal {
	return api.TakeoverOriginal{DataDirectory: o.DataDir, User: o.User, Unit: o.Unit, Arguments: append([]string{}, o.Args...),
		Running: o.Running, Lost: o.Gone}
}

// attached lists the sessions that would be cut off, and the standbys that follow the original.
func (h *Takeovers) attached(ctx context.Context, cluster catalog.Cluster) (sessions, standbys []api.TakeoverUsers, err error) {
	sessions, standbys = []api.TakeoverUsers{}, []api.TakeoverUsers{}
	a, err := h.Logins.Access(cluster)
	if err != nil {
		return sessions, standbys, err
	}
	conn, err := a.SQL(ctx, "")
	if err != nil {
		return sessions, standbys, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	for _, list := range []struct {
		of    *[]api.TakeoverUsers
		where string
	}{
		{&sessions, `pg_catalog.pg_stat_activity where backend_type operator(pg_catalog.=) 'client backend'`},
		{&standbys, `pg_catalog.pg_stat_replication where coalesce(state, '') operator(pg_catalog.<>) 'backup'`},
	} {
		rows, err := conn.Query(ctx, `select coalesce(usename::pg_catalog.text, ''), coalesce(application_name, ''),
			coalesce(pg_catalog.host(client_addr), ''), pg_catalog.count(*)::int from `+list.where+`
			and coalesce(application_name, '') operator(pg_catalog.!~~) 'velvet%'
			group by 1, 2, 3 order by 4 desc, 1, 2, 3 limit 100`)
		if err != nil {
			return sessions, standbys, err
		}
		found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[api.TakeoverUsers])
		if err != nil {
			return sessions, standbys, err
		}
		*list.of = append(*list.of, found...)
	}
	return sessions, standbys, nil
}

type planTakeover struct {
	CopyPath
	HostLost bool `query:"hostLost" doc:"the host is lost for good on which the original was"`
	Refuse   bool `query:"refuseClients" doc:"clients are to be refused from the beginning"`
}

func (h *Takeovers) show(ctx context.Context, in *planTakeover) (*body[api.Takeover], error) {
	_, _, v, err := h.plan(ctx, in.Copy, takeover.Wish{Now: h.Now(), Lost: in.HostLost, Refuse: in.Refuse})
	return answer(v, err)
}

type takeOver struct {
	CopyPath
	Body api.TakeoverRequest
}

func (h *Takeovers) begin(ctx context.Context, in *takeOver) (*body[api.Task], error) {
	k, cluster, v, err := h.plan(ctx, in.Copy, takeover.Wish{Now: h.Now(), Lost: in.Body.HostLost, Refuse: in.Body.Refuse})
	if err != nil {
		return nil, err
	}
	if len(v.Plan.Obstacles) > 0 {
		return nil, &v.Plan.Obstacles[0]
	}
	if verdict := proof.Verdict(v.Plan.Verdict); verdict != "" && verdict != proof.Passed && !in.Body.Despite {
		return nil, work.Unproved(k, verdict)
	}
	if err := confirmed(in.Body.Confirm, cluster.Name, "the original was not touched", v.Plan.Loss); err != nil {
		return nil, err
	}
	t, err := h.Tasks.Submit(ctx, cluster.ID, k.ID, work.Takeover{Despite: in.Body.Despite, Quick: in.Body.Quick,
		HostLost: in.Body.HostLost, Refuse: in.Body.Refuse})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, map[string]string{cluster.ID: cluster.Name}))
}

func (h *Takeovers) list(ctx context.Context, in *ClusterPath) (*body[[]api.Takeover], error) {
	cluster, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.Takeovers(ctx, cluster.ID)
	if err != nil {
		return nil, err
	}
	views := make([]api.Takeover, len(list))
	for i, t := range list {
		if views[i], err = h.record(ctx, cluster, t); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

func (h *Takeovers) record(ctx context.Context, cluster catalog.Cluster, t catalog.Takeover) (v api.Takeover, err error) {
	var o host.Original
	if err := json.Unmarshal(t.Original, &o); err != nil {
		return v, err
	}
	k, err := h.Catalog.Copy(ctx, t.CopyID)
	if err != nil {
		return v, err
	}
	begun := t.BegunAt.UTC()
	v = api.Takeover{ID: t.ID, Cluster: cluster.Name, Copy: k.Name, Moment: t.Moment, Step: t.Step, Original: original(o),
		Aside: takeover.Aside(cluster, o, t.Aside), Removed: t.RemovedAt.Valid, BegunAt: &begun, Problem: t.Problem}
	if t.Step == catalog.TakeoverHanded || o.Gone {
		v.Aside = []string{} // it became the copy's, or was lost
	}
	if t.EndedAt.Valid {
		ended := t.EndedAt.Time.UTC()
		v.EndedAt = &ended
		if t.Step == catalog.TakeoverDone && !t.RemovedAt.Valid && !o.Gone {
			until := takeover.KeptUntil(t).UTC()
			v.KeptUntil = &until
		}
	}
	return v, nil
}

type clearTakeover struct {
	Takeover string `path:"takeover" doc:"its id"`
	Confirm  string `query:"confirm" doc:"name of the cluster"`
}

func (h *Takeovers) clear(ctx context.Context, in *clearTakeover) (*body[api.Task], error) {
	t, err := h.Catalog.Takeover(ctx, in.Takeover)
	if err != nil {
		return nil, err
	}
	cluster, err := h.Catalog.Cluster(ctx, t.ClusterID)
	if err != nil {
		return nil, err
	}
	v, err := h.record(ctx, cluster, t)
	if err != nil {
		return nil, err
	}
	loss := fmt.Sprintf("%s is removed for good: what the original held when it was taken over, and the WAL of it that was never captured",
		v.Aside[0])
	if err := confirmed(in.Confirm, cluster.Name, "nothing was removed", loss); err != nil {
		return nil, err
	}
	task, err := h.Tasks.Submit(ctx, cluster.ID, t.ID, work.Clear{})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(task, map[string]string{cluster.ID: cluster.Name}))
}
