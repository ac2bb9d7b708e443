package retrieve

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
)

// keyRow is a column of a unique index.
type keyRow struct {
	Index          string
	Primary        bool
	Column, Equal  string
	NotNull, Later bool // Later: the key is looked at only at the end of a transaction
}

// keys reads a live table's unique keys of plain columns, and chooses the one by which its rows are known.
func (s *session) keys(ctx context.Context, t *rescue.Table) error {
	rows, err := s.tx.Query(ctx, `select x.relname::pg_catalog.text, i.indisprimary, a.attname::pg_catalog.text,
		'operator(' operator(pg_catalog.||) pg_catalog.quote_ident(n.nspname) operator(pg_catalog.||) '.' operator(pg_catalog.||) o.oprname
		operator(pg_catalog.||) ')', a.attnotnull, not i.indimmediate
		from pg_catalog.pg_index i join pg_catalog.pg_class x on x.oid operator(pg_catalog.=) i.indexrelid
		join pg_catalog.pg_am m on m.oid operator(pg_catalog.=) x.relam and m.amname operator(pg_catalog.=) 'btree'
		cross join lateral pg_catalog.generate_series(1, i.indnkeyatts) k(n)
		join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) i.indrelid and a.attnum operator(pg_catalog.=) i.indkey[k.n - 1]
		join pg_catalog.pg_opclass c on c.oid operator(pg_catalog.=) i.indclass[k.n - 1]
		join pg_catalog.pg_amop p on p.amopfamily operator(pg_catalog.=) c.opcfamily and p.amopstrategy operator(pg_catalog.=) 3
		and p.amoplefttype operator(pg_catalog.=) c.opcintype and p.amoprighttype operator(pg_catalog.=) c.opcintype
		join pg_catalog.pg_operator o on o.oid operator(pg_catalog.=) p.amopopr
		join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) o.oprnamespace
		where i.indrelid operator(pg_catalog.=) $1 and i.indisunique and i.indisvalid and i.indpred is null and i.indexprs is null
		order by i.indisprimary desc, x.relname, k.n`, t.OID)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[keyRow])
	if err != nil {
		return err
	}
	for len(list) > 0 {
		n := slices.IndexFunc(list, func(k keyRow) bool { return k.Index != list[0].Index })
		if n < 0 {
			n = len(list)
		}
		var key []rescue.KeyColumn
		known := true
		for _, k := range list[:n] {
			key, known = append(key, rescue.KeyColumn{Name: k.Column, Equal: k.Equal}), known && k.NotNull
		}
		if known && t.Key == nil && t.Brings(key) {
			t.Key = key
		} else if !list[0].Later {
			t.Unique = append(t.Unique, rescue.Unique{Name: list[0].Index, Columns: key})
		}
		list = list[n:]
	}
	return s.owned(ctx, t)
}

// owned reads the sequences that the table's columns own.
func (s *session) owned(ctx context.Context, t *rescue.Table) error {
	rows, err := s.tx.Query(ctx, `select n.nspname::pg_catalog.text, c.relname::pg_catalog.text, a.attname::pg_catalog.text
		from pg_catalog.pg_depend d join pg_catalog.pg_class c on c.oid operator(pg_catalog.=) d.objid and c.relkind operator(pg_catalog.=)
		'S'
		join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
		join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) d.refobjid and a.attnum operator(pg_catalog.=) d.refobjsubid
		join pg_catalog.pg_sequence q on q.seqrelid operator(pg_catalog.=) c.oid and q.seqincrement operator(pg_catalog.>) 0
		where d.classid operator(pg_catalog.=) 1259 and d.refclassid operator(pg_catalog.=) 1259
		and d.refobjid operator(pg_catalog.=) $1 and d.deptype operator(pg_catalog.=) any ('{a,i}') order by 1, 2`, t.OID)
	if err != nil {
		return err
	}
	t.Sequences, err = pgx.CollectRows(rows, pgx.RowToStructByPos[rescue.Sequence])
	return err
}

// referenceRow is a column of a foreign key.
type referenceRow struct {
	Name               string
	Parent, Root       uint32
	Schema, Table      string
	Column, To, Equals string
}

