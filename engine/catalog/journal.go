package catalog

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
)

// RelationName is what a relation file was called from a time on.
type RelationName struct {
	Space    uint32    `db:"space"`
	Database uint32    `db:"database"`
	Filenode uint32    `db:"filenode"`
	Since    time.Time `db:"since"`
	OID      uint32    `db:"oid"` // of the table
	DBName   string    `db:"database_name"`
	Schema   string    `db:"schema"`
	Name     string    `db:"name"` // of the table
	Part     int16     `db:"part"`
	Rows     int64     `db:"rows"`  // the server's estimate, -1 where it has none
	Above    string    `db:"above"` // as journal.Name has it
}

// RelationNames shows the names of a cluster's relation files that were learned after a time, oldest first: they may be very many.
func (c *Catalog) RelationNames(ctx context.Context, cluster string, after time.Time, show func(RelationName)) error {
	rows, err := c.db.QueryxContext(ctx, `select space, database, filenode, since, oid, database_name, schema, name, part, rows,
		above from velvet.relation_names where cluster_id = $1 and since > $2 order by since`, cluster, after)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var n RelationName
		if err := rows.StructScan(&n); err != nil {
			return err
		}
		show(n)
	}
	return rows.Err()
}

// AddRelationNames records names, all of them or none: who reads those of a time reads all. One that is there already is no error.
func (c *Catalog) AddRelationNames(ctx context.Context, cluster string, list []RelationName) error {
	if len(list) == 0 {
		return nil
	}
	return pgx.BeginFunc(ctx, c.pool, func(tx pgx.Tx) error {
		for some := range slices.Chunk(list, batchRows) {
			var b pgx.Batch
			for _, n := range some {
				b.Queue(`insert into velvet.relation_names (cluster_id, space, database, filenode, since, oid, database_name, schema, name,
					part, rows, above)
					values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) on conflict do nothing`,
					cluster, int64(n.Space), int64(n.Database), int64(n.Filenode), n.Since, int64(n.OID), n.DBName, n.Schema, n.Name,
					n.Part, n.Rows, n.Above)
			}
			if err := tx.SendBatch(ctx, &b).Close(); err != nil {
				return err
			}
		}
		return nil
	})
}

// batchRows is how many rows are sent at once: a batch is held in memory.
const batchRows = 1000

// Incident is a transaction that a cluster's rule marks.
type Incident struct {
	ClusterID   string          `db:"cluster_id"`
	Timeline    pg.Timeline     `db:"timeline"`
	LSN         pg.LSN          `db:"lsn"`
	XID         uint64          `db:"xid"`
	CommittedAt time.Time       `db:"committed_at"`
	Reasons     json.RawMessage `db:"reasons"` // []string
	Author      string          `db:"author"`  // as journal.Author says it; "" if nobody was seen
	RecordedAt  time.Time       `db:"recorded_at"`
	SettledAt   *time.Time      `db:"settled_at"`
}

// AddIncident records an incident; the same one again, or read again where another timeline begins with the same WAL, is no error
// and changes nothing. What a rescue of ours writes is none.
func (c *Catalog) AddIncident(ctx context.Context, i Incident) (added bool, err error) {
	r, err := c.db.ExecContext(ctx, `insert into velvet.incidents (cluster_id, timeline, lsn, xid, committed_at, reasons, author)
		select $1, $2::bigint, $3::pg_lsn, $4::bigint, $5::timestamptz, $6::jsonb, $7 where not exists (select from velvet.incidents
		where cluster_id = $1 and lsn = $3::pg_lsn and xid = $4::bigint and committed_at = $5::timestamptz)
		and not exists (select from velvet.rescues where cluster_id = $1 and (own_xid = $4::bigint
			or batches @> jsonb_build_array(jsonb_build_object('own', $4::bigint)))) on conflict do nothing`,
		i.ClusterID, int64(i.Timeline), lsn(i.LSN), int64(i.XID), i.CommittedAt, string(i.Reasons), i.Author)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// SettleUndone settles the incidents that do not lie on the way to a timeline, to which forks lead: they were undone, or lost.
func (c *Catalog) SettleUndone(ctx context.Context, cluster string, t pg.Timeline, forks []pg.Fork) error {
	timelines, places := make([]int64, len(forks)), make([]string, len(forks))
	for i, f := range forks {
		timelines[i], places[i] = int64(f.Timeline), f.At.String()
	}
	_, err := c.db.ExecContext(ctx, `update velvet.incidents set settled_at = now() where cluster_id = $1 and settled_at is null
		and timeline <> $2 and not exists (select from unnest($3::bigint[], $4::text[]) f (timeline, place)
		where f.timeline = incidents.timeline and incidents.lsn < f.place::pg_lsn)`, cluster, int64(t), timelines, places)
	return err
}

// Incidents lists a cluster's incidents, newest first; of all clusters when cluster is "".
func (c *Catalog) Incidents(ctx context.Context, cluster string) ([]Incident, error) {
	var list []Incident
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.incidents where cluster_id = $1 or $1 = ''
		order by committed_at desc, lsn desc`, cluster)
}

// SettleIncidents notes that a transaction's incident was looked at and needs nobody any more.
func (c *Catalog) SettleIncidents(ctx context.Context, cluster string, xid pg.FullXID) error {
	r, err := c.db.ExecContext(ctx, `update velvet.incidents set settled_at = coalesce(settled_at, now())
		where cluster_id = $1 and xid = $2`, cluster, int64(xid))
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return problem.New(problem.NotFound, "List them with: velvet changes list CLUSTER --incidents", "nothing was settled",
		"transaction %d is no incident of this cluster", xid)
}

// Rule is which transactions of the cluster are incidents.
func (k Cluster) Rule() (r journal.Rule, err error) {
	if k.RuleSet == nil {
		return journal.DefaultRule, nil
	}
	return r, json.Unmarshal(k.RuleSet, &r)
}

// Authors is how the cluster's authors are watched.
func (k Cluster) Authors() (r journal.AuthorRule, err error) {
	if k.AuthorsSet == nil {
		return journal.DefaultAuthorRule, nil
	}
	return r, json.Unmarshal(k.AuthorsSet, &r)
}

// SetAuthors changes how a cluster's authors are watched.
func (c *Catalog) SetAuthors(ctx context.Context, cluster string, r journal.AuthorRule) error {
	encoded, err := json.Marshal(r)
	if err == nil {
		_, err = c.db.ExecContext(ctx, `update velvet.clusters set authors = $2 where id = $1`, cluster, string(encoded))
	}
	return err
}

// SetRule changes which transactions of a cluster are incidents, from now on.
func (c *Catalog) SetRule(ctx context.Context, cluster string, r journal.Rule) error {
	encoded, err := json.Marshal(r)
	if err == nil {
		_, err = c.db.ExecContext(ctx, `update velvet.clusters set rule = $2 where id = $1`, cluster, string(encoded))
	}
	return err
}
