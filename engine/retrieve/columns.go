package retrieve

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
)

// lostColumns are those of a live table that the transaction dropped, and how they are made anew.
type lostColumns struct {
	*rescue.LostColumns
	old        *relation
	add, after []string
	before     rescue.Tally // all rows, but for these columns
}

// The queries below are asked on the copy, about the columns $2 of a table $1, by its name in the live cluster.
const lostColumnsOf = `select a.attname, a.attidentity <> '', a.attgenerated <> '', a.attinhcount > 0,
	pg_catalog.format('alter table %s add column %I %s%s%s', $3::pg_catalog.text, a.attname,
	pg_catalog.format_type(a.atttypid, a.atttypmod),
	(select pg_catalog.format(' collate %I.%I', n.nspname, c.collname) from pg_catalog.pg_collation c
	join pg_catalog.pg_namespace n on n.oid = c.collnamespace where c.oid = a.attcollation and a.attcollation <> t.typcollation),
	case a.attgenerated when 's' then ' generated always as (' || pg_catalog.pg_get_expr(f.adbin, f.adrelid) || ') stored'
	when 'v' then ' generated always as (' || pg_catalog.pg_get_expr(f.adbin, f.adrelid) || ') virtual'
	else ' default ' || pg_catalog.pg_get_expr(f.adbin, f.adrelid) end)
	from pg_catalog.pg_attribute a join pg_catalog.pg_type t on t.oid = a.atttypid
	left join pg_catalog.pg_attrdef f on f.adrelid = a.attrelid and f.adnum = a.attnum
	where a.attrelid = $1 and a.attnum = any ($2) and not a.attisdropped order by a.attnum`

var afterLostColumns = `with a as (select a.*, $3::pg_catalog.text as name from pg_catalog.pg_attribute a
	where a.attrelid = $1 and a.attnum = any ($2))
	select pg_catalog.format('alter table %s alter column %I set not null', name, attname) from a where attnotnull
	union all select pg_catalog.format('alter table %s add constraint %I %s', a.name, k.conname, pg_catalog.pg_get_constraintdef(k.oid))
	from (select distinct name, attrelid from a) a join pg_catalog.pg_constraint k on k.conrelid = a.attrelid
	where k.conkey && $2 and k.contype in ('p', 'u', 'x', 'c', 'f') and k.conparentid = 0
	union all select pg_catalog.format('alter table %s add constraint %I %s', k.conrelid::pg_catalog.regclass, k.conname,
	pg_catalog.pg_get_constraintdef(k.oid)) from pg_catalog.pg_constraint k
	where k.confrelid = $1 and k.conrelid <> $1 and k.confkey && $2 and k.contype = 'f' and k.conparentid = 0
	union all select pg_catalog.format('alter sequence %s owned by %s.%I', d.objid::pg_catalog.regclass, a.name, a.attname)
	from a join pg_catalog.pg_depend d on d.classid = 1259 and d.refclassid = 1259 and d.refobjid = a.attrelid
	and d.refobjsubid = a.attnum and d.deptype = 'a' join pg_catalog.pg_class c on c.oid = d.objid and c.relkind = 'S'
	union all select pg_catalog.format('comment on column %s.%I is %L', a.name, a.attname, d.description) from a
	join pg_catalog.pg_description d on d.classoid = 1259 and d.objoid = a.attrelid and d.objsubid = a.attnum
	union all select pg_catalog.format('grant %s (%I) on table %s to %s%s', g.privilege_type, a.attname, a.name,
	case g.grantee when 0 then 'public' else pg_catalog.quote_ident(pg_catalog.pg_get_userbyid(g.grantee)) end,
	case when g.is_grantable then ' with grant option' end) from a cross join lateral pg_catalog.aclexplode(a.attacl) g`

// findLost finds the columns that the transaction dropped of tables that are still there. Partitions lose theirs with the whole.
func (s *session) findLost(ctx context.Context) error {
	if s.Entry.DroppedColumns == 0 {
		return nil
	}
	seen := make(map[uint32]bool)
	for _, c := range s.Entry.Tables {
		if !c.Known || c.System() || !s.covers(c.Name) || c.Counts[journal.Alter] == 0 {
			continue
		}
		old, err := s.relation(ctx, s.old, c.OID, "")
		if err == nil && old != nil && old.Root != old.OID {
			old, err = s.relation(ctx, s.old, old.Root, "")
		}
		if err != nil {
			return err
		}
		if old == nil || seen[old.OID] || old.Kind != "r" && old.Kind != "p" {
			continue
		}
		seen[old.OID] = true
		live, err := s.relation(ctx, s.live, old.OID, "")
		if err != nil {
			return err
		}
		if live == nil || live.Kind != old.Kind {
			continue
		}
		if err := s.findLostOf(ctx, c, old, live); err != nil {
			return err
		}
	}
	return nil
}

