package handlers

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/calendar"
	"velvetrewind/core/figures"
	"velvetrewind/core/keep"
	"velvetrewind/core/layout"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/schedule"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/fleet"
	"velvetrewind/service/shapes"
)

// Calendar sets what recurs, and the policies that say for which clusters.
type Calendar struct {
	Catalog *catalog.Catalog
	Custody *custody.Custody
	Fleet   *fleet.Reader
	Events  *events.Hub
	Now     func() time.Time
}

// Register registers the operations.
func (h *Calendar) Register(api *Surface) {
	op(api, http.MethodGet, "/calendar", "list-calendar", "List recurring work, with its next runs", 0, h.listCalendar)
	op(api, http.MethodPost, "/calendar", "add-entry", "Put something into the calendar", http.StatusCreated, h.addEntry)
	question(api, "/calendar/preview", "preview-schedule", "Tell when a schedule would run, without saving it",
		h.previewSchedule)
	op(api, http.MethodPut, "/calendar/{entry}/paused", "pause-entry", "Pause an entry, or resume it", 0, h.pauseEntry)
	op(api, http.MethodDelete, "/calendar/{entry}", "remove-entry", "Take an entry out of the calendar", http.StatusNoContent,
		h.removeEntry)
	op(api, http.MethodGet, "/policies", "list-policies", "List the policies", 0, h.listPolicies)
	op(api, http.MethodPut, "/policies/{policy}", "set-policy", "Make a policy, or change it", 0, h.setPolicy)
	op(api, http.MethodDelete, "/policies/{policy}", "remove-policy", "Remove a policy, and its calendar", http.StatusNoContent,
		h.removePolicy)
	op(api, http.MethodPut, "/clusters/{cluster}/labels", "set-labels", "Replace a cluster's labels", 0, h.setLabels)
}

func (h *Calendar) listCalendar(ctx context.Context, in *struct {
	Cluster string `query:"cluster" doc:"only what is about this cluster"`
}) (*body[[]api.Entry], error) {
	id, err := h.Catalog.ClusterID(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	all, err := schedule.Load(ctx, h.Catalog)
	if err != nil {
		return nil, err
	}
	views := []api.Entry{}
	for i := range all.Entries {
		v, about := h.entryView(all, &all.Entries[i], id)
		if id == "" || about {
			views = append(views, v)
		}
	}
	return answer(views, nil)
}

// entryView shows an entry, and whether it is about a cluster.
func (h *Calendar) entryView(all *schedule.All, e *schedule.Entry, cluster string) (v api.Entry, about bool) {
	clusters := all.ClustersOf(e)
	v = api.Entry{ID: e.ID, Work: e.Work, Detail: e.Detail, Schedule: shapes.Schedule(e.Plan), Words: e.Plan.String(), Paused: e.Paused,
		Clusters: len(clusters), Next: []api.CalendarRun{}}
	for _, p := range all.Policies {
		if e.PolicyID.String == p.ID {
			v.Policy = p.Name
		}
	}
	names := map[string]string{}
	for _, k := range clusters {
		names[k.ID] = k.Name
		about = about || k.ID == cluster
		if e.ClusterID.Valid {
			v.Cluster = k.Name
		}
	}
	first := ""
	if len(clusters) > 0 {
		first = clusters[0].ID
	}
	if !e.Paused && (len(clusters) > 0 || e.Store()) {
		runs, _ := e.Calendar.Upcoming(h.Now(), 3, e.ShiftOf(first))
		v.Next = shapes.Each(runs, shapes.Run)
	}
	for _, k := range append(clusters, catalog.Cluster{}) {
		if r, ok := all.Last(e.ID, k.ID); ok && (v.Last == nil || r.BegunAt.After(v.Last.At)) {
			v.Last = &api.Begun{Cluster: names[k.ID], Due: r.Due.UTC(), At: r.BegunAt.UTC(), Task: r.TaskID, Problem: r.Problem}
		}
	}
	return v, about
}

type addEntry struct {
	Body api.AddEntryRequest
}

func (h *Calendar) addEntry(ctx context.Context, in *addEntry) (*body[api.Entry], error) {
	e := catalog.Entry{ID: catalog.NewID(), Work: in.Body.Work, Detail: in.Body.Detail}
	if err := checkWork(&e, in.Body.Cluster, in.Body.Policy); err != nil {
		return nil, err
	}
	if in.Body.Cluster != "" {
		k, err := h.Catalog.Cluster(ctx, in.Body.Cluster)
		if err != nil {
			return nil, err
		}
		e.ClusterID = sql.NullString{String: k.ID, Valid: true}
	}
	if in.Body.Policy != "" {
		p, err := h.Catalog.Policy(ctx, in.Body.Policy)
		if err != nil {
			return nil, err
		}
		e.PolicyID = sql.NullString{String: p.ID, Valid: true}
	}
	plan := shapes.ScheduleOf(in.Body.Schedule)
	if _, err := readSchedule(plan); err != nil {
		return nil, err
	}
	encoded, err := json.Marshal(plan)
	if err != nil {
		return nil, err
	}
	e.Schedule = encoded
	if err := h.Catalog.AddEntry(ctx, e); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, "")
	return h.showEntry(ctx, e.ID)
}

