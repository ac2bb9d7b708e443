package shapes

import (
	"velvetrewind/api"
	"velvetrewind/core/journal"
	"velvetrewind/engine/changes"
)

// Entries of the journal become what the API shows.

// Transaction shows an entry of the journal; catalogs has the changes of the server's own catalogs be shown too.
func Transaction(e *changes.Entry, catalogs bool) api.Transaction {
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
			v.Tables = append(v.Tables, tableChange(c.Label(), c.Database, c.Counts))
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
