// Package prove looks at a copy, and at its original beside it, and has the
// findings judged by core/proof.
//
// Invariant: it reads only; neither the copy nor the original is changed. What belongs to the cluster's people is called
// with no more rights than theirs, or left out and said. Copies are made, and ended, by package copies.
package prove

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/core/wal"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/store/vault"
)

// Prover proves copies of one cluster.
type Prover struct {
	Cluster catalog.Cluster
	Access  access.Access // of the live cluster
	Host    host.Machine  // that the copy is on
	Store   *vault.Vault
	// Open opens what is captured of the cluster by now, along the way to a timeline.
	Open func(context.Context, pg.Timeline) (*archive.Archive, *changes.Journal, error)
	// Earlier are proofs of copies of the cluster, the newest first.
	Earlier []Earlier
	// Own are the DBA's own checks of the cluster.
	Own []catalog.OwnCheck
	// Aside makes another copy at the same place and opens it, to read there what is locked in the copy; it is removed with
	// the function that comes back.
	Aside func(context.Context, catalog.Copy, task.Report) (catalog.Copy, func(), error)
}

// Earlier is a proof of before, with the place of its copy.
type Earlier struct {
	At     time.Time
	Plan   plan.Restore
	Checks []proof.Check
}

// run is one proof of one copy.
type run struct {
	*Prover
	copy   catalog.Copy
	plan   plan.Restore
	report task.Report
	// conn is a session on the copy as its superuser.
	conn      *pgx.Conn
	tree      host.Files
	databases []database
	closed    map[string]string // databases that cannot be looked into, and why
	found     []file            // relation files
	known     map[wal.RelationRef]*relation
	damaged   map[wal.RelationRef]string // files with damaged pages, and where
	checks    []proof.Check
}

// Run makes every check and returns them. An error means that the copy could not
// be looked at at all.
func (p *Prover) Run(ctx context.Context, k catalog.Copy, report task.Report) ([]proof.Check, error) {
	return p.run(ctx, k, report, func(r *run) []step { return []step{r.boundary, r.files, r.everyPage, r.rows, r.log, r.own} })
}

// Quick makes the checks that take no longer for a larger copy: of the boundary, the commit log, the files but not their pages, and
// what the server said. That is no proof.
func (p *Prover) Quick(ctx context.Context, k catalog.Copy, report task.Report) ([]proof.Check, error) {
	return p.run(ctx, k, report, func(r *run) []step { return []step{r.boundary, r.files, r.log} })
}

// step makes some of the checks.
type step func(context.Context) error

func (p *Prover) run(ctx context.Context, k catalog.Copy, report task.Report, steps func(*run) []step) ([]proof.Check, error) {
	if k.State != catalog.CopyPaused && k.State != catalog.CopyOpen {
		return nil, problem.New(problem.Conflict, "See: velvet copy show "+k.ID, "the copy was not proved",
			"it is %s; only a paused or open copy can be proved", k.State)
	}
	r := &run{Prover: p, copy: k, report: report, damaged: make(map[wal.RelationRef]string), closed: make(map[string]string)}
	if err := json.Unmarshal(k.Plan, &r.plan); err != nil {
		return nil, err
	}
	var err error
	if r.conn, err = copies.Connect(ctx, p.Host, k, p.Cluster, "template1"); err != nil {
		return nil, err
	}
	defer func() { _ = r.conn.Close(context.WithoutCancel(ctx)) }()
	own := *p
	r.Prover = &own
	if own.Host, err = p.Host.Under(k.OSUser); err != nil {
		return nil, err
	}
	if r.tree, err = own.Host.Files(k.Directory); err != nil {
		return nil, err
	}
	defer func() { _ = r.tree.Close() }()
	for _, do := range steps(r) {
		if err := do(ctx); err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
	}
	return r.checks, nil
}

// add keeps a check, with the time that it took if that is not known, and puts it into the task's log: in full only where a person
// should look.
func (r *run) add(c proof.Check, since time.Time) {
	if c.Took == 0 {
		c.Took = time.Since(since)
	}
	r.checks = append(r.checks, c)
	if c.Verdict == proof.Passed {
		r.report.Log("%s: passed", c.Name)
		return
	}
	r.report.Warn("%s: %s: %s", c.Name, c.Verdict, c.Summary)
}

// ask reads all rows of a query.
func ask[T any](ctx context.Context, conn *pgx.Conn, read pgx.RowToFunc[T], query string, args ...any) ([]T, error) {
	rows, err := conn.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, read)
}
