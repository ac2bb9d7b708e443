package retrieve

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
)

// Batches divides what would be brought back into transactions of at most so many rows each, in the order in which they come. Rows that
// refer to each other stay together, however many they are.
func (r *Retriever) Batches(ctx context.Context, w Wish, rows int64, report task.Report) (list []rescue.Batch, err error) {
	s := &session{Retriever: r, Wish: w, report: report, lives: make(map[uint32]bool)}
	const whole = "what was dropped is made anew with all its rows in one transaction"
	if w.LostDatabase != "" {
		return nil, problem.New(problem.Invalid, "Leave --at-once out.", title, whole)
	}
	database, err := databaseOf(&w.Entry)
	if err != nil {
		return nil, err
	}
	defer s.close(ctx)
	if err := s.open(ctx, database); err != nil {
		return nil, err
	}
	if err := s.survey(ctx); err != nil {
		return nil, err
	}
	if len(s.made)+len(s.absent)+len(s.lost) > 0 {
		return nil, problem.New(problem.Invalid, "Leave --at-once out.", title, whole)
	}
	order := rescue.Order(s.tables())
	groups := make([][]rescue.Extent, len(order))
	for i, g := range order {
		for _, t := range g {
			for _, from := range s.sideOf(t).sources {
				e := rescue.Extent{Part: from.part(), AtOnce: rows}
				if from.whole {
					e.AtOnce = max(1, rows/max(1, from.perBlock))
				}
				groups[i] = append(groups[i], e)
			}
		}
	}
	return rescue.Divide(groups, func(i int) bool {
		g := order[i]
		return len(g) > 1 || slices.ContainsFunc(g[0].Parents, func(p rescue.Reference) bool { return p.Parent == g[0] })
	}), nil
}

// part is what a source brings.
func (f *source) part() rescue.Part {
	if f.whole {
		return rescue.Part{OID: f.oid, From: f.first, To: f.end}
	}
	return rescue.Part{OID: f.oid, From: 0, To: int64(len(f.rows))}
}

// measure finds out how many blocks a table of the copy has of which all rows are brought, and about how many rows are in each.
func (s *session) measure(ctx context.Context, from *source) error {
	if !from.whole {
		return nil
	}
	const sample = 16 // blocks
	err := s.old.QueryRow(ctx, `select pg_catalog.pg_relation_size(oid) operator(pg_catalog./)
		pg_catalog.current_setting('block_size')::pg_catalog.int8 from pg_catalog.pg_class where oid operator(pg_catalog.=) $1`,
		from.oid).Scan(&from.end)
	if err != nil || from.end == 0 {
		return err
	}
	table := pgx.Identifier{from.schema, from.name}.Sanitize()
	var rows int64
	err = s.old.QueryRow(ctx, fmt.Sprintf("select count(*) from only %s where ctid operator(pg_catalog.<) '(%d,0)'::pg_catalog.tid", table,
		sample)).Scan(&rows)
	from.perBlock = max(1, rows/min(sample, from.end))
	return err
}

// narrow leaves away what was brought back already and, where one batch is wanted, all others.
func (s *session) narrow() {
	if s.Batch == nil && len(s.Brought) == 0 {
		return
	}
	for _, t := range s.sides {
		var left []source
		for _, from := range t.sources {
			for _, p := range from.part().Without(s.Brought) {
				wanted := []rescue.Part{p}
				if s.Batch != nil {
					wanted = p.Within(*s.Batch)
				}
				for _, p := range wanted {
					left = append(left, from.only(p))
				}
			}
		}
		t.sources = left
	}
	s.sides = slices.DeleteFunc(s.sides, func(t *side) bool { return len(t.sources) == 0 })
	for _, t := range s.sides {
		for i, p := range t.Parents {
			if p.Parent != nil && !slices.Contains(s.tables(), p.Parent) {
				t.Parents[i].Parent = nil // its rows are back, if they were among those that are
			}
		}
	}
}

// only is a source that brings a part of what it did.
func (f source) only(p rescue.Part) source {
	if f.whole {
		f.first, f.end = p.From, p.To
	} else {
		f.rows = f.rows[p.From:p.To]
	}
	return f
}
