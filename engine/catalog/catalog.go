// Package catalog keeps Velvet Rewind's records in PostgreSQL.
//
// Invariant: the store is the truth about what can be restored, the catalogue a
// convenience that names it; a backup is recorded only after its manifest is in
// the store. Which service instance does what is decided by session advisory
// locks, which the database frees by itself when an instance dies.
package catalog

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/oklog/ulid/v2"
	"github.com/pressly/goose/v3"

	"velvetrewind/core/pg"
	"velvetrewind/engine/problem"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Catalog is the records.
type Catalog struct {
	pool *pgxpool.Pool
	db   *sqlx.DB
}

// Open connects to the catalogue and brings its tables up to date.
func Open(ctx context.Context, connString string) (*Catalog, error) {
	cfg, err := pgxpool.ParseConfig(connString)
	if err != nil {
		return nil, fmt.Errorf("the catalogue's connection string: %w", err)
	}
	cfg.ConnConfig.RuntimeParams["application_name"] = "velvet catalogue"
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("the catalogue cannot be reached: %w", err)
	}
	c := &Catalog{pool: pool, db: sqlx.NewDb(stdlib.OpenDBFromPool(pool), "pgx")}
	if err := c.migrate(ctx); err != nil {
		c.Close()
		return nil, fmt.Errorf("bring the catalogue's tables up to date: %w", err)
	}
	return c, nil
}

func (c *Catalog) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, c.db.DB, files, goose.WithTableName("velvet_migrations"))
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// Pool is the connections that the task queue shares.
func (c *Catalog) Pool() *pgxpool.Pool { return c.pool }

// Close ends all connections.
func (c *Catalog) Close() {
	_ = c.db.Close()
	c.pool.Close()
}

// Ping says whether the catalogue answers.
func (c *Catalog) Ping(ctx context.Context) error { return c.db.PingContext(ctx) }

// NewID makes an id: a ULID, which sorts by the time it was made.
func NewID() string { return strings.ToLower(ulid.Make().String()) }

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

// Lease is an exclusive right that lasts until it is released or its holder's
// connection dies.
type Lease struct{ conn *pgxpool.Conn }

// Spaces of advisory locks.
const (
	spaceInstance = 0x76656c01
	spaceCapture  = 0x76656c02
)

// TakeInstance gives this service a number that no other running service has.
func (c *Catalog) TakeInstance(ctx context.Context) (int64, *Lease, error) {
	var n int64
	if err := c.db.GetContext(ctx, &n, `select nextval('velvet.instances')`); err != nil {
		return 0, nil, err
	}
	l, err := c.HoldInstance(ctx, n)
	return n, l, err
}

// HoldInstance takes the lock of an instance's number, again after its connection was lost.
func (c *Catalog) HoldInstance(ctx context.Context, n int64) (*Lease, error) {
	l, ok, err := c.lock(ctx, spaceInstance, utoa(uint64(n)))
	if err == nil && !ok {
		err = fmt.Errorf("instance number %d is taken", n)
	}
	return l, err
}

// TakeCapture gives the right to capture a cluster; ok is false if another instance has it.
func (c *Catalog) TakeCapture(ctx context.Context, cluster string) (l *Lease, ok bool, err error) {
	return c.lock(ctx, spaceCapture, cluster)
}

func (c *Catalog) lock(ctx context.Context, space int32, name string) (*Lease, bool, error) {
	conn, err := c.pool.Acquire(ctx)
	if err != nil {
		return nil, false, err
	}
	var ok bool
	if err := conn.QueryRow(ctx, `select pg_try_advisory_lock($1, hashtext($2))`, space, name).Scan(&ok); err != nil || !ok {
		conn.Release()
		return nil, false, err
	}
	return &Lease{conn: conn}, true, nil
}

// Held says whether the lease's connection still answers, and so the lease is still ours.
func (l *Lease) Held(ctx context.Context) bool { return l.conn.Ping(ctx) == nil }

// Release gives the right back by ending the connection that holds it.
func (l *Lease) Release() {
	conn := l.conn.Hijack()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = conn.Close(ctx)
}

// utoa writes an unsigned number for a numeric or text parameter.
func utoa(n uint64) string { return strconv.FormatUint(n, 10) }