// checkWork refuses work that cannot recur as it was asked for, and fills in its detail.
func checkWork(e *catalog.Entry, cluster, policy string) error {
	refuse := func(next, detail string) error {
		return problem.New(problem.Invalid, next, "nothing was put into the calendar", "%s", detail)
	}
	switch {
	case cluster != "" && policy != "":
		return refuse("Name one of them.", "an entry is about a cluster or about those of a policy, not both")
	case e.Work == catalog.WorkAudit && cluster+policy != "":
		return refuse("Leave the cluster out.", "an audit is of the whole store")
	case e.Work != catalog.WorkAudit && cluster+policy == "":
		return refuse("Name a cluster or a policy.", "it is not said what it is about")
	}
	kinds := map[string][]string{catalog.WorkBackup: {"auto", layout.Full, layout.Incremental}, catalog.WorkAudit: {"quick", "full"},
		catalog.WorkKeep:      {""},
		catalog.WorkRehearsal: {catalog.PickLatest, catalog.PickRandom, catalog.PickOldest}}[e.Work]
	if e.Detail == "" {
		e.Detail = kinds[0]
	}
	for _, k := range kinds {
		if k == e.Detail {
			return nil
		}
	}
	return refuse("Leave it out, or choose another.", "there is no "+e.Work+" of the kind "+e.Detail)
}

func readSchedule(plan calendar.Schedule) (*calendar.Calendar, error) {
	c, err := schedule.Read(plan)
	if err == nil {
		return c, nil
	}
	next := "See: velvet calendar add --help"
	if errors.Is(err, calendar.ErrNever) {
		next = "Look at the day of the month, the month and the quiet windows."
	}
	return nil, problem.Wrap(err, problem.Invalid, "the schedule cannot be used", next)
}

func (h *Calendar) showEntry(ctx context.Context, id string) (*body[api.Entry], error) {
	all, err := schedule.Load(ctx, h.Catalog)
	if err != nil {
		return nil, err
	}
	for i := range all.Entries {
		if all.Entries[i].ID == id {
			v, _ := h.entryView(all, &all.Entries[i], "")
			return answer(v, nil)
		}
	}
	_, err = h.Catalog.Entry(ctx, id)
	return nil, err
}

type previewSchedule struct {
	Body api.PreviewScheduleRequest
}

func (h *Calendar) previewSchedule(_ context.Context, in *previewSchedule) (*body[api.Upcoming], error) {
	plan := shapes.ScheduleOf(in.Body.Schedule)
	c, err := readSchedule(plan)
	if err != nil {
		return nil, err
	}
	runs, err := c.Upcoming(h.Now(), max(in.Body.Count, 1), 0)
	return answer(api.Upcoming{Words: plan.String(), Runs: shapes.Each(runs, shapes.Run)}, err)
}

// EntryPath names an entry of the calendar in a path.
type EntryPath struct {
	Entry string `path:"entry" doc:"id of the entry"`
}

type pauseEntry struct {
	EntryPath
	Body api.PauseEntryRequest
}

func (h *Calendar) pauseEntry(ctx context.Context, in *pauseEntry) (*body[api.Entry], error) {
	e, err := h.Catalog.Entry(ctx, in.Entry)
	if err != nil {
		return nil, err
	}
	if err := h.Catalog.PauseEntry(ctx, e.ID, in.Body.Paused); err != nil {
		return nil, err
	}
	return h.showEntry(ctx, e.ID)
}

type removeEntry struct {
	EntryPath
	Confirm string `query:"confirm" doc:"name of the cluster or policy that it is about, or store"`
}

func (h *Calendar) removeEntry(ctx context.Context, in *removeEntry) (*empty, error) {
	shown, err := h.showEntry(ctx, in.Entry)
	if err != nil {
		return nil, err
	}
	e := shown.Body
	what, name := "the cluster's name", e.Cluster
	switch {
	case e.Policy != "":
		what, name = "the policy's name", e.Policy
	case e.Cluster == "":
		what, name = "the word", "store"
	}
	loss := fmt.Sprintf("%s of %s, %s, would not be begun any more", e.Work, name, e.Words)
	if err := confirmedAs(what, in.Confirm, name, "nothing was taken out of the calendar", loss); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, "")
	return nil, h.Catalog.RemoveEntry(ctx, e.ID)
}

