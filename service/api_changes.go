package service

import (
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
)

func (s *Service) changeAPI(api huma.API) {
	op(s, api, http.MethodGet, "/clusters/{cluster}/changes", "list-changes", "List transactions of the change journal", 0, s.listChanges)
	op(s, api, http.MethodGet, "/clusters/{cluster}/changes/{xid}", "show-change", "Show what ended under a transaction id",
		0, s.showChange)
	op(s, api, http.MethodGet, "/clusters/{cluster}/deck", "show-deck", "Show a cluster's history over a span of time", 0, s.showDeck)
	op(s, api, http.MethodGet, "/incidents", "list-incidents", "List the transactions that clusters' rules mark, newest first", 0,
		s.listIncidents)
	op(s, api, http.MethodPost, "/clusters/{cluster}/incidents/{xid}/settle", "settle-incident",
		"Note that an incident was looked at", 0, s.settleIncident)
	op(s, api, http.MethodPut, "/clusters/{cluster}/rule", "set-rule", "Say which transactions are incidents, from now on", 0, s.setRule)
	op(s, api, http.MethodGet, "/clusters/{cluster}/rule", "show-rule", "Show which transactions are incidents", 0, s.showRule)
}

type listChanges struct {
	ClusterPath
	Table      string    `query:"table" doc:"[[database.]schema.]table"`
	Database   string    `query:"database"`
	Kind       string    `query:"kind" enum:"insert,update,delete,truncate,drop,create,rewrite"`
	MinRows    int64     `query:"minRows" minimum:"0" doc:"changed at least, of the kind if that is given"`
	From       time.Time `query:"from" doc:"committed not before"`
	To         time.Time `query:"to" doc:"committed not after"`
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

func (s *Service) listChanges(ctx context.Context, in *listChanges) (*body[api.Changes], error) {
	f, err := in.filter()
	if err != nil {
		return nil, err
	}
	o, err := s.openJournal(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	var list []changes.Entry
	var v api.Changes
	if in.Order == "biggest" {
		list, err = o.journal.Biggest(ctx, f, in.Limit)
	} else {
		list, v.More, err = o.journal.List(ctx, f, in.Order == "oldest", in.Limit)
	}
	if err != nil {
		return nil, err
	}
	v.Transactions, err = s.transactionViews(ctx, o.cluster, list, in.Catalogs)
	return answer(v, err)
}

// ChangePath names a transaction in a path.
type ChangePath struct {
	ClusterPath
	XID uint64 `path:"xid" doc:"transaction id; below 2^32 it is looked for in every epoch"`
}

func (s *Service) showChange(ctx context.Context, in *ChangePath) (*body[api.Changes], error) {
	o, err := s.openJournal(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := o.journal.ByXID(ctx, pg.FullXID(in.XID))
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, problem.New(problem.NotFound, "See the newest ones with: velvet changes list "+o.cluster.Name,
			"there is no such transaction", "%s", o.journal.Missing(ctx, pg.FullXID(in.XID)))
	}
	views, err := s.transactionViews(ctx, o.cluster, list, true)
	return answer(api.Changes{Transactions: views}, err)
}

type showDeck struct {
	ClusterPath
	From  time.Time `query:"from" doc:"left out, the beginning of the reach"`
	To    time.Time `query:"to" doc:"left out, its end"`
	Parts int       `query:"parts" minimum:"1" maximum:"2000" default:"240"`
}

func (s *Service) showDeck(ctx context.Context, in *showDeck) (*body[api.Deck], error) {
	o, err := s.openJournal(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	f, err := s.fleetOf(ctx, o.cluster.ID)
	if err != nil {
		return nil, err
	}
	spans, holes := o.archive.Reach()
	v := api.Deck{From: in.From, To: in.To, Reach: each(spans, asSpan), Holes: f.holes(o.cluster, spans, holes), Bases: []api.Notch{},
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
	rates, err := o.journal.Rates(ctx, v.From, v.To, in.Parts)
	if err != nil {
		return nil, err
	}
	v.Rates = rateViews(rates)
	for _, b := range o.archive.Bases {
		v.Bases = append(v.Bases, api.Notch{Name: b.ID, Time: b.StopTime.UTC(), LSN: b.Stop})
	}
	marks, err := o.journal.RestorePoints(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range marks {
		v.RestorePoints = append(v.RestorePoints, api.Notch{Name: m.Name, Time: m.Time, LSN: m.LSN})
	}
	v.Incidents, err = s.incidentViews(ctx, o.cluster.ID)
	return answer(v, err)
}

type listIncidents struct {
	Cluster string `query:"cluster" doc:"only of this cluster"`
}

func (s *Service) listIncidents(ctx context.Context, in *listIncidents) (*body[[]api.Incident], error) {
	of, err := s.clusterID(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return answer(s.incidentViews(ctx, of))
}

func (s *Service) settleIncident(ctx context.Context, in *ChangePath) (*empty, error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	if err := s.catalog.SettleIncidents(ctx, k.ID, pg.FullXID(in.XID)); err != nil {
		return nil, err
	}
	s.events.publish(eventCluster, k.ID)
	return nil, nil
}

type ruleIn struct {
	ClusterPath
	Body api.Rule
}

func (s *Service) setRule(ctx context.Context, in *ruleIn) (*body[api.Rule], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	r := journal.Rule(in.Body)
	if r.Rows < 0 || r.Share < 0 || r.Share > 1 {
		return nil, problem.New(problem.Invalid, "Give rows as 0 or more, and the share as 0 to 1; 0 means no limit.",
			"the rule was not changed", "%d rows, or a share of %g, cannot be a limit", r.Rows, r.Share)
	}
	if err := s.catalog.SetRule(ctx, k.ID, r); err != nil {
		return nil, err
	}
	s.captures.Look()
	if k, err = s.catalog.Cluster(ctx, k.ID); err != nil {
		return nil, err
	}
	return answer(api.Rule(r), s.keepRecord(ctx, k))
}

func (s *Service) showRule(ctx context.Context, in *ClusterPath) (*body[api.Rule], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	return answer(api.Rule(k.Rule()), err)
}

// Entries of the journal become what the API shows.

func (s *Service) incidentViews(ctx context.Context, cluster string) ([]api.Incident, error) {
	list, err := s.catalog.Incidents(ctx, cluster)
	if err != nil {
		return nil, err
	}
	clusters, err := s.catalog.Clusters(ctx)
	if err != nil {
		return nil, err
	}
	views := make([]api.Incident, len(list))
	for i, c := range list {
		v := api.Incident{XID: pg.FullXID(c.XID), Time: c.CommittedAt.UTC(), LSN: c.LSN, Settled: c.SettledAt}
		if k := slices.IndexFunc(clusters, func(k catalog.Cluster) bool { return k.ID == c.ClusterID }); k >= 0 {
			v.Cluster = clusters[k].Name
		}
		if err := json.Unmarshal(c.Reasons, &v.Reasons); err != nil {
			return nil, err
		}
		views[i] = v
	}
	return views, nil
}

// transactionViews shows entries, with what makes some of them incidents.
func (s *Service) transactionViews(ctx context.Context, k catalog.Cluster, list []changes.Entry, catalogs bool) ([]api.Transaction, error) {
	incidents, err := s.incidentViews(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	views := make([]api.Transaction, len(list))
	for i := range list {
		views[i] = transactionView(&list[i], catalogs)
		for _, c := range incidents {
			if c.LSN == list[i].End {
				views[i].Incident, views[i].Settled = c.Reasons, c.Settled != nil
			}
		}
	}
	return views, nil
}

func transactionView(e *changes.Entry, catalogs bool) api.Transaction {
	v := api.Transaction{
		XID: e.XID, Committed: e.Committed, Time: e.Time, LSN: e.End, First: e.First, Subtransactions: len(e.Subxacts), GID: e.GID,
		Partial: e.Partial, NewDatabases: len(e.NewDatabases), DroppedDatabases: len(e.DroppedDatabases), Bytes: e.Bytes,
		Tables: []api.TableChange{},
	}
	for _, c := range e.Tables {
		if c.Database != "" {
			v.Database = c.Database
		}
		if catalogs || !c.System() {
			v.Tables = append(v.Tables, tableView(c.Label(), c.Database, c.Counts))
		}
	}
	return v
}

func tableView(label, database string, c journal.Counts) api.TableChange {
	v := api.TableChange{Table: label, Database: database, Inserted: c[journal.Insert], Updated: c[journal.Update],
		Deleted: c[journal.Delete]}
	for k := journal.Truncate; int(k) < journal.Operations; k++ {
		if c[k] > 0 {
			v.Operations = append(v.Operations, k.String())
		}
	}
	return v
}

func costView(c journal.Cost) api.Cost {
	v := api.Cost{Transactions: c.Transactions, Tables: []api.TableChange{}}
	for _, s := range c.Tables {
		v.Tables = append(v.Tables, tableView(journal.TableChange{Name: s.Name, Known: s.Known, File: s.File}.Label(), s.Database, s.Sum))
	}
	return v
}

func rateViews(list []changes.Rate) []api.Rate {
	views := make([]api.Rate, len(list))
	for i, r := range list {
		views[i] = api.Rate{
			From: r.From.UTC(), Transactions: r.Transactions, Inserted: r.Counts[journal.Insert], Updated: r.Counts[journal.Update],
			Deleted: r.Counts[journal.Delete], Losses: r.Counts[journal.Drop] + r.Counts[journal.Truncate],
		}
	}
	return views
}
