package prove

import (
	"context"
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/figures"
	"velvetrewind/core/proof"
)

// rules are what a database declares of its tables.
type rules struct {
	foreign   []foreignKey
	sequences map[uint32][]sequence // by table
}

// callsOthers tells in SQL whether an object of a catalog depends on what belongs to no superuser and would be called: a
// function, an operator, or a type, of which the constraints of a domain are. What depends on nothing of that kind calls the
// server's own alone, which is in no dependency.
func callsOthers(catalog, object string) string {
	return `exists (select from pg_catalog.pg_depend w left join pg_catalog.pg_operator o
	on w.refclassid operator(pg_catalog.=) 2617 and o.oid operator(pg_catalog.=) w.refobjid
	left join pg_catalog.pg_proc p on p.oid operator(pg_catalog.=) case when w.refclassid operator(pg_catalog.=) 1255 then w.refobjid
	else o.oprcode end
	left join pg_catalog.pg_type y on w.refclassid operator(pg_catalog.=) 1247 and y.oid operator(pg_catalog.=) w.refobjid
	join pg_catalog.pg_roles a on a.oid operator(pg_catalog.=) coalesce(p.proowner, y.typowner)
	where w.classid operator(pg_catalog.=) ` + catalog + ` and w.objid operator(pg_catalog.=) ` + object + ` and not a.rolsuper)`
}

// probes are what a table declares of its rows.
func (rd *reader) probes(ctx context.Context, tx pgx.Tx, t *table, cols columns) (list []probe, err error) {
	o := &rd.seen.constraints
	where := rd.db.Name + "." + t.String()
	add := func(name, count string) {
		list = append(list, violations(count, func(n int64) {
			if o.Seen++; n > 0 {
				o.Wrong.Add(where, "%s broken by %s", name, figures.Of(int(n), "row"))
			}
		}, func(err error) { o.LeftOut.Add(where, "%s: %v", name, err) }))
	}
	var null []string
	for _, c := range cols {
		if c.NotNull {
			null = append(null, pgx.Identifier{c.Name}.Sanitize()+" is null")
		}
	}
	if len(null) > 0 {
		add("not-null constraints", "pg_catalog.count(*) filter (where "+strings.Join(null, " or ")+")")
	}
	rows, err := tx.Query(ctx, `select c.conname::pg_catalog.text, pg_catalog.pg_get_expr(c.conbin, c.conrelid), `+
		callsOthers("2606", "c.oid")+` from pg_catalog.pg_constraint c where c.conrelid operator(pg_catalog.=) $1
		and c.contype operator(pg_catalog.=) 'c' and c.convalidated union all
		select 'the bounds of the partition', pg_catalog.pg_get_partition_constraintdef(c.oid), `+
		callsOthers("1259", "i.inhparent")+` from pg_catalog.pg_class c join pg_catalog.pg_inherits i
		on i.inhrelid operator(pg_catalog.=) c.oid where c.oid operator(pg_catalog.=) $1 and c.relispartition`, t.OID)
	if err != nil {
		return nil, err
	}
	type declared struct {
		Name   string
		SQL    *string
		Others bool
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[declared])
	if err != nil {
		return nil, err
	}
	for _, d := range found {
		switch {
		case d.SQL == nil: // a default partition that stands alone has no bounds
		case d.Others && t.harmless():
			o.LeftOut.Add(where, "%s: %v", d.Name, errUnsafe)
		default:
			add(d.Name, "pg_catalog.count(*) filter (where not ("+*d.SQL+"))")
		}
	}
	for _, s := range rd.rules.sequences[t.OID] {
		list = append(list, rd.ahead(ctx, tx, t, s))
	}
	return list, nil
}

// sequence is one that belongs to a column.
type sequence struct {
	Table               uint32
	Column, Schema, Seq string
	Step                int64
}

func (s *sequence) sql() string { return pgx.Identifier{s.Schema, s.Seq}.Sanitize() }

// extreme is the value that the next one must be beyond.
func (s *sequence) extreme() string {
	f := "max"
	if s.Step < 0 {
		f = "min"
	}
	return "pg_catalog." + f + "(" + pgx.Identifier{s.Column}.Sanitize() + ")"
}

