package prove

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/figures"
	"velvetrewind/core/proof"
	"velvetrewind/core/wal"
)

// index is one of a table's.
type index struct {
	OID                  uint32
	Name, Schema, Access string
	Unique, Valid        bool
	Plain                bool     // neither partial nor on expressions
	Keys                 []string // columns and expressions, as SQL
	Predicate            string   // the condition of a partial one
	Options              []int16  // of each: 1 descending, 2 nulls first
	Collations           []string // of each, quoted; "" where there is none
	Usual                bool     // of each the default operator class, and the default collation of its type
	DefaultClass         bool
	NullsEqual           bool
	// Class is the operator class of the first key, where it is the server's own; Equal says that it has an equality which is
	// the server's own, and Type is what that compares.
	Class, Type string
	Equal       bool
	PerRange    int64 // of BRIN: how many pages a summary is of
}

const indexesQuery = `select ic.oid, ic.relname::pg_catalog.text, ns.nspname::pg_catalog.text, m.amname::pg_catalog.text, i.indisunique,
	i.indisvalid and i.indisready,
	i.indexprs is null and i.indpred is null,
	pg_catalog.array_agg(pg_catalog.pg_get_indexdef(i.indexrelid, k.n, false) order by k.n),
	coalesce(pg_catalog.pg_get_expr(i.indpred, i.indrelid), ''),
	pg_catalog.array_agg(i.indoption[k.n operator(pg_catalog.-) 1] order by k.n),
	pg_catalog.array_agg(coalesce(pg_catalog.quote_ident(s.nspname) operator(pg_catalog.||) '.' operator(pg_catalog.||)
	pg_catalog.quote_ident(l.collname), '') order by k.n),
	pg_catalog.bool_and(coalesce(o.opcdefault and i.indcollation[k.n operator(pg_catalog.-) 1] operator(pg_catalog.=) y.typcollation,
		false)),
	pg_catalog.bool_and(coalesce(o.opcdefault, false)),
	pg_catalog.bool_or(coalesce(pg_catalog.to_jsonb(i) operator(pg_catalog.->>) 'indnullsnotdistinct', 'false') operator(pg_catalog.=)
		'true'),
	coalesce((select f.opcname::pg_catalog.text from pg_catalog.pg_opclass f where f.oid operator(pg_catalog.=) i.indclass[0]
		and f.opcnamespace operator(pg_catalog.=) 'pg_catalog'::pg_catalog.regnamespace), ''),
	coalesce((select pg_catalog.format_type(f.opcintype, null) from pg_catalog.pg_opclass f
		where f.oid operator(pg_catalog.=) i.indclass[0]), ''),
	exists (select from pg_catalog.pg_opclass f join pg_catalog.pg_amop p on p.amopfamily operator(pg_catalog.=) f.opcfamily
		and p.amoplefttype operator(pg_catalog.=) f.opcintype and p.amoprighttype operator(pg_catalog.=) f.opcintype
		join pg_catalog.pg_operator e on e.oid operator(pg_catalog.=) p.amopopr and e.oprname operator(pg_catalog.=) '='
		and e.oprnamespace operator(pg_catalog.=) 'pg_catalog'::pg_catalog.regnamespace
		where f.oid operator(pg_catalog.=) i.indclass[0]),
	coalesce((select r.option_value::pg_catalog.int8 from pg_catalog.pg_options_to_table(ic.reloptions) r
		where r.option_name operator(pg_catalog.=) 'pages_per_range'), 128)
	from pg_catalog.pg_index i join pg_catalog.pg_class ic on ic.oid operator(pg_catalog.=) i.indexrelid
	join pg_catalog.pg_namespace ns on ns.oid operator(pg_catalog.=) ic.relnamespace
	join pg_catalog.pg_am m on m.oid operator(pg_catalog.=) ic.relam
	cross join lateral pg_catalog.generate_series(1, i.indnkeyatts::int) k (n)
	left join pg_catalog.pg_attribute a on a.attrelid operator(pg_catalog.=) i.indrelid
	and a.attnum operator(pg_catalog.=) i.indkey[k.n operator(pg_catalog.-) 1]
	left join pg_catalog.pg_type y on y.oid operator(pg_catalog.=) a.atttypid
	left join pg_catalog.pg_opclass o on o.oid operator(pg_catalog.=) i.indclass[k.n operator(pg_catalog.-) 1]
	left join pg_catalog.pg_collation l on l.oid operator(pg_catalog.=) i.indcollation[k.n operator(pg_catalog.-) 1]
	left join pg_catalog.pg_namespace s on s.oid operator(pg_catalog.=) l.collnamespace
	where i.indrelid operator(pg_catalog.=) $1 group by i.indexrelid, ic.oid, ns.nspname, m.amname order by 2`

func indexesOf(ctx context.Context, conn *pgx.Conn, t *table) ([]index, error) {
	return ask(ctx, conn, pgx.RowToStructByPos[index], indexesQuery, t.OID)
}

