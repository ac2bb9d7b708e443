package planner

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"velvetrewind/core/journal"
	"velvetrewind/core/partial"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
)

// Rescuing is what a copy holds for the rescue of what the first transaction after it touched, and others; or why it has to be whole.
func (p *Planner) Rescuing(ctx context.Context, cluster string, r plan.Restore, also []uint64) (s *partial.Spec, why string, err error) {
	if r.Boundary.FirstOut == nil {
		return nil, "no transaction is known that comes after it", nil
	}
	o, err := p.OpenOn(ctx, cluster, r.Boundary.Timeline)
	if err != nil {
		return nil, "", err
	}
	s = &partial.Spec{Rescue: true}
	for _, xid := range append([]uint64{uint64(r.Boundary.FirstOut.XID)}, also...) {
		entries, err := o.Journal.ByXID(ctx, pg.FullXID(xid))
		if err != nil {
			return nil, "", err
		}
		if len(entries) != 1 {
			return nil, fmt.Sprintf("which tables transaction %d touched is not known", xid), nil
		}
		if len(entries[0].DroppedDatabases) > 0 {
			return nil, fmt.Sprintf("transaction %d dropped a database", xid), nil
		}
		for _, c := range entries[0].Tables {
			if c.System() {
				continue
			}
			if !c.Known || s.Database != "" && s.Database != c.Database {
				return nil, fmt.Sprintf("transaction %d touched a table of another database, or one whose name is not known", xid), nil
			}
			s.Database = c.Database
			s.Add(c.Name)
		}
		for _, n := range entries[0].Dropped {
			if s.Database != "" && s.Database != n.Database {
				return nil, fmt.Sprintf("transaction %d dropped objects of another database", xid), nil
			}
			s.Database = n.Database
		}
	}
	if s.Database == "" {
		return nil, fmt.Sprintf("transaction %d touched no table", r.Boundary.FirstOut.XID), nil
	}
	return s, "", nil
}

// Only is what a copy holds that is to have tables of a database, "" for the one that has them, and what stands below them.
func (p *Planner) Only(ctx context.Context, cluster, database string, tables []string) (*partial.Spec, error) {
	const title = "the copy was not made"
	k, err := p.Catalog.Cluster(ctx, cluster)
	if err != nil {
		return nil, err
	}
	book, err := p.Books.Of(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	s := partial.Spec{Database: database}
	for _, text := range tables {
		t, err := journal.ParseTable(text)
		if err != nil {
			return nil, problem.Wrap(err, problem.Invalid, title, "")
		}
		named := book.Named(s.Database, t)
		in := make([]string, 0, 1)
		for _, n := range named {
			if !slices.Contains(in, n.Database) {
				in = append(in, n.Database)
			}
		}
		switch {
		case len(in) == 0:
			next := "See which tables there are: velvet changes biggest " + cluster
			if similar := book.Similar(t, journal.Main); len(similar) > 0 {
				next = "There are: " + strings.Join(similar, ", ")
			}
			return nil, problem.New(problem.NotFound, next, title, "no table was ever called %s", text)
		case len(in) > 1:
			return nil, problem.New(problem.Invalid, "Say in which database: --database", title, "%s is in %s", text,
				strings.Join(in, ", "))
		}
		s.Database = in[0]
		for _, n := range named {
			s.Add(n)
		}
	}
	return &s, nil
}