// next is the value that it gives next.
func (s *sequence) next() string {
	return "select (last_value operator(pg_catalog.+) case when is_called then " + strconv.FormatInt(s.Step, 10) +
		" else 0 end)::pg_catalog.text from " + s.sql()
}

// behind tells whether the next value is not beyond the extreme one.
func (s *sequence) behind(next, extreme string) bool {
	n, ok := new(big.Rat).SetString(next)
	x, is := new(big.Rat).SetString(extreme)
	if !ok || !is {
		return false
	}
	return s.Step > 0 && n.Cmp(x) <= 0 || s.Step < 0 && n.Cmp(x) >= 0
}

// ahead is the probe of a sequence.
func (rd *reader) ahead(ctx context.Context, tx pgx.Tx, t *table, s sequence) probe {
	o := &rd.seen.sequences
	where := rd.db.Name + "." + s.Schema + "." + s.Seq
	return probe{sql: s.extreme(), fail: func(err error) { o.LeftOut.Add(where, "%v", err) }, judge: func(extreme string) {
		var next string
		if err := within(ctx, tx, func(tx pgx.Tx) error { return tx.QueryRow(ctx, s.next()).Scan(&next) }); err != nil {
			o.LeftOut.Add(where, "%v", err)
			return
		}
		if o.Seen++; !s.behind(next, extreme) {
			return
		}
		what := fmt.Sprintf("it gives %s next, but column %s of %s has %s", next, s.Column, t, extreme)
		switch same, err := rd.behindLive(ctx, t, &s); {
		case err != nil:
			o.Seen--
			o.LeftOut.Add(where, "%s; whether the original is so too could not be seen: %v", what, err)
		case same:
			o.Notes = append(o.Notes, where+": "+what+"; the original is so too")
		default:
			o.Wrong.Add(where, "%s", what)
		}
	}}
}

