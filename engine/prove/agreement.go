package prove

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/figures"
)

// tally is how many rows were read, and the sum of the hashes of where they lie.
type tally struct {
	rows   int64
	places string
}

// differs says how an index leads to other rows than the table has for it, or nothing.
func (t tally) differs(table tally) string {
	switch {
	case t.rows < table.rows:
		return fmt.Sprintf("it leads to %s of the table's %s rows", figures.Count(t.rows), figures.Count(table.rows))
	case t.rows > table.rows:
		return fmt.Sprintf("it leads to %s rows, but the table has %s", figures.Count(t.rows), figures.Count(table.rows))
	case t.places != table.places:
		return "it leads to some rows twice and to others not at all"
	}
	return ""
}

// placesOf adds up the hashes of places.
func placesOf(ctid string) string {
	return "coalesce(pg_catalog.sum(pg_catalog.hashtidextended(" + ctid + ", 0)), 0)::pg_catalog.text"
}

// where is a condition on the rows that the index is of.
func (x *index) where(condition string) string {
	if x.Predicate != "" {
		condition = "(" + x.Predicate + ") and (" + condition + ")"
	}
	return " where " + condition
}

// every is a table's rows as a source of what to look up: where each lies (c), the first key (k), and whether the index is of
// it (p). Nothing about it may be found by an index, which may be damaged.
func (x *index) every(t *table) string {
	return "(select ctid as c, (" + x.Keys[0] + ") as k, " + strings.TrimPrefix(x.where("true"), " where ") + " as p from only " +
		t.sql() + " offset 0) every"
}

// lookUp is a query for the tally of the rows to which each of some things leads by a condition, in which it is called one.
func (x *index) lookUp(t *table, things, condition string) string {
	return `select coalesce(pg_catalog.sum(n), 0)::pg_catalog.int8, coalesce(pg_catalog.sum(p), 0)::pg_catalog.text from (` + things +
		` offset 0) one cross join lateral (select pg_catalog.count(*) as n, pg_catalog.sum(pg_catalog.hashtidextended(ctid, 0)) as p
		from only ` + t.sql() + x.where(condition) + " offset 0) found"
}

// tally reads the rows that meet a condition without any index.
func (rd *reader) tally(ctx context.Context, tx pgx.Tx, t *table, x *index, condition string) (n tally, err error) {
	err = within(ctx, tx, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "select pg_catalog.count(*), "+placesOf("ctid")+" from only "+t.sql()+x.where(condition)).
			Scan(&n.rows, &n.places)
	})
	return n, err
}

// through has the server answer a query for a tally, and for what else is to be scanned, by way of an index; used is false
// where it would go another way.
func (rd *reader) through(ctx context.Context, tx pgx.Tx, x *index, node, query string, more ...any) (got tally, used bool, err error) {
	err = within(ctx, tx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, throughIndexes+ways[node]); err != nil {
			return err
		}
		names, err := scans(ctx, tx, query, node)
		if used = slices.Contains(names, x.Name); err != nil || !used {
			return err
		}
		// Not prepared: the plan of a statement outlives the settings under which it was made.
		return tx.QueryRow(ctx, query, pgx.QueryExecModeExec).Scan(append([]any{&got.rows, &got.places}, more...)...)
	})
	return got, used, err
}

// ways are the settings for a kind of node of a plan. A bitmap that finds room remembers rows, not only pages.
var ways = map[string]string{
	indexScan:  "",
	indexOnly:  "set local enable_indexonlyscan = on",
	bitmapScan: "set local enable_bitmapscan = on; set local work_mem = '128MB'",
}

const (
	indexScan  = "Index Scan"
	indexOnly  = "Index Only Scan"
	bitmapScan = "Bitmap Index Scan"
	// bitmapPages is of how many pages a bitmap of that size remembers the rows.
	bitmapPages = 128 << 20 / 64
)

// found sorts the outcome of reading by an index.
func (rd *reader) found(ctx context.Context, tx pgx.Tx, t *table, x *index, used bool, fault string, err error) error {
	switch {
	case err != nil:
		return rd.indexError(ctx, tx, t, x, err)
	case !used:
		rd.note(x, "the server reads by another index of the same columns")
	case fault != "":
		rd.seen.indexes.Wrong.Add(rd.named(x), "%s", fault)
	default:
		rd.seen.indexes.Seen++
	}
	return nil
}

func (rd *reader) note(x *index, what string) {
	rd.seen.indexes.Notes = append(rd.seen.indexes.Notes, rd.named(x)+": "+what)
}