// connectTables reads the foreign keys of the live tables.
func (s *session) connectTables(ctx context.Context) error {
	for _, t := range s.sides {
		rows, err := s.tx.Query(ctx, `select f.conname::pg_catalog.text, f.confrelid,
			coalesce(pg_catalog.pg_partition_root(f.confrelid)::pg_catalog.oid, f.confrelid), pn.nspname::pg_catalog.text,
			p.relname::pg_catalog.text, a.attname::pg_catalog.text, b.attname::pg_catalog.text,
			'operator(' operator(pg_catalog.||) pg_catalog.quote_ident(n.nspname) operator(pg_catalog.||) '.' operator(pg_catalog.||)
			o.oprname
			operator(pg_catalog.||) ')'
			from pg_catalog.pg_constraint f cross join lateral pg_catalog.generate_series(1, pg_catalog.cardinality(f.conkey)) k(n)
			join pg_catalog.pg_class p on p.oid operator(pg_catalog.=) f.confrelid
			join pg_catalog.pg_namespace pn on pn.oid operator(pg_catalog.=) p.relnamespace
			join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) f.conrelid and a.attnum operator(pg_catalog.=) f.conkey[k.n]
			join pg_catalog.pg_attribute b on b.attrelid operator(pg_catalog.=) f.confrelid and b.attnum operator(pg_catalog.=)
			f.confkey[k.n]
			join pg_catalog.pg_operator o on o.oid operator(pg_catalog.=) f.conpfeqop[k.n]
			join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) o.oprnamespace
			where f.contype operator(pg_catalog.=) 'f' and f.conrelid operator(pg_catalog.=) $1
			and f.conparentid operator(pg_catalog.=) 0 order by f.conname, f.oid, k.n`, t.OID)
		if err != nil {
			return err
		}
		list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[referenceRow])
		if err != nil {
			return err
		}
		for i, row := range list {
			if i == 0 || list[i-1].Name != row.Name || list[i-1].Parent != row.Parent {
				r := rescue.Reference{Name: row.Name, Of: [2]string{row.Schema, row.Table}}
				if parent := s.already(row.Root); parent != nil {
					r.Parent = parent.Table
				}
				t.Parents = append(t.Parents, r)
			}
			r := &t.Parents[len(t.Parents)-1]
			r.Columns, r.To = append(r.Columns, rescue.KeyColumn{Name: row.Column, Equal: row.Equals}), append(r.To, row.To)
		}
	}
	return nil
}

// runsRow is code that runs as rows are written.
type runsRow struct {
	What, Owner string
	Super       bool
	Trigger     bool
}