// keys are the keys as an ORDER BY or GROUP BY has them.
func (x *index) keys() []string {
	list := make([]string, len(x.Keys))
	for i, k := range x.Keys {
		list[i] = "(" + k + ")"
		if x.Collations[i] != "" {
			list[i] += " collate " + x.Collations[i]
		}
	}
	return list
}

// Bits of an index's options.
const (
	descending = 1
	nullsFirst = 2
)

// order is the order of the index's entries.
func (x *index) order() string {
	list := x.keys()
	for i := range list {
		list[i] += map[bool]string{true: " desc", false: " asc"}[x.Options[i]&descending != 0] +
			map[bool]string{true: " nulls first", false: " nulls last"}[x.Options[i]&nullsFirst != 0]
	}
	return strings.Join(list, ", ")
}

// disorder is the condition that an entry comes before its predecessor, as far as whole rows can be compared.
func (x *index) disorder() string {
	first := x.Options[0]
	for _, o := range x.Options {
		if o != first {
			return "false"
		}
	}
	switch {
	case !x.Usual:
		return "false"
	case first == 0:
		return "pg_catalog.lag(k) over () operator(pg_catalog.>) k"
	case first == descending|nullsFirst:
		return "pg_catalog.lag(k) over () operator(pg_catalog.<) k"
	}
	return "false"
}

// indexesOf holds a table's indexes against its rows, in the snapshot in which these were read; places is the sum of the
// hashes of where they lie.
func (rd *reader) indexesOf(ctx context.Context, tx pgx.Tx, t *table, row *proof.Table, places string) error {
	list, err := indexesOf(ctx, tx.Conn(), t)
	if err != nil {
		return err
	}
	whole := tally{row.Copy, places}
	plain := func(x *index) bool { return x.Valid && x.Plain && x.Access == "btree" }
	// First by the index alone: reading the rows by it has the server forget entries of rows that are gone.
	var shown shown
	if slices.ContainsFunc(list, func(x index) bool { return plain(&x) }) {
		if shown, err = rd.visible(ctx, tx, t); err != nil {
			return err
		}
	}
	defer rd.seen.indexes.Clock()()
	wrong := make(map[string]bool)
	for i := range list {
		x := &list[i]
		before := rd.seen.indexes.Wrong.Count
		switch {
		case !x.Valid:
			rd.seen.indexes.Notes = append(rd.seen.indexes.Notes,
				rd.named(x)+" is not valid: it was being made at the moment, or could not be")
		case rd.damaged[rd.refOf(x.Schema, x.Name)] != "":
			rd.seen.indexes.LeftOut.Add(rd.named(x), "%v", errDamaged)
			wrong[x.Name] = true
			continue
		case rd.amcheck != "" && x.Access == "btree" && t.harmless():
			err = rd.amchecked(ctx, tx, t, x)
		case x.Access == "btree" && !x.DefaultClass:
			rd.seen.indexes.Notes = append(rd.seen.indexes.Notes, rd.named(x)+" is in an order of its own: only its pages are checked")
		case x.Access == "btree":
			err = rd.scanned(ctx, tx, t, x, whole)
		default:
			err = rd.agrees(ctx, tx, t, x)
		}
		if err != nil {
			return err
		}
		wrong[x.Name] = rd.seen.indexes.Wrong.Count > before
	}
	rd.judgeVisible(t, row, &shown, wrong)
	return nil
}

func (rd *reader) named(x *index) string { return rd.db.Name + "." + x.Schema + "." + x.Name }

// refOf finds the file of an index.
func (rd *reader) refOf(schema, name string) (ref wal.RelationRef) {
	for i := range rd.db.relations {
		if n := &rd.db.relations[i]; n.Name == name && n.Schema == schema {
			return n.ref
		}
	}
	return ref
}

// within runs what may fail without ending the transaction around it.
func within(ctx context.Context, tx pgx.Tx, do func(tx pgx.Tx) error) error {
	inner, err := tx.Begin(ctx)
	if err != nil {
		return err
	}
	err = do(inner)
	_ = inner.Rollback(context.WithoutCancel(ctx))
	return err
}

// amchecked has the server's own extension check an index, and that it has every row of its table.
func (rd *reader) amchecked(ctx context.Context, tx pgx.Tx, t *table, x *index) error {
	err := within(ctx, tx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx,
			"select "+pgx.Identifier{rd.amcheck}.Sanitize()+".bt_index_check($1::pg_catalog.oid::pg_catalog.regclass, true)", x.OID)
		return err
	})
	return rd.indexError(ctx, tx, t, x, err)
}