// What cannot be asked of every index.
const (
	onlyPages = "its kind has no question that leads to all rows: only its pages are checked"
	onlyNull  = "its summaries were asked for NULL and the rest, not for values"
)

// agrees holds an index that is no B-tree against the rows of its table, by questions whose answer is known without it.
func (rd *reader) agrees(ctx context.Context, tx pgx.Tx, t *table, x *index) (err error) {
	used, fault := false, ""
	switch {
	case x.Access == "hash" && x.Equal:
		used, fault, err = rd.byValue(ctx, tx, t, x)
	case x.Access == "gist" || x.Access == "spgist":
		used, fault, err = rd.byNull(ctx, tx, t, x)
	case x.Access == "gin" && everything[x.Class] != "":
		used, fault, err = rd.byContent(ctx, tx, t, x)
	case x.Access == "brin":
		used, fault, err = rd.byRange(ctx, tx, t, x)
	default:
		rd.note(x, onlyPages)
		return nil
	}
	return rd.found(ctx, tx, t, x, used, fault, err)
}

// asked compares a condition's rows by an index with those by the table alone.
func (rd *reader) asked(ctx context.Context, tx pgx.Tx, t *table, x *index, node, condition string) (used bool, fault string, err error) {
	got, used, err := rd.through(ctx, tx, x, node,
		"select pg_catalog.count(*), "+placesOf("ctid")+" from only "+t.sql()+x.where(condition))
	if err != nil || !used {
		return used, "", err
	}
	want, err := rd.tally(ctx, tx, t, x, condition)
	return true, got.differs(want), err
}

// byValue looks every value of a hash index up. NULL is not in it.
func (rd *reader) byValue(ctx context.Context, tx pgx.Tx, t *table, x *index) (used bool, fault string, err error) {
	key := "(" + x.Keys[0] + ")"
	got, used, err := rd.through(ctx, tx, x, indexScan, x.lookUp(t, "select distinct k from "+x.every(t)+" where p and k is not null",
		key+" operator(pg_catalog.=) one.k"))
	if err != nil || !used {
		return used, "", err
	}
	want, err := rd.tally(ctx, tx, t, x, key+" is not null")
	return true, got.differs(want), err
}

// byNull reads all entries of an index whose kind can tell NULL from the rest: those that are, and those that are not. Where the
// server knows that none is, it reads by the index alone, which says how many rows there are.
func (rd *reader) byNull(ctx context.Context, tx pgx.Tx, t *table, x *index) (used bool, fault string, err error) {
	key := "(" + x.Keys[0] + ")"
	if used, fault, err = rd.asked(ctx, tx, t, x, indexScan, key+" is not null"); err != nil || fault != "" {
		return used, fault, err
	}
	if used {
		_, fault, err = rd.asked(ctx, tx, t, x, indexScan, key+" is null")
		return true, fault, err
	}
	got, used, err := rd.through(ctx, tx, x, indexOnly, "select pg_catalog.count(*), '' from only "+t.sql()+x.where("true"))
	if err != nil || !used {
		return used, "", err
	}
	want, err := rd.tally(ctx, tx, t, x, "true")
	want.places = ""
	return true, got.differs(want), err
}

// everything is, by operator class of GIN, what every value holds that is not NULL, or nearly.
var everything = map[string]string{
	"array_ops":      "operator(pg_catalog.@>) '{}'",
	"jsonb_ops":      "operator(pg_catalog.@>) '{}'",
	"jsonb_path_ops": "operator(pg_catalog.@>) '{}'",
	"tsvector_ops":   "operator(pg_catalog.@@) '!velvetrewind'::pg_catalog.tsquery",
}

// elements is, by operator class, what taking a value apart gives, and how to look for one element.
var elements = map[string][2]string{
	"array_ops": {"part (e)", "operator(pg_catalog.@>) array[one.e]"},
	"tsvector_ops": {"part (e, positions, weights)", `operator(pg_catalog.@@) ('''' operator(pg_catalog.||)
		pg_catalog.replace(pg_catalog.replace(one.e, '\', '\\'), '''', '''''') operator(pg_catalog.||) '''')::pg_catalog.tsquery`},
}

