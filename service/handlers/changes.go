package handlers

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/fleet"
	"velvetrewind/service/logins"
	"velvetrewind/service/planner"
	"velvetrewind/service/shapes"
)

// Changes shows what was changed, and which of it are incidents.
type Changes struct {
	Catalog  *catalog.Catalog
	Logins   logins.Logins
	Custody  *custody.Custody
	Planner  *planner.Planner
	Fleet    *fleet.Reader
	Captures *capture.Supervisor
	Events   *events.Hub
}

// Register registers the operations.
func (h *Changes) Register(api *Surface) {
	op(api, http.MethodGet, "/clusters/{cluster}/changes", "list-changes", "List transactions of the change journal", 0, h.listChanges)
	op(api, http.MethodGet, "/clusters/{cluster}/changes/{xid}", "show-change", "Show what ended under a transaction id",
		0, h.showChange)
	op(api, http.MethodGet, "/clusters/{cluster}/changes/{xid}/rows", "show-rows",
		"Show the rows that a transaction changed in a table, as far as the WAL holds them", 0, h.showRows)
	op(api, http.MethodGet, "/clusters/{cluster}/deck", "show-deck", "Show a cluster's history over a span of time", 0, h.showDeck)
	op(api, http.MethodGet, "/incidents", "list-incidents", "List the transactions that clusters' rules mark, newest first", 0,
		h.listIncidents)
	op(api, http.MethodPost, "/clusters/{cluster}/incidents/{xid}/settle", "settle-incident",
		"Note that an incident was looked at", 0, h.settleIncident)
	op(api, http.MethodPut, "/clusters/{cluster}/rule", "set-rule", "Say which transactions are incidents, from now on", 0, h.setRule)
	op(api, http.MethodGet, "/clusters/{cluster}/rule", "show-rule", "Show which transactions are incidents", 0, h.showRule)
	op(api, http.MethodPut, "/clusters/{cluster}/authors", "set-authors", "Say how it is watched who writes", 0, h.setAuthors)
	op(api, http.MethodGet, "/clusters/{cluster}/authors", "show-authors", "Show how it is watched who writes", 0, h.showAuthors)
	question(api, "/clusters/{cluster}/rule/try", "try-rule", "Show what a rule would have marked, changing nothing",
		h.tryRule)
}

type listChanges struct {
	ClusterPath
	Table      string    `query:"table" doc:"[[database.]schema.]table"`
	Database   string    `query:"database"`
	Kind       string    `query:"kind" enum:"insert,update,delete,truncate,drop,create,rewrite,alter"`
	MinRows    int64     `query:"minRows" minimum:"0" doc:"changed at least, of the kind if that is given"`
	From       time.Time `query:"from" doc:"committed not before"`
	To         time.Time `query:"to" doc:"committed not after"`
	By         string    `query:"by" doc:"only of authors whose role, application or address holds this"`
	Before     string    `query:"before" doc:"LSN: commit records that begin before it"`
	After      string    `query:"after" doc:"LSN: commit records that begin after it"`
	Order      string    `query:"order" enum:"newest,oldest,biggest" default:"newest"`
	Limit      int       `query:"limit" minimum:"1" maximum:"5000" default:"50"`
	RolledBack bool      `query:"rolledBack" doc:"those that were rolled back instead"`
	Catalogs   bool      `query:"catalogs" doc:"count changes of the server's own catalogs too"`
	Empty      bool      `query:"empty" doc:"those that changed no table too"`
}

func (in *listChanges) filter() (f journal.Filter, err error) {
	f = journal.Filter{Database: in.Database, MinRows: in.MinRows, From: in.From, To: in.To, RolledBack: in.RolledBack,
		Catalogs: in.Catalogs, Empty: in.Empty}
	if in.Table != "" {
		if f.Table, err = journal.ParseTable(in.Table); err != nil {
			return f, problem.Wrap(err, problem.Invalid, "the changes were not listed", "")
		}
	}
	if in.Kind != "" {
		k, _ := journal.ParseOperation(in.Kind)
		f.Kind = &k
	}
	for _, l := range []struct {
		text string
		to   *pg.LSN
	}{{in.Before, &f.Before}, {in.After, &f.After}} {
		if l.text == "" {
			continue
		}
		if *l.to, err = pg.ParseLSN(l.text); err != nil {
			return f, problem.Wrap(err, problem.Invalid, "the changes were not listed", "")
		}
	}
	return f, nil
}

