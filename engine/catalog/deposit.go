package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Row is a row of the catalogue that the store alone could not tell, on its way there or back.
type Row struct {
	Table  string          `json:"table"`
	Values json.RawMessage `json:"values"` // by column
}

// ownRows selects, table by table, what only the catalogue knows of a cluster, as JSON. What
// is being done at the moment is no history yet. A copy is kept for its proofs alone: where it
// stood is not trusted when it comes back.
var ownRows = []struct{ table, query string }{
	{"pins", `select to_jsonb(t) from velvet.pins t join velvet.backups b on b.id = t.backup_id where b.cluster_id = $1`},
	{"released", `select to_jsonb(t) from velvet.released t where cluster_id = $1`},
	{"hole_causes", `select to_jsonb(t) from velvet.hole_causes t where cluster_id = $1`},
	{"incidents", `select to_jsonb(t) from velvet.incidents t where cluster_id = $1`},
	{"calendar", `select to_jsonb(t) from velvet.calendar t where cluster_id = $1`},
	{"calendar_runs", `select to_jsonb(t) from velvet.calendar_runs t where cluster_id = $1`},
	{"copies", `select to_jsonb(t) || '{"state": "discarded", "directory": "", "socket": ""}' from velvet.copies t where cluster_id = $1`},
	{"proofs", `select to_jsonb(t) from velvet.proofs t where cluster_id = $1`},
	{"rescues", `select to_jsonb(t) from velvet.rescues t where cluster_id = $1 and ended_at is not null`},
	{"own_checks", `select to_jsonb(t) from velvet.own_checks t where cluster_id = $1`},
	{"rehearsals", `select to_jsonb(t) from velvet.rehearsals t where cluster_id = $1 and ended_at is not null`},
	{"tasks", `select to_jsonb(t) from velvet.tasks t where cluster_id = $1 and state not in ('waiting', 'running')`},
	{"task_lines", `select to_jsonb(l) from velvet.task_lines l join velvet.tasks t on t.id = l.task_id
		where t.cluster_id = $1 and t.state not in ('waiting', 'running')`},
	{"clusters", `select jsonb_build_object('id', id, 'second_store', second_store, 'capture_alert_seconds', capture_alert_seconds,
		'back_within_seconds', back_within_seconds, 'losing_at_most_seconds', losing_at_most_seconds)
		from velvet.clusters t where id = $1`},
}

// sharedRows selects what is of no cluster.
var sharedRows = []struct{ table, query string }{
	{"policies", `select to_jsonb(t) from velvet.policies t where $1 = ''`},
	{"calendar", `select to_jsonb(t) from velvet.calendar t where cluster_id is null and $1 = ''`},
	{"calendar_runs", `select to_jsonb(t) from velvet.calendar_runs t where cluster_id = '' and $1 = ''`},
	{"tasks", `select to_jsonb(t) from velvet.tasks t where cluster_id is null and state not in ('waiting', 'running') and $1 = ''`},
	{"task_lines", `select to_jsonb(l) from velvet.task_lines l join velvet.tasks t on t.id = l.task_id
		where t.cluster_id is null and t.state not in ('waiting', 'running') and $1 = ''`},
}

// EachOwnRow visits what only the catalogue knows of a cluster, or with cluster "" of none, in
// an order in which it can be brought back. All of it is of one instant.
func (c *Catalog) EachOwnRow(ctx context.Context, cluster string, visit func(Row) error) error {
	selected := ownRows
	if cluster == "" {
		selected = sharedRows
	}
	tx, err := c.pool.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	for _, s := range selected {
		rows, err := tx.Query(ctx, s.query, cluster)
		if err != nil {
			return fmt.Errorf("%s: %w", s.table, err)
		}
		var values []byte
		if _, err := pgx.ForEachRow(rows, []any{&values}, func() error { return visit(Row{s.table, slices.Clone(values)}) }); err != nil {
			return fmt.Errorf("%s: %w", s.table, err)
		}
	}
	return nil
}