func (s *session) findLostOf(ctx context.Context, c journal.TableChange, old, live *relation) error {
	rows, err := s.live.Query(ctx, "select attnum from pg_catalog.pg_attribute where attrelid operator(pg_catalog.=) $1 and attisdropped",
		live.OID)
	if err != nil {
		return err
	}
	numbers, err := pgx.CollectRows(rows, pgx.RowTo[int16])
	if err != nil {
		return err
	}
	now, err := s.columns(ctx, s.live, live.OID)
	if err != nil {
		return err
	}
	l := &lostColumns{LostColumns: &rescue.LostColumns{Table: rescue.Table{OID: live.OID, Schema: live.Schema, Name: live.Name,
		Partitioned: live.Kind == "p",
		Stage:       1000 + len(s.lost)}}, old: old}
	if rows, err = s.old.Query(ctx, lostColumnsOf, old.OID, numbers, l.SQL()); err != nil {
		return err
	}
	var name, add string
	var identity, generated, inherited bool // which comes with the parent's
	var back []string
	if _, err := pgx.ForEachRow(rows, []any{&name, &identity, &generated, &inherited, &add}, func() error {
		switch {
		case slices.ContainsFunc(now, func(n column) bool { return n.Name == name }):
			s.plan.Unable = append(s.plan.Unable, fmt.Sprintf("column %s of %s is there again, and stays as it is", name, l))
			return nil
		case identity:
			s.plan.Unable = append(s.plan.Unable, fmt.Sprintf("column %s of %s, an identity: add it by hand. It was made so: %s", name,
				l, add))
			return nil
		case !generated:
			l.Names = append(l.Names, name)
		}
		if back = append(back, name); !inherited {
			l.add = append(l.add, add)
		}
		return nil
	}); err != nil || len(back) == 0 {
		return err
	}
	if err := s.readable(ctx, c, old, &source{whole: true}, nil); err != nil {
		return err
	}
	if err := s.mayAdd(ctx, old, l, numbers); err != nil {
		return err
	}
	return s.planLost(ctx, l, now, numbers, back)
}

// codeOfColumns tells whether columns $2 of a table $1, which is not a superuser's, rest on anything that is not the server's own: their
// types, defaults and constraints may call functions.
const codeOfColumns = `select not r.rolsuper and (exists (select from pg_catalog.pg_attribute a where a.attrelid = c.oid
	and a.attnum = any ($2) and a.atttypid >= 16384)
	or exists (select from pg_catalog.pg_depend d join pg_catalog.pg_attrdef f on d.classid = 2604 and d.objid = f.oid
	where f.adrelid = c.oid and f.adnum = any ($2) and d.refclassid in (1255, 1247, 2617) and d.refobjid >= 16384)
	or exists (select from pg_catalog.pg_depend d join pg_catalog.pg_constraint k on d.classid = 2606 and d.objid = k.oid
	where k.conrelid = c.oid and k.conkey && $2 and d.refclassid in (1255, 1247, 2617) and d.refobjid >= 16384))
	from pg_catalog.pg_class c join pg_catalog.pg_roles r on r.oid = c.relowner where c.oid = $1`

// mayAdd refuses, as mayMake does, to call code of others as a superuser.
func (s *session) mayAdd(ctx context.Context, old *relation, l *lostColumns, numbers []int16) error {
	super, err := s.superuser(ctx)
	if err != nil || !super || s.Trust {
		return err
	}
	var calls bool
	if err := s.old.QueryRow(ctx, codeOfColumns, old.OID, numbers).Scan(&calls); err != nil || !calls {
		return err
	}
	return problem.New(problem.Conflict, "Give the login of "+old.Owner+" (--as), or trust those whose code it is (--trust-code).", title,
		"%s belongs to %s; adding its columns again may call their functions with the rights of a superuser", l, old.Owner)
}

