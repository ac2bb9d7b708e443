package catalog

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"velvetrewind/core/problem"
)

const (
	// schema is where everything lives that is ours, whatever the role, the database or their
	// settings are called.
	schema = "velvet"
	// versionTable tells which migrations were run.
	versionTable = schema + ".migrations"
)

// formerVersionTables are where earlier versions of the program kept versionTable: in the
// schema that came first in the role's search path.
var formerVersionTables = []string{"public.velvet_migrations", schema + ".velvet_migrations"}

// Alone runs what changes the catalogue's tables while no other service does.
func (c *Catalog) Alone(ctx context.Context, change func(context.Context) error) error {
	conn, err := c.db.Connx(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close() }() // which ends the session's lock, too, if unlocking failed
	if _, err := conn.ExecContext(ctx, `select pg_advisory_lock($1, 0)`, spaceTables); err != nil {
		return err
	}
	defer func() {
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), `select pg_advisory_unlock($1, 0)`, spaceTables)
	}()
	return change(ctx)
}

// migrate brings the tables up to date.
func (c *Catalog) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if err := c.adoptVersionTable(ctx); err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, c.db.DB, files, goose.WithTableName(versionTable))
	if err != nil {
		return err
	}
	here, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	sources := p.ListSources()
	if known := sources[len(sources)-1].Version; here > known {
		return problem.New(problem.Conflict, "Start the newer program, or give this one a catalogue of its own.",
			"the catalogue is newer than the program",
			"the catalogue's tables are of version %d, and this program knows them up to %d", here, known)
	}
	_, err = p.Up(ctx)
	return err
}

// adoptVersionTable makes the schema, and moves the version table of an earlier version of the
// program there. Of two the one that tells of more is right: a second start could leave an empty
// one in another schema, and fail.
func (c *Catalog) adoptVersionTable(ctx context.Context) error {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	// Not "if not exists": that asks for the right to create schemas where there is one.
	var there bool
	if err := tx.GetContext(ctx, &there, `select to_regnamespace($1) is not null`, schema); err != nil {
		return err
	}
	if !there {
		if _, err = tx.ExecContext(ctx, `create schema `+pgx.Identifier{schema}.Sanitize()); err != nil {
			return fmt.Errorf("%w; the catalogue's role needs the right to create its schema: GRANT CREATE ON DATABASE … TO …", err)
		}
	}
	if there, err := hasTable(ctx, tx, versionTable); err != nil || there {
		return errors.Join(err, tx.Commit())
	}
	best, most := "", int64(-1)
	for _, name := range formerVersionTables {
		var version sql.NullInt64
		if there, err := hasTable(ctx, tx, name); err != nil {
			return err
		} else if !there {
			continue
		}
		if err := tx.GetContext(ctx, &version, `select max(version_id) from `+name); err != nil {
			return err
		}
		if version.Int64 > most {
			best, most = name, version.Int64
		}
	}
	if best == "" {
		return tx.Commit()
	}
	for _, name := range formerVersionTables {
		if err == nil && name != best {
			_, err = tx.ExecContext(ctx, `drop table if exists `+name)
		}
	}
	if err == nil && !strings.HasPrefix(best, schema+".") {
		_, err = tx.ExecContext(ctx, `alter table `+best+` set schema `+schema)
	}
	if err == nil {
		_, err = tx.ExecContext(ctx, `alter table `+schema+`.velvet_migrations rename to migrations`)
	}
	if err != nil {
		return fmt.Errorf("take over the version table %s of an earlier version: %w", best, err)
	}
	return tx.Commit()
}

// hasTable tells whether there is a table of a schema, whatever the role may do in there.
func hasTable(ctx context.Context, tx *sqlx.Tx, name string) (there bool, err error) {
	in, table, _ := strings.Cut(name, ".")
	return there, tx.GetContext(ctx, &there, `select exists (select from pg_class
		where relnamespace = to_regnamespace($1) and relname = $2)`, in, table)
}
