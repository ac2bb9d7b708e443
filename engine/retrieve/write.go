package retrieve

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
)

// write brings the rows back, and looks at what came of it. Nothing is committed here.
func (s *session) write(ctx context.Context) ([]rescue.Check, error) {
	before := make([]rescue.Tally, len(s.sides))
	for i, t := range s.sides {
		s.report.Progress(int64(i), int64(len(s.sides)), task.Tables, "adding up the other rows of "+t.String())
		if err := s.tally(ctx, t.Others(), &before[i]); err != nil {
			return nil, err
		}
	}
	if err := s.tx.QueryRow(ctx, "select pg_catalog.pg_current_xact_id()::pg_catalog.text::pg_catalog.int8").Scan(&s.own); err != nil {
		return nil, err
	}
	if err := s.statements(ctx); err != nil {
		return nil, err
	}
	s.scriptf("commit;\n")
	return s.prove(ctx, before)
}

// statements writes the rows, and has the server look at every constraint.
func (s *session) statements(ctx context.Context) error {
	if s.Untriggered {
		if err := s.do(ctx, "set local session_replication_role = replica"); err != nil {
			return err
		}
	} else if err := s.path(ctx); err != nil {
		return err
	}
	if err := s.do(ctx, "set constraints all deferred"); err != nil {
		return err
	}
	differ := make(map[*rescue.Table][]bool)
	for _, t := range s.sides {
		list := make([]bool, len(t.Columns))
		to := make([]any, len(list))
		for i := range list {
			to[i] = &list[i]
		}
		if err := s.tx.QueryRow(ctx, t.Differing()).Scan(to...); err != nil {
			return err
		}
		differ[t.Table] = list
	}
	list := rescue.Writing(rescue.Order(s.tables()), differ)
	for i, sql := range list {
		s.report.Progress(int64(i), int64(len(list)), task.Steps, "writing the rows")
		if err := s.do(ctx, sql); err != nil {
			return err
		}
	}
	if err := s.fillLost(ctx); err != nil {
		return err
	}
	if err := s.finishLost(ctx); err != nil {
		return err
	}
	if err := s.finish(ctx); err != nil {
		return err
	}
	if err := s.do(ctx, "set constraints all immediate"); err != nil {
		return err
	}
	return s.sequences(ctx)
}

// path lets the code of the cluster's people find what it finds when they call it. Our own statements name everything in full.
func (s *session) path(ctx context.Context) error {
	if len(s.plan.Runs) == 0 {
		return nil
	}
	var path string
	err := s.tx.QueryRow(ctx, `select coalesce((select pg_catalog.substr(c, 13) from pg_catalog.pg_db_role_setting r
		cross join lateral pg_catalog.unnest(r.setconfig) c
		where c operator(pg_catalog.~~) 'search_path=%' and r.setdatabase operator(pg_catalog.=) any (array[0::pg_catalog.oid,
		(select oid from pg_catalog.pg_database where datname operator(pg_catalog.=) pg_catalog.current_database())])
		and r.setrole operator(pg_catalog.=) any (array[0::pg_catalog.oid,
		(select oid from pg_catalog.pg_roles where rolname operator(pg_catalog.=) current_user)])
		order by r.setrole desc, r.setdatabase desc limit 1),
		(select boot_val from pg_catalog.pg_settings where name operator(pg_catalog.=) 'search_path'))`).Scan(&path)
	if err != nil {
		return err
	}
	// What the owner of a database has stored there is a value, and never SQL.
	return s.do(ctx, "select pg_catalog.set_config('search_path', "+rescue.Literal(path)+", true)")
}