// indexError sorts the outcome of reading an index.
func (rd *reader) indexError(ctx context.Context, tx pgx.Tx, t *table, x *index, err error) error {
	o := &rd.seen.indexes
	if err != nil && !x.Plain && ctx.Err() == nil {
		if e := rd.evaluate(ctx, tx, t, x); e != nil { // as where a function finds its tables by the session's search_path
			rd.note(x, fmt.Sprintf("what it is on cannot be calculated here (%v): only its pages are checked", e))
			return nil
		}
	}
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case err == nil:
		o.Seen++
	case codeOf(err) == lockTimeout:
		o.LeftOut.Add(rd.named(x), "a transaction that was open at the moment holds it")
	default:
		o.Wrong.Add(rd.named(x), "%v", err)
	}
	return nil
}

// evaluate calculates the expressions of an index and its condition for all rows, without the index.
func (rd *reader) evaluate(ctx context.Context, tx pgx.Tx, t *table, x *index) error {
	return within(ctx, tx, func(tx pgx.Tx) error {
		var rows int64
		return tx.QueryRow(ctx, "select pg_catalog.count(row("+strings.Join(x.keys(), ", ")+")) from only "+t.sql()+x.where("true")).
			Scan(&rows)
	})
}

// throughIndexes has the server read by indexes alone.
const throughIndexes = `set local enable_indexscan = on; set local enable_seqscan = off; set local enable_sort = off;
	set local enable_incremental_sort = off;
	set local max_parallel_workers_per_gather = 0; `

// scanned reads a table by a B-tree, all that it has and in its order.
func (rd *reader) scanned(ctx context.Context, tx pgx.Tx, t *table, x *index, whole tally) error {
	inner := "select ctid as c, row(" + strings.Join(x.keys(), ", ") + ") as k from only " + t.sql() + x.where("true") +
		" order by " + x.order() + " offset 0"
	var disordered int64
	got, used, err := rd.through(ctx, tx, x, indexScan, `select pg_catalog.count(*), `+placesOf("c")+`,
		pg_catalog.count(*) filter (where late) from (select c, `+x.disorder()+` as late from (`+inner+`) s) w`, &disordered)
	if err == nil && used && x.Predicate != "" {
		whole, err = rd.tally(ctx, tx, t, x, "true")
	}
	fault := got.differs(whole)
	if fault == "" && disordered > 0 {
		fault = "entries out of order: " + figures.Count(disordered)
	}
	return rd.found(ctx, tx, t, x, used, fault, err)
}

// shown is how many rows there are by an index and the visibility map alone.
type shown struct {
	index string // by which one; "" if by none
	rows  int64
	err   error
}

// visible reads a table by an index alone where the visibility map says that this is enough.
func (rd *reader) visible(ctx context.Context, tx pgx.Tx, t *table) (v shown, err error) {
	defer rd.seen.visibility.Clock()()
	query := "select pg_catalog.count(*) from only " + t.sql()
	v.err = within(ctx, tx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, throughIndexes+ways[indexOnly]); err != nil {
			return err
		}
		names, err := scans(ctx, tx, query, indexOnly)
		if err != nil || len(names) == 0 {
			return err
		}
		v.index = names[0]
		return tx.QueryRow(ctx, query).Scan(&v.rows)
	})
	if ctx.Err() != nil {
		return v, context.Cause(ctx)
	}
	return v, nil
}

// judgeVisible holds that against the rows that are visible, unless the index itself is wrong.
func (rd *reader) judgeVisible(t *table, row *proof.Table, v *shown, wrong map[string]bool) {
	o := &rd.seen.visibility
	where := rd.db.Name + "." + t.String()
	switch {
	case v.index == "" && v.err == nil || wrong[v.index]:
		o.Notes = append(o.Notes, where+": there is no whole index by which to tell")
	case v.err != nil:
		o.LeftOut.Add(where, "%v", v.err)
	default:
		if o.Seen++; v.rows != row.Copy {
			o.Wrong.Add(where, "it shows %s rows, but %s are visible", figures.Count(v.rows), figures.Count(row.Copy))
		}
	}
}

// scans lists the indexes by which a query would be answered with nodes of a kind.
func scans(ctx context.Context, tx pgx.Tx, query, kind string) ([]string, error) {
	var text []byte
	if err := tx.QueryRow(ctx, "explain (format json, costs off) "+query).Scan(&text); err != nil {
		return nil, err
	}
	type node struct {
		Kind  string          `json:"Node Type"`
		Index string          `json:"Index Name"`
		Plans json.RawMessage `json:"Plans"`
	}
	var list []struct{ Plan node }
	if err := json.Unmarshal(text, &list); err != nil {
		return nil, err
	}
	var names []string
	var walk func(n node)
	walk = func(n node) {
		if n.Kind == kind {
			names = append(names, n.Index)
		}
		var below []node
		if json.Unmarshal(n.Plans, &below) == nil {
			for _, b := range below {
				walk(b)
			}
		}
	}
	for _, p := range list {
		walk(p.Plan)
	}
	return names, nil
}
