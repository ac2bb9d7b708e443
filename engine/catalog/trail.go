package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"velvetrewind/core/trail"
)

// TheService is who does what nobody asked for at the time.
const TheService = "the service"

const trailColumns = `number, at, who, called as "from", did, cluster_id as cluster, subject, outcome, hash`

// AddToTrail records an act, at its place in the chain. Number, time and hash are given here.
func (c *Catalog) AddToTrail(ctx context.Context, e trail.Entry) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := addToTrail(ctx, tx, e); err != nil {
		return err
	}
	return tx.Commit()
}

// addToTrail records an act together with what else its transaction writes.
func addToTrail(ctx context.Context, tx *sqlx.Tx, e trail.Entry) error {
	// One at a time, so that each follows on the one before.
	if _, err := tx.ExecContext(ctx, `select pg_advisory_xact_lock($1, 0)`, spaceTrail); err != nil {
		return err
	}
	var last struct {
		Number int64
		Hash   string
		Now    time.Time
	}
	err := tx.GetContext(ctx, &last, `select number, hash, clock_timestamp() as now from velvet.trail order by number desc limit 1`)
	if errors.Is(err, sql.ErrNoRows) {
		err = tx.GetContext(ctx, &last.Now, `select clock_timestamp()`)
	}
	if err != nil {
		return err
	}
	e.Number, e.At = last.Number+1, last.Now
	e = e.Seal(last.Hash)
	_, err = tx.ExecContext(ctx, `insert into velvet.trail (number, at, who, called, did, cluster_id, subject, outcome, hash)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, e.Number, e.At, e.Who, e.From, e.Did, e.Cluster, e.Subject, e.Outcome, e.Hash)
	return err
}

// Trail lists at most so many acts before a number, newest first; of one cluster, or of all if that is "". Before 0 is the newest.
func (c *Catalog) Trail(ctx context.Context, cluster string, before int64, most int) ([]trail.Entry, error) {
	var list []trail.Entry
	return list, c.db.SelectContext(ctx, &list, `select `+trailColumns+` from velvet.trail where ($1 = '' or cluster_id = $1)
		and ($2 = 0 or number < $2) order by number desc limit $3`, cluster, before, most)
}

// CheckTrail reads the whole trail and holds each entry against its hash; broken says what is wrong, or is nil. Noted is the number
// of the entry with a hash that was noted before, or 0.
func (c *Catalog) CheckTrail(ctx context.Context, hash string) (chain trail.Chain, noted int64, broken, err error) {
	rows, err := c.db.QueryxContext(ctx, `select `+trailColumns+` from velvet.trail order by number`)
	if err != nil {
		return chain, 0, nil, err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var e trail.Entry
		if err := rows.StructScan(&e); err != nil {
			return chain, noted, nil, err
		}
		if broken = chain.Add(e); broken != nil {
			return chain, noted, broken, nil
		}
		if e.Hash == hash {
			noted = e.Number
		}
	}
	return chain, noted, nil, rows.Err()
}
