package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"velvetrewind/core/inventory"
	"velvetrewind/core/pg"
)

// Losses are what cannot be read of a cluster: what audits found, and segments that were stored
// although their records could not be read. Nothing is planned through them.
type Losses struct {
	inventory.Losses
	FoundAt time.Time // by the newest audit that found any
	// Unreadable are those of the segments whose records cannot be read: the journal has a gap there.
	Unreadable []pg.Segment
}

// Losses reads what cannot be read of a cluster.
func (c *Catalog) Losses(ctx context.Context, cluster string) (Losses, error) {
	all, err := c.losses(ctx, cluster)
	return all[cluster], err
}

// losses reads them by cluster; of all clusters when cluster is "".
func (c *Catalog) losses(ctx context.Context, cluster string) (map[string]Losses, error) {
	var rows []struct {
		ClusterID string          `db:"cluster_id"`
		Found     json.RawMessage `db:"found"`
		FoundAt   time.Time       `db:"found_at"`
	}
	if err := c.db.SelectContext(ctx, &rows, `select * from velvet.losses where cluster_id = $1 or $1 = ''`, cluster); err != nil {
		return nil, err
	}
	all := make(map[string]Losses, len(rows))
	for _, r := range rows {
		l := Losses{FoundAt: r.FoundAt.UTC()}
		if err := json.Unmarshal(r.Found, &l.Losses); err != nil {
			return nil, err
		}
		all[r.ClusterID] = l
	}
	return all, c.addUnreadable(ctx, cluster, all)
}

// addUnreadable adds segments whose records cannot be read.
func (c *Catalog) addUnreadable(ctx context.Context, cluster string, all map[string]Losses) error {
	var rows []struct {
		ClusterID string       `db:"cluster_id"`
		Timeline  pg.Timeline  `db:"timeline"`
		Number    uint64       `db:"number"`
		Before    sql.NullTime `db:"before"`
	}
	err := c.db.SelectContext(ctx, &rows, `select u.cluster_id, u.timeline, u.number, (select max(s.last_commit) from velvet.segments s
			where s.cluster_id = u.cluster_id and s.timeline = u.timeline and s.number < u.number) as before
		from velvet.segments u where u.unreadable <> '' and (u.cluster_id = $1 or $1 = '') order by u.timeline, u.number`, cluster)
	for _, r := range rows {
		l, seg := all[r.ClusterID], pg.Segment{Timeline: r.Timeline, Number: r.Number}
		l.Unreadable = append(l.Unreadable, seg)
		l.Losses = l.With(inventory.Losses{Segments: []inventory.LostSegment{{Segment: seg, Before: r.Before.Time.UTC()}}})
		all[r.ClusterID] = l
	}
	return err
}

// NoteLosses notes what an audit could not read of a cluster. One that read every byte
// has the last word; any other adds to what was found before.
func (c *Catalog) NoteLosses(ctx context.Context, cluster string, found inventory.Losses, everyByte bool) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if !everyByte {
		var encoded json.RawMessage
		var before inventory.Losses
		err := tx.GetContext(ctx, &encoded, `select found from velvet.losses where cluster_id = $1 for update`, cluster)
		if errors.Is(err, sql.ErrNoRows) {
			encoded, err = json.RawMessage("{}"), nil
		}
		if err == nil {
			err = json.Unmarshal(encoded, &before)
		}
		if err != nil {
			return err
		}
		found = before.With(found)
	}
	if found.None() {
		_, err = tx.ExecContext(ctx, `delete from velvet.losses where cluster_id = $1`, cluster)
	} else {
		_, err = tx.ExecContext(ctx, `insert into velvet.losses (cluster_id, found)
				select id, $2 from velvet.clusters where id = $1
			on conflict (cluster_id) do update set found = $2, found_at = now()`, cluster, jsonOrNull(&found))
	}
	if err != nil {
		return err
	}
	return tx.Commit()
}
