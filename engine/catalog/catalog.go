// Package catalog keeps Velvet Rewind's records in PostgreSQL.
//
// Invariant: the store is the truth about what can be restored, the catalogue a convenience that names it; a backup
// is recorded only after its manifest is in the store. Which service instance does what is decided by session
// advisory locks, which the database frees by itself when an instance dies. What records mean is left to those who
// keep them.
package catalog

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Catalog is the records.
type Catalog struct {
	pool   *pgxpool.Pool
	db     *sqlx.DB
	leases leases
}

// atLeast is how many connections the pool may have at least: the task queue keeps one for
// itself, and a service waits for others in many places at once.
const atLeast = 16

// Open connects to the catalogue and brings its tables up to date.
func Open(ctx context.Context, connString string) (*Catalog, error) {
	cfg, err := pgxpool.ParseConfig(connString)
	if err != nil {
		return nil, fmt.Errorf("the catalogue's connection string: %w", err)
	}
	cfg.ConnConfig.RuntimeParams["application_name"] = "velvet catalogue"
	// Whatever the role or the database say: every name is found in our schema or the system's.
	cfg.ConnConfig.RuntimeParams["search_path"] = schema
	if !strings.Contains(connString, "pool_max_conns") {
		cfg.MaxConns = max(cfg.MaxConns, atLeast)
	}
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, problem.Wrap(err, problem.Unreachable, "the catalogue cannot be reached",
			"See that its server runs and admits the role, then start the service again. Captures lose nothing meanwhile: their slots "+
				"retain the WAL.")
	}
	c := &Catalog{pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx"), leases: leases{config: cfg.ConnConfig.Copy()}}
	if err := c.Alone(ctx, c.migrate); err != nil {
		c.Close()
		return nil, fmt.Errorf("bring the catalogue's tables up to date: %w", err)
	}
	return c, nil
}

// Pool is the connections that the task queue shares.
func (c *Catalog) Pool() *pgxpool.Pool { return c.pool }

// DB is the same for what inserts into the queue, in the transactions in which tasks are recorded.
func (c *Catalog) DB() *sql.DB { return c.db.DB }

// Close ends all connections.
func (c *Catalog) Close() {
	c.leases.close()
	_ = c.db.Close()
	c.pool.Close()
}

// Ping says whether the catalogue answers.
func (c *Catalog) Ping(ctx context.Context) error { return c.db.PingContext(ctx) }

// lsn passes an LSN as a parameter of type pg_lsn; 0 is NULL.
func lsn(l pg.LSN) any {
	if l == 0 {
		return nil
	}
	return l.String()
}

// found turns "no rows" into a problem that names what is missing.
func found(err error, what, name string, next string) error {
	if errors.Is(err, sql.ErrNoRows) {
		return problem.New(problem.NotFound, next, "there is no such "+what, "nothing is known of %s %q", what, name)
	}
	return err
}

// violates tells whether err is the breach of a named constraint or index.
func violates(err error, constraint string) bool {
	var pgErr *pgconn.PgError
	return errors.As(err, &pgErr) && pgErr.ConstraintName == constraint
}

// Installation is the id of this catalogue, by which a store knows whose it is.
func (c *Catalog) Installation(ctx context.Context) (id string, err error) {
	return id, c.db.GetContext(ctx, &id, `select id from velvet.installation`)
}

// StoreKeys are what is known of the store's data keys: a fingerprint of the first one, "" if that is
// not known, and the number of the newest.
type StoreKeys struct {
	Fingerprint string `db:"key_fingerprint"`
	Number      uint32 `db:"key_number"`
}

// StoreKeys reads what is known of the store's data keys.
func (c *Catalog) StoreKeys(ctx context.Context) (k StoreKeys, err error) {
	return k, c.db.GetContext(ctx, &k, `select key_fingerprint, key_number from velvet.installation`)
}

// SetStoreKeys notes them.
func (c *Catalog) SetStoreKeys(ctx context.Context, k StoreKeys) error {
	_, err := c.db.ExecContext(ctx, `update velvet.installation set key_fingerprint = $1, key_number = $2`, k.Fingerprint, int64(k.Number))
	return err
}

// Epoch is the store's epoch that this catalogue has taken, and the mark of the one that it is taking.
type Epoch struct {
	Number uint64 `db:"epoch"`
	Mark   string `db:"epoch_mark"`
}

// Epoch reads it.
func (c *Catalog) Epoch(ctx context.Context) (e Epoch, err error) {
	return e, c.db.GetContext(ctx, &e, `select epoch, epoch_mark from velvet.installation`)
}

// SetEpoch notes it.
func (c *Catalog) SetEpoch(ctx context.Context, e Epoch) error {
	_, err := c.db.ExecContext(ctx, `update velvet.installation set epoch = $1, epoch_mark = $2`, int64(e.Number), e.Mark)
	return err
}

// utoa writes an unsigned number for a numeric or text parameter.
func utoa(n uint64) string { return strconv.FormatUint(n, 10) }