// sequences has those that lag behind their columns go on after these. It cannot be taken back, and does no harm.
func (s *session) sequences(ctx context.Context) error {
	for _, t := range s.sides {
		for _, q := range t.Sequences {
			if err := s.do(ctx, t.Raising(q)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *session) tally(ctx context.Context, query string, to *rescue.Tally) error {
	return s.tx.QueryRow(ctx, query).Scan(&to.Rows, &to.Sum)
}

// prove looks at what was written, in the same snapshot.
func (s *session) prove(ctx context.Context, before []rescue.Tally) ([]rescue.Check, error) {
	var seen rescue.Seen
	own := pg.XID(s.own)
	for i, t := range s.sides {
		s.report.Progress(int64(i), int64(len(s.sides)), task.Tables, "looking at "+t.String())
		row := rescue.SeenTable{Table: t.String(), Before: before[i]}
		for query, to := range map[string]*rescue.Tally{t.OthersAfter(own): &row.After, t.Wanted(): &row.Wanted,
			t.Written(own): &row.Written} {
			if err := s.tally(ctx, query, to); err != nil {
				return nil, err
			}
		}
		seen.Tables = append(seen.Tables, row)
	}
	var err error
	if seen.Elsewhere, seen.Counted, err = s.elsewhere(ctx); err != nil {
		return nil, err
	}
	if err := s.seeLost(ctx, &seen); err != nil {
		return nil, err
	}
	if seen.Made, seen.Lacking, err = s.madeAnew(ctx); err != nil {
		return nil, err
	}
	if seen.Untriggered = s.Untriggered; s.Untriggered {
		for _, t := range s.sides {
			for _, sql := range t.Unkept() {
				var broken string
				var n int64
				if err := s.tx.QueryRow(ctx, sql).Scan(&broken, &n); err != nil {
					return nil, err
				}
				if n > 0 {
					seen.Broken = append(seen.Broken, fmt.Sprintf("%d of %s by %s", n, t, broken))
				}
			}
		}
	}
	return rescue.Judge(seen), nil
}

// madeAnew counts the tables and other objects that were made anew, and names those that are not there.
func (s *session) madeAnew(ctx context.Context) (n int, lacking []string, err error) {
	absent, err := s.lackingObjects(ctx)
	if err != nil {
		return 0, nil, err
	}
	for _, o := range absent {
		lacking = append(lacking, o.String()+" is not there")
	}
	for _, d := range s.made {
		there, err := s.there(ctx, d.table)
		if err != nil {
			return 0, nil, err
		}
		if !there {
			lacking = append(lacking, d.table.Name+" is not there")
		}
	}
	return len(s.made) + len(s.absent), lacking, nil
}

// elsewhere lists the tables that the transaction has written besides, as its own server counts; counts says whether it does.
func (s *session) elsewhere(ctx context.Context) (list []string, counts bool, err error) {
	if err := s.tx.QueryRow(ctx, "select pg_catalog.current_setting('track_counts')::pg_catalog.bool").Scan(&counts); err != nil {
		return nil, false, err
	}
	var own []uint32
	for _, t := range s.sides {
		own = append(own, t.OID)
	}
	for _, l := range s.lost {
		own = append(own, l.OID)
	}
	rows, err := s.tx.Query(ctx, `select c.relid::pg_catalog.regclass::pg_catalog.text, c.n_tup_ins, c.n_tup_upd, c.n_tup_del
		from pg_catalog.pg_stat_xact_user_tables c join pg_catalog.pg_class r on r.oid operator(pg_catalog.=) c.relid
		where c.n_tup_ins operator(pg_catalog.+) c.n_tup_upd operator(pg_catalog.+) c.n_tup_del operator(pg_catalog.>) 0
		and r.relpersistence operator(pg_catalog.<>) 't'
		and not c.relid operator(pg_catalog.=) any ($1::pg_catalog.oid[])
		and not exists (select from pg_catalog.pg_partition_ancestors(c.relid) p where p::pg_catalog.oid operator(pg_catalog.=)
		any ($1::pg_catalog.oid[])) order by 1`, own)
	if err != nil {
		return nil, false, err
	}
	var name string
	var ins, upd, del int64
	_, err = pgx.ForEachRow(rows, []any{&name, &ins, &upd, &del}, func() error {
		var did []string
		for what, n := range map[string]int64{"inserted": ins, "updated": upd, "deleted": del} {
			if n > 0 {
				did = append(did, fmt.Sprintf("%d %s", n, what))
			}
		}
		list = append(list, name+" ("+strings.Join(did, ", ")+")")
		return nil
	})
	return list, counts, err
}