func (h *Changes) listChanges(ctx context.Context, in *listChanges) (*body[api.Changes], error) {
	f, err := in.filter()
	if err != nil {
		return nil, err
	}
	o, err := h.Planner.Open(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if in.By != "" {
		if f.XIDs, err = o.Journal.By(ctx, in.By, in.From, in.To); err != nil {
			return nil, err
		}
		if f.XIDs == nil {
			f.XIDs = []pg.FullXID{} // nobody was seen
		}
	}
	var list []changes.Entry
	var v api.Changes
	if in.Order == "biggest" {
		list, err = o.Journal.Biggest(ctx, f, in.Limit)
	} else {
		list, v.More, err = o.Journal.List(ctx, f, in.Order == "oldest", in.Limit)
	}
	if err != nil {
		return nil, err
	}
	v.Transactions, err = transactionsOf(ctx, h.Catalog, o, list, in.Catalogs)
	return answer(v, err)
}

// ChangePath names a transaction in a path.
type ChangePath struct {
	ClusterPath
	XID uint64 `path:"xid" doc:"transaction id; below 2^32 every epoch is searched"`
}

func (h *Changes) showChange(ctx context.Context, in *ChangePath) (*body[api.Changes], error) {
	o, list, err := h.ended(ctx, in)
	if err != nil {
		return nil, err
	}
	views, err := transactionsOf(ctx, h.Catalog, o, list, true)
	return answer(api.Changes{Transactions: views}, err)
}

// ended finds what has ended under a transaction id: there is something.
func (h *Changes) ended(ctx context.Context, in *ChangePath) (planner.Opened, []changes.Entry, error) {
	o, err := h.Planner.Open(ctx, in.Cluster)
	if err != nil {
		return o, nil, err
	}
	list, err := o.Journal.ByXID(ctx, pg.FullXID(in.XID))
	if err == nil && len(list) == 0 {
		err = problem.New(problem.NotFound, "See the newest ones with: velvet changes list "+o.Cluster.Name,
			"there is no such transaction", "%s", o.Journal.Missing(ctx, pg.FullXID(in.XID)))
	}
	return o, list, err
}

type showRows struct {
	ChangePath
	Table string `query:"table" required:"true" doc:"[[database.]schema.]table, or one of which it is a partition or child"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"20"`
}

func (h *Changes) showRows(ctx context.Context, in *showRows) (*body[api.Rows], error) {
	t, err := journal.ParseTable(in.Table)
	if err != nil {
		return nil, problem.Wrap(err, problem.Invalid, "the rows were not read", "")
	}
	o, list, err := h.ended(ctx, &in.ChangePath)
	if err != nil {
		return nil, err
	}
	if len(list) > 1 {
		var ids []string
		for _, e := range list {
			ids = append(ids, fmt.Sprint(uint64(e.XID)))
		}
		return nil, problem.New(problem.Ambiguous, "Name one of: "+strings.Join(ids, ", "), "the rows were not read",
			"the id %d was used %d times", in.XID, len(list))
	}
	rows, err := o.Journal.Rows(ctx, list[0], t, in.Limit)
	if err == nil && rows.Unseen && h.seeColumns(ctx, &o, rows.List[0].Table.Database) == nil {
		rows, err = o.Journal.Rows(ctx, list[0], t, in.Limit)
	}
	return answer(shapes.Rows(rows), err)
}

// seeColumns asks the cluster for what the next sample would ask for. It may be down, which the rows say by their lack.
func (h *Changes) seeColumns(ctx context.Context, o *planner.Opened, database string) error {
	a, err := h.Logins.Access(o.Cluster)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, columnsTimeout)
	defer cancel()
	return o.Journal.SeeColumns(ctx, a, database)
}

