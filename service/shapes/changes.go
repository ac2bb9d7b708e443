package shapes

import (
	"velvetrewind/api"
	"velvetrewind/core/journal"
	"velvetrewind/core/problem"
	"velvetrewind/engine/changes"
)

// Entries of the journal become what the API shows.

// Transaction shows an entry of the journal; catalogs has the changes of the server's own catalogs be shown too.
func Transaction(e *changes.Entry, catalogs bool) api.Transaction {
	v := api.Transaction{
		XID: e.XID, Committed: e.Committed, Time: e.Time, LSN: e.End, First: e.First, Subtransactions: len(e.Subxacts), GID: e.GID,
		Partial: e.Partial, NewDatabases: len(e.NewDatabases), DroppedDatabases: len(e.DroppedDatabases), Bytes: e.Bytes,
		Tables: []api.TableChange{}, Alterations: e.Alterations,
	}
	for _, c := range e.Tables {
		if c.Database != "" {
			v.Database = c.Database
		}
		if catalogs || !c.System() {
			v.Tables = append(v.Tables, tableChange(c.Label(), c.Database, c.Counts))
		}
	}
	for _, n := range e.Dropped {
		if n.Database != "" {
			v.Database = n.Database
		}
		if catalogs || !n.System() {
			v.DroppedObjects = append(v.DroppedObjects, n.Label())
		}
	}
	return v
}

func tableChange(label, database string, c journal.Counts) api.TableChange {
	v := api.TableChange{Table: label, Database: database, Inserted: c[journal.Insert], Updated: c[journal.Update],
		Deleted: c[journal.Delete]}
	for k := journal.Truncate; int(k) < journal.Operations; k++ {
		if c[k] > 0 {
			v.Operations = append(v.Operations, k.String())
		}
	}
	return v
}

// Cost shows what going back would undo.
func Cost(c journal.Cost) api.Cost {
	v := api.Cost{Transactions: c.Transactions, Tables: []api.TableChange{}}
	for _, s := range c.Tables {
		v.Tables = append(v.Tables, tableChange(journal.TableChange{Name: s.Name, Known: s.Known, File: s.File}.Label(), s.Database, s.Sum))
	}
	return v
}

// Rates shows how much was changed in parts of a span.
func Rates(list []changes.Rate) []api.Rate {
	views := make([]api.Rate, len(list))
	for i, r := range list {
		views[i] = api.Rate{
			From: r.From.UTC(), Transactions: r.Transactions, Inserted: r.Counts[journal.Insert], Updated: r.Counts[journal.Update],
			Deleted: r.Counts[journal.Delete], Losses: r.Counts[journal.Drop] + r.Counts[journal.Truncate],
		}
	}
	return views
}

// Rule shows which transactions are incidents.
func Rule(r journal.Rule) api.Rule {
	v := api.Rule{Drops: r.Drops, Alters: r.Alters, Rows: r.Rows, Share: r.Share}
	for _, t := range r.Tables {
		v.Tables = append(v.Tables, api.TableRule{Table: t.Table.String(), Rows: t.Rows, Share: t.Share})
	}
	for _, n := range r.Normal {
		v.Normal = append(v.Normal, api.Normal{Table: n.Table.String(), Kind: n.Kind.String(), Role: n.Role})
	}
	return v
}

// RuleOf reads a rule that a request holds.
func RuleOf(v api.Rule) (journal.Rule, error) {
	refuse := func(next, why string, args ...any) (journal.Rule, error) {
		return journal.Rule{}, problem.New(problem.Invalid, next, "the rule was not taken", why, args...)
	}
	r := journal.Rule{Drops: v.Drops, Alters: v.Alters, Rows: v.Rows, Share: v.Share}
	limits := []journal.TableRule{{Rows: v.Rows, Share: v.Share}}
	for _, t := range v.Tables {
		table, err := journal.ParseTable(t.Table)
		if err != nil {
			return refuse("", "%v", err)
		}
		r.Tables = append(r.Tables, journal.TableRule{Table: table, Rows: t.Rows, Share: t.Share})
	}
	for _, l := range append(limits, r.Tables...) {
		if l.Rows < 0 || l.Share < 0 || l.Share > 1 {
			return refuse("Give rows as 0 or more, and the share as 0 to 1; 0 means no limit.",
				"%d rows, or a share of %g, cannot be a limit", l.Rows, l.Share)
		}
	}
	for _, n := range v.Normal {
		table, err := journal.ParseTable(n.Table)
		if err != nil {
			return refuse("", "%v", err)
		}
		kind, ok := journal.ParseOperation(n.Kind)
		if !ok || !journal.Markable(kind) {
			return refuse("Choose one of delete, update, truncate, drop, alter.", "%q is never an incident", n.Kind)
		}
		r.Declare(journal.Normal{Table: table, Kind: kind, Role: n.Role})
	}
	return r, nil
}

// Marked shows what a rule marks.
func Marked(m changes.Marked) api.Transaction {
	v := Transaction(&m.Entry, false)
	for _, why := range m.Why {
		v.Incident = append(v.Incident, why.Reason)
	}
	return v
}

// Author shows who was seen with a transaction's id.
func Author(a journal.Author) *api.Author {
	return &api.Author{Role: a.Role, Application: a.Application, Address: a.Address, Database: a.Database, Statement: a.Statement,
		First: a.First, Last: a.Last}
}