func (h *Calendar) listPolicies(ctx context.Context, _ *empty) (*body[[]api.Policy], error) {
	all, err := schedule.Load(ctx, h.Catalog)
	if err != nil {
		return nil, err
	}
	views := make([]api.Policy, len(all.Policies))
	for i, p := range all.Policies {
		if views[i], err = policyView(all, p); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

func policyView(all *schedule.All, p catalog.Policy) (v api.Policy, err error) {
	v = api.Policy{Name: p.Name, Clusters: []string{}}
	if v.Labels, err = p.Labels(); err != nil {
		return v, err
	}
	r, ok, err := p.KeepRule()
	if ok {
		v.Keep = (*api.KeepRule)(&r)
	}
	if p.SecondStore.Valid {
		v.SecondStore = &p.SecondStore.Bool
	}
	if p.CaptureAlert.Valid {
		n := int(p.CaptureAlert.Int64)
		v.CaptureAlert = &n
	}
	for _, k := range all.Clusters {
		if of := all.PolicyOf(k); of != nil && of.ID == p.ID {
			v.Clusters = append(v.Clusters, k.Name)
		}
	}
	return v, err
}

// PolicyPath names a policy in a path.
type PolicyPath struct {
	Policy string `path:"policy" doc:"name of the policy"`
}

type setPolicy struct {
	PolicyPath
	Body api.SetPolicyRequest
}

var label = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9_./-]{0,62}$`)

// checkLabels refuses labels that could not be written on a command line.
func checkLabels(labels map[string]string) error {
	for name, value := range labels {
		if !label.MatchString(name) || !label.MatchString(value) {
			return problem.New(problem.Invalid, "Use letters, digits, _ . / and -, at most 63, as in fleet=outer.",
				"the labels cannot be used", "%q is no label", name+"="+value)
		}
	}
	return nil
}

func (h *Calendar) setPolicy(ctx context.Context, in *setPolicy) (*body[api.Policy], error) {
	if !clusterName.MatchString(in.Policy) {
		return nil, problem.New(problem.Invalid, "Begin with a letter; use lower-case letters, digits, - and _, at most 40.",
			"the policy was not saved", "%q cannot be a policy's name", in.Policy)
	}
	if len(in.Body.Labels) == 0 {
		return nil, problem.New(problem.Invalid, "Name a label that its clusters have: --label fleet=outer", "the policy was not saved",
			"without a label it would apply to no cluster")
	}
	if err := checkLabels(in.Body.Labels); err != nil {
		return nil, err
	}
	p := catalog.Policy{ID: catalog.NewID(), Name: in.Policy}
	if in.Body.Keep != nil {
		rule := keep.Rule(*in.Body.Keep)
		if err := checkRule(rule); err != nil {
			return nil, err
		}
		p.KeepSet = encode(rule)
	}
	p.LabelsSet = *encode(in.Body.Labels)
	if in.Body.SecondStore != nil {
		p.SecondStore = sql.NullBool{Bool: *in.Body.SecondStore, Valid: true}
	}
	if in.Body.CaptureAlert != nil {
		p.CaptureAlert = sql.NullInt64{Int64: int64(*in.Body.CaptureAlert), Valid: true}
	}
	if err := h.Catalog.SavePolicy(ctx, p); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, "")
	all, err := schedule.Load(ctx, h.Catalog)
	if err != nil {
		return nil, err
	}
	saved, err := h.Catalog.Policy(ctx, p.Name)
	if err != nil {
		return nil, err
	}
	return answer(policyView(all, saved))
}

// encode writes a plain value as JSON.
func encode(v any) *json.RawMessage {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // shapes of our own
	}
	raw := json.RawMessage(b)
	return &raw
}

type removePolicy struct {
	PolicyPath
	Confirm string `query:"confirm" doc:"name of the policy"`
}

func (h *Calendar) removePolicy(ctx context.Context, in *removePolicy) (*empty, error) {
	p, err := h.Catalog.Policy(ctx, in.Policy)
	if err != nil {
		return nil, err
	}
	all, err := schedule.Load(ctx, h.Catalog)
	if err != nil {
		return nil, err
	}
	v, err := policyView(all, p)
	if err != nil {
		return nil, err
	}
	recurring := 0
	for _, e := range all.Entries {
		if e.PolicyID.String == p.ID {
			recurring++
		}
	}
	loss := fmt.Sprintf("its keep rule and alert would no longer apply to %s, and what its calendar has (%d) would not be begun for "+
		"them any more",
		figures.Of(len(v.Clusters), "cluster"), recurring)
	if err := confirmedAs("the policy's name", in.Confirm, p.Name, "the policy was not removed", loss); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, "")
	return nil, h.Catalog.RemovePolicy(ctx, p.ID)
}

type setLabels struct {
	ClusterPath
	Body map[string]string
}

func (h *Calendar) setLabels(ctx context.Context, in *setLabels) (*body[api.Cluster], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if err := checkLabels(in.Body); err != nil {
		return nil, err
	}
	if err := h.Catalog.SetLabels(ctx, k.ID, in.Body); err != nil {
		return nil, err
	}
	if k, err = h.Catalog.Cluster(ctx, k.ID); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, k.ID)
	if err := h.Custody.KeepRecord(ctx, k); err != nil {
		return nil, err
	}
	return answer(h.Fleet.View(ctx, k))
}