// planLost plans how the values of columns come back.
func (s *session) planLost(ctx context.Context, l *lostColumns, now []column, numbers []int16, back []string) error {
	for _, n := range now {
		if n.Generated != "v" {
			l.All = append(l.All, n.Name)
		}
		l.Columns = append(l.Columns, rescue.Column{Name: n.Name, Was: n.Name})
	}
	if err := s.wasCalled(ctx, l, now); err != nil {
		return err
	}
	if err := s.keys(ctx, &l.Table); err != nil {
		return err
	}
	if len(l.Key) == 0 && len(l.Names) > 0 {
		s.plan.Unable = append(s.plan.Unable,
			fmt.Sprintf("%s has no key by which its rows are known, so that the values of %s do not come back by themselves: add them "+
				"again, put the old rows beside the table with velvet rescue export %s --table %s --every-row --database %s --form sql "+
				"--into old_rows, and update it from these", &l.Table, strings.Join(l.Names, ", "), s.Copy.Name,
				journal.Table{Schema: l.old.Schema, Name: l.old.Name}, s.plan.Database))
		return nil
	}
	l.Columns = slices.DeleteFunc(l.Columns, func(c rescue.Column) bool {
		return !slices.ContainsFunc(l.Key, func(k rescue.KeyColumn) bool { return k.Name == c.Name })
	})
	for _, name := range l.Names {
		l.Columns = append(l.Columns, rescue.Column{Name: name, Was: name})
	}
	if err := s.tally(ctx, l.Rest(), &l.before); err != nil {
		return err
	}
	rows, err := s.old.Query(ctx, afterLostColumns, l.old.OID, numbers, l.SQL())
	if err != nil {
		return err
	}
	if l.after, err = pgx.CollectRows(rows, pgx.RowTo[string]); err != nil {
		return err
	}
	for _, name := range back {
		s.plan.Made = append(s.plan.Made, "column "+name+" of "+l.String())
	}
	s.lost = append(s.lost, l)
	return nil
}

// wasCalled gives columns that are still there the names that they have on the copy, and leaves out those that it has not.
func (s *session) wasCalled(ctx context.Context, l *lostColumns, now []column) error {
	then, err := s.columns(ctx, s.old, l.old.OID)
	if err != nil {
		return err
	}
	var list []rescue.Column
	for i, n := range now {
		at := slices.IndexFunc(then, func(c column) bool { return c.Number == n.Number })
		if at >= 0 {
			l.Columns[i].Was = then[at].Name
			list = append(list, l.Columns[i])
		}
	}
	l.Columns = list
	return nil
}

// fillLost adds the columns, and gives the rows that are still there their values. From here on nobody else gets at the tables.
func (s *session) fillLost(ctx context.Context) error {
	for _, l := range s.lost {
		if err := s.do(ctx, l.add...); err != nil {
			return err
		}
	}
	for _, l := range s.lost {
		if len(l.Names) == 0 {
			continue
		}
		s.report.Progress(0, 0, "", "bringing the values of "+strings.Join(l.Names, ", ")+" of "+l.String())
		if err := s.do(ctx, l.Staging()); err != nil {
			return err
		}
		err := s.load(ctx, l.Loading(), func(ctx context.Context, to io.Writer) error {
			_, err := s.old.PgConn().CopyTo(ctx, to, l.Reading(l.old.Schema, l.old.Name))
			return err
		})
		if err != nil {
			return err
		}
		if err := s.do(ctx, "analyze pg_temp.velvet_"+fmt.Sprint(l.Stage), l.Filling()); err != nil {
			return err
		}
	}
	return nil
}

// finishLost makes what had gone with the columns, where the rows that have come since allow it.
func (s *session) finishLost(ctx context.Context) error {
	var list []string
	for _, l := range s.lost {
		list = append(list, l.after...)
	}
	left, why, err := s.settle(ctx, list)
	for _, sql := range left {
		s.plan.Unable = append(s.plan.Unable, fmt.Sprintf("this is not made anew, which rows that came since may not allow: %s (%v)",
			sql, why))
	}
	return err
}

// seeLost looks at what came of it.
func (s *session) seeLost(ctx context.Context, seen *rescue.Seen) error {
	for _, l := range s.lost {
		row := rescue.SeenLost{Table: l.String(), Columns: strings.Join(l.Names, ", "), Before: l.before}
		if err := s.tally(ctx, l.Rest(), &row.After); err != nil {
			return err
		}
		if len(l.Names) > 0 {
			if err := s.tx.QueryRow(ctx, l.Filled()).Scan(&row.Rows, &row.Right); err != nil {
				return err
			}
		}
		seen.Lost = append(seen.Lost, row)
	}
	return nil
}
