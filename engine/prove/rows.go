package prove

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/copies"
)

// seen is what reading the rows of all databases has shown.
type seen struct {
	tables []proof.Table
	// reading is the scans, each of which tells of rows, of values out of line, and of constraints.
	reading                                                      proof.Observed
	heap, toast                                                  proof.Findings
	indexes, visibility, constraints, sequences, foreign, unique proof.Observed
	catalogs, extensions, collations, objects                    proof.Observed
}

// reader reads the rows of one database of a copy.
type reader struct {
	*run
	copy    catalog.Copy
	db      *database
	conn    *pgx.Conn
	owners  owners
	locked  map[uint32]bool // tables that replay holds for a transaction that was open
	seen    *seen
	amcheck string // schema of that extension, where the database has it
	rules   rules
}

// rows reads every row of every table, and makes all checks of structure, meaning and content.
func (r *run) rows(ctx context.Context) error {
	s := &seen{
		indexes: proof.Observed{Unit: "indexes"}, visibility: proof.Observed{Unit: "visibility maps"},
		constraints: proof.Observed{Unit: "constraints"}, sequences: proof.Observed{Unit: "sequences with a column"},
		foreign: proof.Observed{Unit: "foreign keys"}, unique: proof.Observed{Unit: "unique keys"},
		catalogs: proof.Observed{Unit: "references of catalogs"}, extensions: proof.Observed{Unit: "extensions"},
		collations: proof.Observed{Unit: "collations"}, objects: proof.Observed{Unit: "large objects"},
	}
	started := time.Now()
	held := make(map[string]map[uint32]bool)
	for i := range r.databases {
		db := &r.databases[i]
		rd, err := r.reader(ctx, r.copy, db, s)
		if err == nil {
			err = errors.Join(rd.read(ctx, func(oid uint32) bool { return !rd.locked[oid] }), rd.rest(ctx))
			if locked := rd.lockedTables(); len(locked) > 0 {
				held[db.Name] = locked
			}
			rd.close(ctx)
		}
		if err != nil {
			if err := r.survives(ctx); err != nil {
				return err
			}
			r.closed[db.Name] = err.Error()
		}
	}
	r.aside(ctx, held, s)
	for _, name := range slices.Sorted(maps.Keys(r.closed)) {
		s.tables = append(s.tables, proof.Table{Database: name, Name: "*", Unsafe: true, Problem: r.closed[name]})
	}
	s.constraints.Took, s.sequences.Took = s.reading.Took, s.reading.Took
	r.add(proof.Reading(proof.Heap, s.tables, s.heap, s.reading.Took), started)
	r.add(proof.Reading(proof.Toast, s.tables, s.toast, s.reading.Took), started)
	for _, c := range []struct {
		name string
		o    *proof.Observed
	}{{proof.Indexes, &s.indexes}, {proof.Visibility, &s.visibility}, {proof.Constraints, &s.constraints}, {proof.Unique, &s.unique},
		{proof.ForeignKeys, &s.foreign}, {proof.Sequences, &s.sequences}, {proof.Catalogs, &s.catalogs}, {proof.Extensions, &s.extensions},
		{proof.Collations, &s.collations}, {proof.Objects, &s.objects}} {
		r.add(proof.Judge(c.name, c.o), started)
	}
	return r.content(ctx, s.tables)
}

// survives gives an error where the proof, or the copy itself, has ended.
func (r *run) survives(ctx context.Context) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	server := copies.Server(r.copy, r.Cluster.Major())
	if runs, _, err := r.Host.Runs(server); err == nil && !runs {
		return problem.New(problem.Failed, "See: velvet copy show "+r.copy.ID, "the copy was not proved",
			"its server ended meanwhile; its log ends: %s", r.Host.LogTail(server, 500))
	}
	return nil
}

// lockedTables are the tables among what replay holds.
func (rd *reader) lockedTables() map[uint32]bool {
	tables := make(map[uint32]bool)
	for i := range rd.db.tables {
		if oid := rd.db.tables[i].OID; rd.locked[oid] {
			tables[oid] = true
		}
	}
	return tables
}

// reader opens a session in a database and reads what must be known beforehand.
func (r *run) reader(ctx context.Context, k catalog.Copy, db *database, s *seen) (rd *reader, err error) {
	rd = &reader{run: r, copy: k, db: db, owners: owners{host: r.Host, copy: k, database: db.Name}, locked: make(map[uint32]bool), seen: s}
	if rd.conn, err = r.session(ctx, k, db.Name); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			rd.close(ctx)
		}
	}()
	held, err := ask(ctx, rd.conn, pgx.RowTo[uint32], `select distinct l.relation from pg_catalog.pg_locks l
		join pg_catalog.pg_database d on d.oid operator(pg_catalog.=) l.database
		where l.mode operator(pg_catalog.=) 'AccessExclusiveLock' and l.granted and l.relation is not null
		and d.datname operator(pg_catalog.=) pg_catalog.current_database()`)
	if err != nil {
		return rd, err
	}
	for _, oid := range held {
		rd.locked[oid] = true
	}
	if rd.amcheck, err = rd.extension(ctx, "amcheck"); err != nil {
		return rd, err
	}
	rd.rules, err = rd.readRules(ctx)
	return rd, err
}

