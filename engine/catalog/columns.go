package catalog

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/value"
)

// TableColumns is what the columns of a table were in a snapshot of its server.
type TableColumns struct {
	Database uint32          `db:"database"` // oid
	OID      uint32          `db:"oid"`      // of the table
	Since    time.Time       `db:"since"`    // when they were asked for, by the server's clock
	Snapshot string          `db:"snapshot"` // as the type pg_snapshot writes it
	Columns  json.RawMessage `db:"columns"`  // []value.Column
}

// Read gives the columns.
func (t TableColumns) Read() (list []value.Column, err error) {
	return list, json.Unmarshal(t.Columns, &list)
}

// AddTableColumns records columns; what is there already is no error.
func (c *Catalog) AddTableColumns(ctx context.Context, cluster string, list []TableColumns) error {
	for some := range slices.Chunk(list, batchRows) {
		var b pgx.Batch
		for _, t := range some {
			b.Queue(`insert into velvet.table_columns (cluster_id, database, oid, since, snapshot, columns)
				values ($1, $2, $3, $4, $5, $6) on conflict do nothing`,
				cluster, int64(t.Database), int64(t.OID), t.Since, t.Snapshot, string(t.Columns))
		}
		if err := c.pool.SendBatch(ctx, &b).Close(); err != nil {
			return err
		}
	}
	return nil
}

// ColumnsOf lists what is known of a table's columns, oldest first.
func (c *Catalog) ColumnsOf(ctx context.Context, cluster string, database, oid uint32) ([]TableColumns, error) {
	var list []TableColumns
	return list, c.db.SelectContext(ctx, &list, `select database, oid, since, snapshot, columns from velvet.table_columns
		where cluster_id = $1 and database = $2 and oid = $3 order by since`, cluster, int64(database), int64(oid))
}

// EachNewestColumns visits what is known last of every table's columns.
func (c *Catalog) EachNewestColumns(ctx context.Context, cluster string, visit func(TableColumns)) error {
	rows, err := c.db.QueryxContext(ctx, `select distinct on (database, oid) database, oid, since, snapshot, columns
		from velvet.table_columns where cluster_id = $1 order by database, oid, since desc`, cluster)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var t TableColumns
		if err := rows.StructScan(&t); err != nil {
			return err
		}
		visit(t)
	}
	return rows.Err()
}