// behindLive tells whether the sequence is behind on the live cluster as well: somebody may have given values by hand.
func (rd *reader) behindLive(ctx context.Context, t *table, s *sequence) (bool, error) {
	conn, err := rd.Access.SQL(ctx, rd.db.Name)
	if err != nil {
		return false, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if !t.harmless() || t.Policies {
		return false, errUnsafe
	}
	var next string
	var extreme *string
	if err := conn.QueryRow(ctx, s.next()).Scan(&next); err != nil {
		return false, err
	}
	err = conn.QueryRow(ctx, "select "+s.extreme()+"::pg_catalog.text from only "+t.sql()).Scan(&extreme)
	return err == nil && extreme != nil && s.behind(next, *extreme), err
}

// foreignKey is a constraint by which rows refer to others.
type foreignKey struct {
	Name                  string
	Child, Parent         uint32
	ChildSQL, ParentSQL   string
	Columns, Keys         []string
	OperatorSchemas       []string
	Operators             []string
	Full, Others, Periods bool
}

// foreignQuery lists the foreign keys whose referring side has rows of its own, against the whole of what they refer to: a
// partitioned table has further constraints for each partition.
var foreignQuery = `select c.conname::pg_catalog.text, c.conrelid, c.confrelid,
	pg_catalog.quote_ident(cn.nspname) operator(pg_catalog.||) '.' operator(pg_catalog.||) pg_catalog.quote_ident(cc.relname),
	case when pc.relkind operator(pg_catalog.=) 'p' then '' else 'only ' end operator(pg_catalog.||) pg_catalog.quote_ident(pn.nspname)
	operator(pg_catalog.||) '.' operator(pg_catalog.||) pg_catalog.quote_ident(pc.relname),
	(select pg_catalog.array_agg(a.attname::pg_catalog.text order by k.n) from pg_catalog.unnest(c.conkey) with ordinality k (v, n)
	join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) c.conrelid and a.attnum operator(pg_catalog.=) k.v),
	(select pg_catalog.array_agg(a.attname::pg_catalog.text order by k.n) from pg_catalog.unnest(c.confkey) with ordinality k (v, n)
	join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) c.confrelid and a.attnum operator(pg_catalog.=) k.v),
	(select pg_catalog.array_agg(s.nspname::pg_catalog.text order by k.n) from pg_catalog.unnest(c.conpfeqop) with ordinality k (v, n)
	join pg_catalog.pg_operator o on o.oid operator(pg_catalog.=) k.v join pg_catalog.pg_namespace s
	on s.oid operator(pg_catalog.=) o.oprnamespace),
	(select pg_catalog.array_agg(o.oprname::pg_catalog.text order by k.n) from pg_catalog.unnest(c.conpfeqop) with ordinality k (v, n)
	join pg_catalog.pg_operator o on o.oid operator(pg_catalog.=) k.v),
	c.confmatchtype operator(pg_catalog.=) 'f', ` + callsOthers("2606", "c.oid") + `,
	coalesce(pg_catalog.to_jsonb(c) operator(pg_catalog.->>) 'conperiod', 'false') operator(pg_catalog.=) 'true'
	from pg_catalog.pg_constraint c join pg_catalog.pg_class cc on cc.oid operator(pg_catalog.=) c.conrelid
	join pg_catalog.pg_namespace cn on cn.oid operator(pg_catalog.=) cc.relnamespace
	join pg_catalog.pg_class pc on pc.oid operator(pg_catalog.=) c.confrelid
	join pg_catalog.pg_namespace pn on pn.oid operator(pg_catalog.=) pc.relnamespace
	where c.contype operator(pg_catalog.=) 'f' and c.convalidated and cc.relkind operator(pg_catalog.=) 'r'
	and cc.relpersistence operator(pg_catalog.=) 'p'
	and not exists (select from pg_catalog.pg_constraint up where up.oid operator(pg_catalog.=) c.conparentid
	and up.conrelid operator(pg_catalog.=) c.conrelid) order by 4, 1`

// sequencesQuery lists the sequences that belong to columns of whole numbers.
const sequencesQuery = `select d.refobjid, a.attname::pg_catalog.text, n.nspname::pg_catalog.text, c.relname::pg_catalog.text,
	s.seqincrement
	from pg_catalog.pg_depend d join pg_catalog.pg_class c on c.oid operator(pg_catalog.=) d.objid and c.relkind operator(pg_catalog.=) 'S'
	join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
	join pg_catalog.pg_sequence s on s.seqrelid operator(pg_catalog.=) c.oid
	join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) d.refobjid and a.attnum operator(pg_catalog.=) d.refobjsubid
	where d.classid operator(pg_catalog.=) 1259 and d.refclassid operator(pg_catalog.=) 1259 and d.refobjsubid operator(pg_catalog.>) 0
	and d.deptype operator(pg_catalog.=) any ('{a, i}') and not s.seqcycle and c.relpersistence operator(pg_catalog.=) 'p'
	and a.atttypid operator(pg_catalog.=) any ('{20, 21, 23, 1700}')`

func (rd *reader) readRules(ctx context.Context) (u rules, err error) {
	if u.foreign, err = ask(ctx, rd.conn, pgx.RowToStructByPos[foreignKey], foreignQuery); err != nil {
		return u, err
	}
	list, err := ask(ctx, rd.conn, pgx.RowToStructByPos[sequence], sequencesQuery)
	u.sequences = make(map[uint32][]sequence)
	for _, s := range list {
		u.sequences[s.Table] = append(u.sequences[s.Table], s)
	}
	return u, err
}

// foreignKeys looks for rows that refer to none, where both tables are wanted, or on a second copy, one of them.
func (rd *reader) foreignKeys(ctx context.Context, want func(oid uint32) bool) {
	byOID := make(map[uint32]*table, len(rd.db.tables))
	for i := range rd.db.tables {
		byOID[rd.db.tables[i].OID] = &rd.db.tables[i]
	}
	second := rd.copy.ID != rd.run.copy.ID
	defer rd.seen.foreign.Clock()()
	for i := range rd.rules.foreign {
		k := &rd.rules.foreign[i]
		if child, parent := want(k.Child), want(k.Parent); second && !child && !parent || !second && (!child || !parent) {
			continue
		}
		o := &rd.seen.foreign
		where := rd.db.Name + "." + k.ChildSQL + ", " + k.Name
		child, parent := byOID[k.Child], byOID[k.Parent]
		calls := child != nil && !child.harmless() || parent != nil && !parent.harmless()
		if k.Others || calls {
			o.LeftOut.Add(where, "%v", errUnsafe)
			continue
		}
		if rd.isDamaged(child, parent) {
			o.LeftOut.Add(where, "%v", errDamaged)
			continue
		}
		if k.Periods {
			o.Notes = append(o.Notes, where+": a key over periods is not followed")
			continue
		}
		var orphans int64
		switch err := rd.conn.QueryRow(ctx, k.query()).Scan(&orphans); {
		case err != nil:
			o.LeftOut.Add(where, "%v", err)
		default:
			if o.Seen++; orphans > 0 {
				o.Wrong.Add(where, "%s to none of %s", figures.Of(int(orphans), "row")+" refer", strings.TrimPrefix(k.ParentSQL, "only "))
			}
		}
		if ctx.Err() != nil {
			return
		}
	}
}

func (rd *reader) isDamaged(tables ...*table) bool {
	for _, t := range tables {
		if t != nil && (rd.damaged[t.ref] != "" || rd.damaged[t.toast[0]] != "" || rd.damaged[t.toast[1]] != "") {
			return true
		}
	}
	return false
}

// query counts the rows that refer to none.
func (k *foreignKey) query() string {
	var given, null, same []string
	for i := range k.Columns {
		c := "c." + pgx.Identifier{k.Columns[i]}.Sanitize()
		given, null = append(given, c+" is not null"), append(null, c+" is null")
		same = append(same, fmt.Sprintf("p.%s operator(%s.%s) %s", pgx.Identifier{k.Keys[i]}.Sanitize(),
			pgx.Identifier{k.OperatorSchemas[i]}.Sanitize(), k.Operators[i], c))
	}
	q := "select pg_catalog.count(*) from only " + k.ChildSQL + " c where " + strings.Join(given, " and ") +
		" and not exists (select from " + k.ParentSQL + " p where " + strings.Join(same, " and ") + ")"
	if k.Full && len(given) > 1 {
		q += fmt.Sprintf(" or (%s) and (%s)", strings.Join(given, " or "), strings.Join(null, " or "))
	}
	return q
}

// uniqueKeys looks for keys that occur twice in the tables that are wanted.
func (rd *reader) uniqueKeys(ctx context.Context, want func(oid uint32) bool) {
	o := &rd.seen.unique
	defer o.Clock()()
	for i := range rd.db.tables {
		t := &rd.db.tables[i]
		if !want(t.OID) {
			continue
		}
		list, err := indexesOf(ctx, rd.conn, t)
		if err != nil {
			o.LeftOut.Add(rd.db.Name+"."+t.String(), "%v", err)
			continue
		}
		for j := range list {
			if x := &list[j]; x.Unique && x.Valid && x.Access == "btree" {
				rd.uniqueKey(ctx, t, x, o)
			}
		}
		if ctx.Err() != nil {
			return
		}
	}
}

func (rd *reader) uniqueKey(ctx context.Context, t *table, x *index, o *proof.Observed) {
	where := rd.db.Name + "." + t.String() + ", " + x.Name
	if !t.harmless() {
		o.LeftOut.Add(where, "%v", errUnsafe)
		return
	}
	if rd.isDamaged(t) {
		o.LeftOut.Add(where, "%v", errDamaged)
		return
	}
	keys, given := x.keys(), make([]string, len(x.Keys))
	for i, k := range x.Keys {
		given[i] = "(" + k + ") is not null"
	}
	condition := strings.Join(given, " and ")
	if x.NullsEqual {
		condition = "true"
	}
	var twice int64
	switch err := rd.conn.QueryRow(ctx, "select pg_catalog.count(*) from (select 1 from only "+t.sql()+x.where(condition)+
		" group by "+strings.Join(keys, ", ")+" having pg_catalog.count(*) operator(pg_catalog.>) 1) k").Scan(&twice); {
	case err != nil && !x.Plain && ctx.Err() == nil && !rd.conn.IsClosed():
		o.Notes = append(o.Notes, where+": what it is on cannot be calculated here: "+err.Error())
	case err != nil:
		o.LeftOut.Add(where, "%v", err)
	default:
		if o.Seen++; twice > 0 {
			o.Wrong.Add(where, "%s more than once", figures.Of(int(twice), "key")+" occur")
		}
	}
}