// columnsTimeout bounds how long a cluster is asked for the columns of its tables while somebody waits.
const columnsTimeout = 5 * time.Second

type showDeck struct {
	ClusterPath
	From  time.Time `query:"from" doc:"left out, the beginning of the reach"`
	To    time.Time `query:"to" doc:"left out, its end"`
	Parts int       `query:"parts" minimum:"1" maximum:"2000" default:"240"`
}

func (h *Changes) showDeck(ctx context.Context, in *showDeck) (*body[api.Deck], error) {
	o, err := h.Planner.Open(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	f, err := h.Fleet.Of(ctx, o.Cluster.ID)
	if err != nil {
		return nil, err
	}
	spans, holes := o.Archive.Reach()
	v := api.Deck{From: in.From, To: in.To, Reach: shapes.Each(spans, shapes.Span), Holes: f.Holes(o.Cluster, spans, holes),
		Bases:         []api.Notch{},
		RestorePoints: []api.Notch{}}
	if len(spans) > 0 && v.From.IsZero() {
		v.From = spans[0].FromTime
	}
	if len(spans) > 0 && v.To.IsZero() {
		v.To = spans[len(spans)-1].ToTime
	}
	if v.To.Before(v.From) {
		return nil, problem.New(problem.Invalid, "Let from come before to.", "the deck was not drawn", "%s lies after %s", v.From, v.To)
	}
	rates, err := o.Journal.Rates(ctx, v.From, v.To, in.Parts)
	if err != nil {
		return nil, err
	}
	v.Rates = shapes.Rates(rates)
	for _, b := range o.Archive.Bases {
		v.Bases = append(v.Bases, api.Notch{Name: b.ID, Time: b.StopTime.UTC(), LSN: b.Stop})
	}
	marks, err := o.Journal.RestorePoints(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range marks {
		v.RestorePoints = append(v.RestorePoints, api.Notch{Name: m.Name, Time: m.Time, LSN: m.LSN})
	}
	v.Incidents, err = incidentsOf(ctx, h.Catalog, o.Cluster.ID)
	return answer(v, err)
}

type listIncidents struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
}

func (h *Changes) listIncidents(ctx context.Context, in *listIncidents) (*body[[]api.Incident], error) {
	of, err := h.Catalog.ClusterID(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return answer(incidentsOf(ctx, h.Catalog, of))
}

type settleIncident struct {
	ChangePath
	Body *api.Settlement `required:"false"`
}

func (h *Changes) settleIncident(ctx context.Context, in *settleIncident) (*empty, error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if in.Body != nil && in.Body.Like {
		if err := h.declareNormal(ctx, k, pg.FullXID(in.XID)); err != nil {
			return nil, err
		}
	}
	if err := h.Catalog.SettleIncidents(ctx, k.ID, pg.FullXID(in.XID)); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, k.ID)
	return nil, nil
}

// declareNormal takes what an incident did into the rule, as no incident from now on.
func (h *Changes) declareNormal(ctx context.Context, k catalog.Cluster, xid pg.FullXID) error {
	o, err := h.Planner.Open(ctx, k.ID)
	if err != nil {
		return err
	}
	marked, err := h.Catalog.Incidents(ctx, k.ID)
	if err != nil {
		return err
	}
	rule, err := k.Rule()
	if err != nil {
		return err
	}
	list, err := o.Journal.ByXID(ctx, xid)
	for i := range list {
		if slices.ContainsFunc(marked, func(m catalog.Incident) bool { return m.LSN == list[i].End }) {
			like, err := o.Journal.Like(ctx, rule, list[i])
			if err != nil {
				return err
			}
			for _, n := range like {
				rule.Declare(n)
			}
		}
	}
	if err != nil {
		return err
	}
	return h.takeRule(ctx, k, rule)
}

// takeRule has a rule hold from now on.
func (h *Changes) takeRule(ctx context.Context, k catalog.Cluster, r journal.Rule) error {
	if err := h.Catalog.SetRule(ctx, k.ID, r); err != nil {
		return err
	}
	h.Captures.Look()
	k, err := h.Catalog.Cluster(ctx, k.ID)
	if err != nil {
		return err
	}
	return h.Custody.KeepRecord(ctx, k)
}

type ruleIn struct {
	ClusterPath
	Body api.Rule
}

func (h *Changes) setRule(ctx context.Context, in *ruleIn) (*body[api.Rule], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	r, err := shapes.RuleOf(in.Body)
	if err != nil {
		return nil, err
	}
	return answer(shapes.Rule(r), h.takeRule(ctx, k, r))
}

type authorsIn struct {
	ClusterPath
	Body api.AuthorRule
}

func (h *Changes) setAuthors(ctx context.Context, in *authorsIn) (*body[api.AuthorRule], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if err := h.Catalog.SetAuthors(ctx, k.ID, journal.AuthorRule(in.Body)); err != nil {
		return nil, err
	}
	h.Captures.Look()
	if k, err = h.Catalog.Cluster(ctx, k.ID); err != nil {
		return nil, err
	}
	return answer(in.Body, h.Custody.KeepRecord(ctx, k))
}

func (h *Changes) showAuthors(ctx context.Context, in *ClusterPath) (*body[api.AuthorRule], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	r, err := k.Authors()
	return answer(api.AuthorRule(r), err)
}

type tryRule struct {
	ClusterPath
	Body api.RuleTrial
}

func (h *Changes) tryRule(ctx context.Context, in *tryRule) (*body[api.Changes], error) {
	r, err := shapes.RuleOf(in.Body.Rule)
	if err != nil {
		return nil, err
	}
	o, err := h.Planner.Open(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, more, err := o.Journal.Marked(ctx, r, in.Body.Since, in.Body.Limit)
	return answer(api.Changes{Transactions: shapes.Each(list, shapes.Marked), More: more}, err)
}

func (h *Changes) showRule(ctx context.Context, in *ClusterPath) (*body[api.Rule], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	r, err := k.Rule()
	return answer(shapes.Rule(r), err)
}

// Entries of the journal become what the API shows.

// incidentsOf shows the transactions that a rule marked; of every cluster if none is named.
func incidentsOf(ctx context.Context, c *catalog.Catalog, cluster string) ([]api.Incident, error) {
	list, err := c.Incidents(ctx, cluster)
	if err != nil {
		return nil, err
	}
	clusters, err := c.Clusters(ctx)
	if err != nil {
		return nil, err
	}
	views := make([]api.Incident, len(list))
	for i, e := range list {
		v := api.Incident{XID: pg.FullXID(e.XID), Time: e.CommittedAt.UTC(), LSN: e.LSN, Settled: e.SettledAt, Author: e.Author}
		if k := slices.IndexFunc(clusters, func(k catalog.Cluster) bool { return k.ID == e.ClusterID }); k >= 0 {
			v.Cluster = clusters[k].Name
		}
		if err := json.Unmarshal(e.Reasons, &v.Reasons); err != nil {
			return nil, err
		}
		views[i] = v
	}
	return views, nil
}

// transactionsOf shows entries, with who was seen with their ids, and what makes some of them incidents.
func transactionsOf(ctx context.Context, c *catalog.Catalog, o planner.Opened, list []changes.Entry, catalogs bool) ([]api.Transaction,
	error) {
	incidents, err := incidentsOf(ctx, c, o.Cluster.ID)
	if err != nil {
		return nil, err
	}
	authors, err := o.Journal.Authors(ctx, list)
	if err != nil {
		return nil, err
	}
	views := make([]api.Transaction, len(list))
	for i := range list {
		views[i] = shapes.Transaction(&list[i], catalogs)
		if who, is := authors[list[i].XID]; is {
			views[i].Author = shapes.Author(who)
		}
		for _, marked := range incidents {
			if marked.LSN == list[i].End {
				views[i].Incident, views[i].Settled = marked.Reasons, marked.Settled != nil
			}
		}
	}
	return views, nil
}