// byContent asks a GIN index for all values, and for every element of them.
func (rd *reader) byContent(ctx context.Context, tx pgx.Tx, t *table, x *index) (used bool, fault string, err error) {
	var pages int64
	if err := tx.QueryRow(ctx, `select pg_catalog.pg_relation_size($1::pg_catalog.oid::pg_catalog.regclass) operator(pg_catalog./) 8192`,
		t.OID).Scan(&pages); err != nil {
		return false, "", err
	}
	if pages > bitmapPages {
		rd.note(x, "its table is too large to tell by it which rows of a page are missing: it was not compared row by row")
	}
	key := "(" + x.Keys[0] + ")"
	used, fault, err = rd.asked(ctx, tx, t, x, bitmapScan, key+" "+everything[x.Class])
	part, is := elements[x.Class]
	if err != nil || !used || fault != "" || !is {
		return used, fault, err
	}
	of := " from " + x.every(t) + ", lateral pg_catalog.unnest(k) as " + part[0] + " where p and part.e is not null"
	got, used, err := rd.through(ctx, tx, x, bitmapScan, x.lookUp(t, "select distinct part.e as e"+of, key+" "+part[1]))
	if err != nil || !used {
		return used, "", err
	}
	var want tally
	err = within(ctx, tx, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, "select pg_catalog.count(*), "+placesOf("c")+" from (select distinct c, part.e"+of+") every").
			Scan(&want.rows, &want.places)
	})
	return true, got.differs(want), err
}

// byRange asks a BRIN index for NULL and for the rest, and then for the least and the greatest value of ranges of pages, spread
// over the table, for as long as reading it took.
func (rd *reader) byRange(ctx context.Context, tx pgx.Tx, t *table, x *index) (used bool, fault string, err error) {
	key := "(" + x.Keys[0] + ")"
	for _, condition := range []string{key + " is null", key + " is not null"} {
		if used, fault, err = rd.asked(ctx, tx, t, x, bitmapScan, condition); err != nil || fault != "" {
			return used, fault, err
		}
	}
	if !x.Equal || strings.HasPrefix(x.Type, "any") {
		rd.note(x, onlyNull)
		return true, "", nil
	}
	started := time.Now()
	values, err := rd.extremes(ctx, tx, t, x)
	if codeOf(err) == undefinedFunction {
		rd.note(x, onlyNull)
		return true, "", nil
	}
	if err != nil {
		return true, "", err
	}
	span := max(time.Since(started), time.Second)
	started = time.Now()
	done := 0
	for ; done < len(values) && time.Since(started) < span; done++ {
		got, used, err := rd.through(ctx, tx, x, bitmapScan, "select pg_catalog.count(*), '' from only "+t.sql()+
			x.where(key+" operator(pg_catalog.=) "+values[done].literal))
		if err != nil || !used {
			return used, "", err
		}
		if got.rows < values[done].rows {
			return true, fmt.Sprintf("it leads to %s of the %s rows with %s", figures.Count(got.rows), figures.Count(values[done].rows),
				values[done].literal), nil
		}
	}
	if done < len(values) {
		rd.note(x, fmt.Sprintf("%s of %s values at the ends of its summaries were looked up", figures.Count(int64(done)),
			figures.Count(int64(len(values)))))
	}
	return true, "", nil
}

// extreme is the least or greatest value of a range of pages, and how many rows of the table have it.
type extreme struct {
	literal string
	rows    int64
}

// mostExtremes is for how many ranges these are looked up.
const mostExtremes = 1000

// extremes finds those of ranges that are spread over the table, in no order.
func (rd *reader) extremes(ctx context.Context, tx pgx.Tx, t *table, x *index) (list []extreme, err error) {
	key := "(" + x.Keys[0] + ")"
	block := `(pg_catalog.split_part(pg_catalog.ltrim(pg_catalog.textin(pg_catalog.tidout(ctid)), '('), ',', 1)::pg_catalog.int8
		operator(pg_catalog./) ` + strconv.FormatInt(x.PerRange, 10) + `)`
	ends := "select pg_catalog.min(" + key + ") as lo, pg_catalog.max(" + key + ") as hi from only " + t.sql() + x.where("true") +
		" group by " + block + " order by pg_catalog.hashint8(" + block + ") limit " + strconv.Itoa(mostExtremes)
	err = within(ctx, tx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "with ends as materialized ("+ends+") select pg_catalog.quote_literal("+key+
			"::pg_catalog.text), pg_catalog.count(*) from only "+t.sql()+x.where(key+
			" operator(pg_catalog.=) any (select lo from ends union select hi from ends)")+" group by "+key)
		if err != nil {
			return err
		}
		list, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (e extreme, err error) {
			err = row.Scan(&e.literal, &e.rows)
			e.literal += "::" + x.Type
			return e, err
		})
		return err
	})
	return list, err
}