func (rd *reader) close(ctx context.Context) {
	rd.owners.close(ctx)
	_ = rd.conn.Close(context.WithoutCancel(ctx))
}

// extension finds the schema of an extension that a superuser owns, or "".
func (rd *reader) extension(ctx context.Context, name string) (schema string, err error) {
	list, err := ask(ctx, rd.conn, pgx.RowTo[string], `select n.nspname::pg_catalog.text from pg_catalog.pg_extension e
		join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) e.extnamespace
		join pg_catalog.pg_roles a on a.oid operator(pg_catalog.=) e.extowner
		where e.extname operator(pg_catalog.=) $1::pg_catalog.name and a.rolsuper`, name)
	if err != nil || len(list) == 0 {
		return "", err
	}
	return list[0], nil
}

// read reads the tables that are wanted, and the keys between them.
func (rd *reader) read(ctx context.Context, want func(oid uint32) bool) error {
	for i := range rd.db.tables {
		t := &rd.db.tables[i]
		if !want(t.OID) {
			continue
		}
		rd.report.Progress(int64(i), int64(len(rd.db.tables)), task.Tables, fmt.Sprintf("reading %s in %s", t, rd.db.Name))
		row := proof.Table{Database: rd.db.Name, OID: t.OID, Name: t.String(), Aside: rd.copy.ID != rd.run.copy.ID}
		if err := rd.table(ctx, t, &row); err != nil {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			if rd.conn.IsClosed() {
				return err
			}
			if codeOf(err) == lockTimeout && !row.Aside { // of an index, perhaps
				rd.locked[t.OID] = true
				continue
			}
			rd.unread(t, &row, err)
		}
		rd.seen.tables = append(rd.seen.tables, row)
	}
	rd.uniqueKeys(ctx, want)
	rd.foreignKeys(ctx, want)
	return ctx.Err()
}

// unread sorts the reason for which a table could not be read to its end.
func (rd *reader) unread(t *table, row *proof.Table, err error) {
	row.Problem = err.Error()
	where := rd.db.Name + "." + t.String()
	switch {
	case codeOf(err) == lockTimeout:
		row.Locked = true
	case errors.Is(err, errUnsafe) || codeOf(err) == noRight && !t.harmless():
		row.Unsafe = true
	case errors.Is(err, errDamaged):
		row.Damaged = true
	case strings.Contains(err.Error(), "toast value"):
		rd.seen.toast.Add(where, "%v", err)
	default:
		rd.seen.heap.Add(where, "%v", err)
	}
	rd.report.Warn("%s in %s could not be read to the end: %v", t, rd.db.Name, err)
}

// table reads one table in all the ways that there are, in one snapshot.
func (rd *reader) table(ctx context.Context, t *table, row *proof.Table) (err error) {
	if rd.isDamaged(t) {
		return errDamaged
	}
	as := rd.conn
	if !t.harmless() {
		if as, err = rd.owners.of(ctx, t); err != nil {
			return err
		}
	}
	tx, err := as.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	cols, err := columnsOf(ctx, tx, t)
	if err != nil {
		return err
	}
	row.Columns = cols.hash()
	probes, err := rd.probes(ctx, tx, t, cols)
	if err != nil {
		return err
	}
	sum := cols.sum()
	if rd.db.tainted {
		sum = "0"
	}
	ended := rd.seen.reading.Clock()
	places, err := rd.scan(ctx, tx, t, row, sum, probes)
	ended()
	if err != nil {
		return err
	}
	if rd.db.tainted {
		row.Sum = ""
	}
	if rd.amcheck != "" && t.harmless() {
		if err := rd.verifyHeap(ctx, tx, t); err != nil {
			return err
		}
	}
	return rd.indexesOf(ctx, tx, t, row, places)
}

// verifyHeap has the server's own extension check the rows of a table, and the values that are stored out of line.
func (rd *reader) verifyHeap(ctx context.Context, tx pgx.Tx, t *table) error {
	type corruption struct {
		Block, Offset *int64
		Message       string
	}
	var list []corruption
	err := within(ctx, tx, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, "select blkno, offnum::bigint, msg from "+pgx.Identifier{rd.amcheck}.Sanitize()+
			".verify_heapam($1::pg_catalog.oid::pg_catalog.regclass, check_toast => true)", t.OID)
		if err != nil {
			return err
		}
		list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[corruption])
		return err
	})
	for _, c := range list {
		rd.seen.heap.Add(fmt.Sprintf("%s.%s, block %s, row %s", rd.db.Name, t, number(c.Block), number(c.Offset)), "%s", c.Message)
	}
	return err
}