// BringBack inserts rows that EachOwnRow has told, as next gives them, until it says that there
// are no more. Those that are there already stay as they are; one that belongs to something that
// is no longer there is left out. Columns that are not known any more are, too.
func (c *Catalog) BringBack(ctx context.Context, next func() (Row, bool, error)) (brought map[string]int, err error) {
	brought = make(map[string]int)
	tx, err := c.pool.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	columns := make(map[string][]string)
	for {
		row, ok, err := next()
		if err != nil {
			return nil, err
		}
		if !ok {
			return brought, tx.Commit(ctx)
		}
		if columns[row.Table] == nil {
			if columns[row.Table], err = columnsOf(ctx, tx, row.Table); err != nil {
				return nil, err
			}
		}
		done, err := bringRow(ctx, tx, row, columns[row.Table])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", row.Table, err)
		}
		if done {
			brought[row.Table]++
		}
	}
}

// columnsOf lists the columns of a table of which rows may be brought back; others are an error.
func columnsOf(ctx context.Context, tx pgx.Tx, table string) (list []string, err error) {
	known := slices.ContainsFunc(slices.Concat(ownRows, sharedRows), func(s struct{ table, query string }) bool { return s.table == table })
	if !known {
		return nil, fmt.Errorf("rows of a table %q are not known", table)
	}
	rows, err := tx.Query(ctx, `select attname::text from pg_attribute where attrelid = $1::text::regclass and attnum > 0
		and not attisdropped`, schema+"."+table)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

func bringRow(ctx context.Context, tx pgx.Tx, row Row, columns []string) (done bool, err error) {
	var values map[string]json.RawMessage
	if err := json.Unmarshal(row.Values, &values); err != nil {
		return false, err
	}
	var list, set []string
	for _, c := range columns {
		if _, has := values[c]; has {
			quoted := pgx.Identifier{c}.Sanitize()
			list, set = append(list, quoted), append(set, quoted+" = r."+quoted)
		}
	}
	table := pgx.Identifier{schema, row.Table}.Sanitize()
	from := ` from jsonb_populate_record(null::` + table + `, $1::jsonb) r`
	query := `insert into ` + table + ` (` + strings.Join(list, ", ") + `) select ` + strings.Join(list,
		", ") + from + ` on conflict do nothing`
	if row.Table == "clusters" { // which is there by now; only what its record lacks is set
		query = `update ` + table + ` t set ` + strings.Join(set, ", ") + from + ` where t.id = r.id`
	}
	point, err := tx.Begin(ctx)
	if err != nil {
		return false, err
	}
	tag, err := point.Exec(ctx, query, string(row.Values))
	var pgErr *pgconn.PgError
	if errors.As(err, &pgErr) && pgErr.Code == "23503" { // foreign_key_violation
		return false, point.Rollback(ctx)
	}
	if err != nil {
		return false, err
	}
	return tag.RowsAffected() > 0, point.Commit(ctx)
}

// Deposited is when what only the catalogue knows was last put into the store; the zero time if
// it never was.
func (c *Catalog) Deposited(ctx context.Context) (time.Time, error) {
	var at sql.NullTime
	err := c.db.GetContext(ctx, &at, `select deposited_at from velvet.installation`)
	return at.Time, err
}

// NoteDeposited notes that it was.
func (c *Catalog) NoteDeposited(ctx context.Context, at time.Time) error {
	_, err := c.db.ExecContext(ctx, `update velvet.installation set deposited_at = $1`, at)
	return err
}

// NewDeposit notes that the shared rows of another installation are brought back; false if
// they were before: what was deleted since must not come again.
func (c *Catalog) NewDeposit(ctx context.Context, installation string) (bool, error) {
	done, err := c.db.ExecContext(ctx, `insert into velvet.deposits (installation) values ($1) on conflict do nothing`, installation)
	if err != nil {
		return false, err
	}
	n, err := done.RowsAffected()
	return n > 0, err
}