// codeOfOthers lists what of other people's runs as the rows are written. With the rights of a superuser that is refused, unless whose
// it is is trusted.
func (s *session) codeOfOthers(ctx context.Context) error {
	var own []uint32
	for _, t := range s.sides {
		own = append(own, t.OID)
	}
	for _, l := range s.lost {
		own = append(own, l.OID)
	}
	rows, err := s.tx.Query(ctx, `with t as (select c.oid, c.oid::pg_catalog.regclass::pg_catalog.text as name from pg_catalog.pg_class c
		where c.oid operator(pg_catalog.=) any ($1::pg_catalog.oid[]) or c.relispartition
		and pg_catalog.pg_partition_root(c.oid)::pg_catalog.oid operator(pg_catalog.=) any ($1::pg_catalog.oid[])),
		d as (with recursive u(oid, name, depth) as (select a.atttypid, t.name, 0 from t join pg_catalog.pg_attribute a
		on a.attrelid operator(pg_catalog.=) t.oid where a.attnum operator(pg_catalog.>) 0 and not a.attisdropped
		union select x.oid, u.name, u.depth operator(pg_catalog.+) 1 from u join pg_catalog.pg_type p on p.oid operator(pg_catalog.=) u.oid
		cross join lateral (select p.typelem union all select p.typbasetype union all select a.atttypid from pg_catalog.pg_attribute a
		where a.attrelid operator(pg_catalog.=) p.typrelid and p.typrelid operator(pg_catalog.<>) 0::pg_catalog.oid
		and a.attnum operator(pg_catalog.>) 0 and not a.attisdropped) x(oid)
		where x.oid operator(pg_catalog.<>) 0::pg_catalog.oid and u.depth operator(pg_catalog.<) 20)
		select distinct pg_catalog.format('function %s, by a domain in %s', p.proname, u.name) as what, p.proowner as owner,
		false as trigger
		from u join pg_catalog.pg_constraint k on k.contypid operator(pg_catalog.=) u.oid
		join pg_catalog.pg_depend d on d.classid operator(pg_catalog.=) 2606 and d.objid operator(pg_catalog.=) k.oid
		and d.refclassid operator(pg_catalog.=) 1255
		join pg_catalog.pg_proc p on p.oid operator(pg_catalog.=) d.refobjid and p.oid operator(pg_catalog.>=) 16384::pg_catalog.oid),
		r as (select pg_catalog.format('trigger %s of %s', g.tgname, t.name) as what, p.proowner as owner, true as trigger
		from pg_catalog.pg_trigger g join t on t.oid operator(pg_catalog.=) g.tgrelid
		join pg_catalog.pg_proc p on p.oid operator(pg_catalog.=) g.tgfoid
		where not g.tgisinternal and g.tgenabled operator(pg_catalog.=) any ('{O,A}') and g.tgparentid operator(pg_catalog.=) 0
		union all select pg_catalog.format('rule %s of %s', w.rulename, t.name), c.relowner, true
		from pg_catalog.pg_rewrite w join t on t.oid operator(pg_catalog.=) w.ev_class
		join pg_catalog.pg_class c on c.oid operator(pg_catalog.=) t.oid
		where w.ev_type operator(pg_catalog.=) any ('{2,3}') and w.ev_enabled operator(pg_catalog.=) any ('{O,A}')
		union all select pg_catalog.format('function %s, by a constraint, index or default of %s', p.proname, t.name), p.proowner, false
		from pg_catalog.pg_depend d join pg_catalog.pg_proc p on p.oid operator(pg_catalog.=) d.refobjid
		and d.refclassid operator(pg_catalog.=) 1255 and p.oid operator(pg_catalog.>=) 16384::pg_catalog.oid
		join t on t.oid operator(pg_catalog.=) coalesce(
		(select conrelid from pg_catalog.pg_constraint c where d.classid operator(pg_catalog.=) 2606 and c.oid operator(pg_catalog.=)
		d.objid),
		(select indrelid from pg_catalog.pg_index i where d.classid operator(pg_catalog.=) 1259 and i.indexrelid operator(pg_catalog.=)
		d.objid),
		(select adrelid from pg_catalog.pg_attrdef f where d.classid operator(pg_catalog.=) 2604 and f.oid operator(pg_catalog.=) d.objid)))
		select r.what, a.rolname::pg_catalog.text, a.rolsuper, r.trigger from (table r union all table d) r
		join pg_catalog.pg_roles a on a.oid operator(pg_catalog.=) r.owner order by 1`, own)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[runsRow])
	if err != nil {
		return err
	}
	super, err := s.superuser(ctx)
	if err != nil {
		return err
	}
	for _, c := range list {
		if s.Untriggered && c.Trigger {
			continue
		}
		s.plan.Runs = append(s.plan.Runs, fmt.Sprintf("%s, of %s", c.What, c.Owner))
		if super && !c.Super && !s.Trust {
			return problem.New(problem.Conflict, "Give the login of "+c.Owner+" or another that is no superuser (--as), have no "+
				"triggers run (--no-triggers), or trust those whose code it is (--trust-code).", title,
				"the %s, belongs to %s, and would run with the rights of a superuser", c.What, c.Owner)
		}
	}
	return nil
}

// superuser tells whether the role that writes is one.
func (s *session) superuser(ctx context.Context) (super bool, err error) {
	err = s.tx.QueryRow(ctx, `select rolsuper from pg_catalog.pg_roles where rolname operator(pg_catalog.=) current_user`).Scan(&super)
	return super, err
}