// number writes a number that may be missing.
func number(n *int64) string {
	if n == nil {
		return "unknown"
	}
	return strconv.FormatInt(*n, 10)
}

// probe is an expression over all rows of a table, whose value is judged.
type probe struct {
	sql   string
	judge func(value string)
	fail  func(err error)
}

// scan reads a table once: how many rows, the sum of their hashes, that of where they lie, and what the probes ask. A probe
// that cannot be calculated does not keep the rest from being read.
func (rd *reader) scan(ctx context.Context, tx pgx.Tx, t *table, row *proof.Table, sum string, probes []probe) (places string, err error) {
	query := "select pg_catalog.count(*), " + sum + `::pg_catalog.text,
		coalesce(pg_catalog.sum(pg_catalog.hashtidextended(ctid, 0)), 0)::pg_catalog.text`
	for _, p := range probes {
		query += ", (" + p.sql + ")::pg_catalog.text"
	}
	values := make([]*string, len(probes))
	to := []any{&row.Copy, &row.Sum, &places}
	for i := range values {
		to = append(to, &values[i])
	}
	err = within(ctx, tx, func(tx pgx.Tx) error { return tx.QueryRow(ctx, query+" from only "+t.sql()).Scan(to...) })
	if err != nil && len(probes) > 0 && ctx.Err() == nil && !tx.Conn().IsClosed() {
		if places, e := rd.scan(ctx, tx, t, row, sum, nil); e == nil {
			for _, p := range probes {
				p.fail(err)
			}
			return places, nil
		}
	}
	if err != nil {
		return "", err
	}
	for i, p := range probes {
		if values[i] != nil {
			p.judge(*values[i])
		}
	}
	return places, nil
}

// columns are a table's.
type columns []column

type column struct {
	Name, Type string
	NotNull    bool
	Names      bool // its values are written with names of objects, or roles, that may change without the row
}

func columnsOf(ctx context.Context, tx pgx.Tx, t *table) (columns, error) {
	rows, err := tx.Query(ctx, `select a.attname::pg_catalog.text, pg_catalog.format_type(a.atttypid, a.atttypmod) operator(pg_catalog.||)
		coalesce((select ' of ' operator(pg_catalog.||) pg_catalog.string_agg(e.enumlabel, ', ' order by e.enumsortorder)
		from pg_catalog.pg_enum e join pg_catalog.pg_type t on t.oid operator(pg_catalog.=) a.atttypid
		where e.enumtypid operator(pg_catalog.=) any (array[t.oid, t.typelem, t.typbasetype])), ''),
		a.attnotnull and not exists (select from pg_catalog.pg_constraint c where c.conrelid operator(pg_catalog.=) a.attrelid
		and c.contype operator(pg_catalog.=) 'n' and not c.convalidated and c.conkey[1] operator(pg_catalog.=) a.attnum),
		a.atttypid operator(pg_catalog.=) any ('{24, 1033, 2202, 2203, 2204, 2205, 2206, 3734, 3769, 4089, 4096, 4191}')
		from pg_catalog.pg_attribute a where a.attrelid operator(pg_catalog.=) $1 and a.attnum operator(pg_catalog.>) 0
		and not a.attisdropped and a.attgenerated operator(pg_catalog.<>) 'v' order by a.attnum`, t.OID)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[column])
}

// hash stands for the columns' names and types.
func (c columns) hash() string {
	h := sha256.New()
	for _, one := range c {
		_, _ = fmt.Fprintf(h, "%q %q\n", one.Name, one.Type)
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// sum adds up the hashes of the rows' texts. The text is that of the server's own function: a cast may be somebody's.
func (c columns) sum() string {
	var list []string
	for _, one := range c {
		if !one.Names {
			list = append(list, pgx.Identifier{one.Name}.Sanitize())
		}
	}
	return `coalesce(pg_catalog.sum(pg_catalog.hashtextextended(pg_catalog.textin(pg_catalog.record_out(row(` + strings.Join(list, ", ") +
		`))) collate pg_catalog."C", 0)), 0)`
}

// violations is a probe that counts the rows for which an expression is false or, with null, not true.
func violations(count string, found func(n int64), left func(err error)) probe {
	return probe{
		sql: count,
		judge: func(value string) {
			n, err := strconv.ParseInt(value, 10, 64)
			if err != nil {
				left(err)
				return
			}
			found(n)
		},
		fail: left,
	}
}
