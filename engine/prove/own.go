package prove

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/copies"
)

// own makes the DBA's own checks.
func (r *run) own(ctx context.Context) error {
	for i := range r.Own {
		k := &r.Own[i]
		started := time.Now()
		r.report.Progress(int64(i), int64(len(r.Own)), task.None, "making the check "+k.Name)
		c := r.ownCheck(ctx, k)
		c.Notes = append(c.Notes, fmt.Sprintf("version %d, as the role %s in the database %s: %s", k.Version, k.Role, k.Database,
			strings.Join(strings.Fields(k.SQL), " ")))
		r.add(c, started)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
	return nil
}

func (r *run) ownCheck(ctx context.Context, k *catalog.OwnCheck) proof.Check {
	expects, err := proof.ParseExpectation(k.Expects)
	if err != nil {
		return proof.Unable(k.Name, err)
	}
	conn, err := copies.ConnectAs(ctx, r.Host, r.copy, k.Role, k.Database)
	if err != nil {
		return proof.Unable(k.Name, fmt.Errorf("it is run as %s, who could not log in to the copy: %w", k.Role, err))
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	got, err := answer(ctx, conn, k)
	if err != nil {
		return proof.Unable(k.Name, err)
	}
	var other *string
	why := ""
	switch expects.Kind {
	case proof.SameAsLive:
		other, why = r.liveAnswer(ctx, k)
	case proof.SameAsLast:
		other, why = r.lastAnswer(k.Name)
	}
	return proof.Own(k.Name, expects, got, other, why)
}

// answer runs the query of a check: read-only, and no longer than it may take.
func answer(ctx context.Context, conn *pgx.Conn, k *catalog.OwnCheck) (a proof.Answer, err error) {
	limit := time.Duration(k.Seconds) * time.Second
	ctx, cancel := context.WithTimeout(ctx, limit+5*time.Second) // the server ends it first, if it can
	defer cancel()
	tx, err := conn.BeginTx(ctx, pgx.TxOptions{AccessMode: pgx.ReadOnly})
	if err != nil {
		return a, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	var super bool
	if err := tx.QueryRow(ctx, `select rolsuper from pg_catalog.pg_roles where rolname operator(pg_catalog.=) current_user`).Scan(
		&super); err != nil {
		return a, err
	}
	if super {
		return a, fmt.Errorf("%s is a superuser: what the query calls would run with all rights; give the check a role that is none",
			k.Role)
	}
	_, err = tx.Exec(ctx,
		fmt.Sprintf(`set local statement_timeout = '%ds'; set local search_path = "$user", public`, k.Seconds)+"; "+plainText)
	if err != nil {
		return a, err
	}
	rows, err := tx.Query(ctx, k.SQL, pgx.QueryExecModeExec, pgx.QueryResultFormats{pgx.TextFormatCode})
	if err != nil {
		return a, told(err, limit)
	}
	defer rows.Close()
	for rows.Next() {
		if a.Rows++; a.Rows == 1 {
			if values := rows.RawValues(); len(values) > 0 && values[0] != nil {
				text := string(values[0][:min(len(values[0]), longestValue)])
				a.Value = &text
			}
		}
	}
	return a, told(rows.Err(), limit)
}

// longestValue bounds what is kept of a value, in bytes.
const longestValue = 1000

// told words the error of a query for whoever wrote it.
func told(err error, limit time.Duration) error {
	var e *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case codeOf(err) == "57014" || errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("it took longer than the %s that it may take", limit)
	case codeOf(err) == "25006":
		return fmt.Errorf("it would write, and checks only read: %w", err)
	case errors.As(err, &e) && e.Position > 0:
		return fmt.Errorf("%w, at character %d", err, e.Position)
	}
	return err
}

// liveAnswer runs the same on the live cluster, as the same role: that with which the cluster is registered. What the query
// calls could take on the rights of the session's own role, if that was another.
func (r *run) liveAnswer(ctx context.Context, k *catalog.OwnCheck) (*string, string) {
	conn, err := r.Access.SQL(ctx, k.Database)
	if err != nil {
		return nil, "the live cluster could not be asked: " + err.Error()
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if own := conn.Config().User; own != k.Role {
		return nil, fmt.Sprintf("on the live cluster it can be run only as %s, with which that is registered, and not as %s", own, k.Role)
	}
	a, err := answer(ctx, conn, k)
	if err != nil {
		return nil, "on the live cluster: " + err.Error()
	}
	text := a.String()
	return &text, ""
}

// lastAnswer is what the check gave in the newest proof that has it.
func (r *run) lastAnswer(name string) (*string, string) {
	for i := range r.Earlier {
		for _, c := range r.Earlier[i].Checks {
			if c.Area == proof.AreaOwn && c.Name == name && c.Value != nil {
				return c.Value, ""
			}
		}
	}
	return nil, "no earlier proof has it"
}
