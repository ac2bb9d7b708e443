// Package prove looks at a copy, and at its original beside it, and has the
// findings judged by core/proof.
//
// Invariant: it reads only; neither the copy nor the original is changed. Copies are made, and ended, by package
// copies.
package prove

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/server/access"
)

// Prover proves copies of one cluster.
type Prover struct {
	Cluster catalog.Cluster
	Access  access.Access // of the live cluster
	Host    *host.Host
}

// Run makes every check and returns them. An error means that the copy could not
// be looked at at all.
func (p *Prover) Run(ctx context.Context, k catalog.Copy, report task.Report) ([]proof.Check, error) {
	if k.State != catalog.CopyPaused && k.State != catalog.CopyOpen {
		return nil, problem.New(problem.Conflict, "See: velvet copy show "+k.ID, "the copy was not proved",
			"it is %s; only a paused or open copy can be proved", k.State)
	}
	var r plan.Restore
	if err := json.Unmarshal(k.Plan, &r); err != nil {
		return nil, err
	}
	conn, err := copies.Connect(ctx, k, p.Cluster, "template1")
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	checks, err := p.boundary(ctx, conn, k, r.Boundary)
	if err != nil {
		return nil, err
	}
	for _, c := range checks {
		tell(report, c)
	}
	pages := proof.Pages(p.pages(ctx, k, report))
	tell(report, pages)
	tables, err := p.tables(ctx, conn, k, report)
	if err != nil {
		return nil, err
	}
	tell(report, tables)
	return append(checks, pages, tables), ctx.Err()
}

// tell puts a check into the task's log: in full only where a person should look.
func tell(report task.Report, c proof.Check) {
	if c.Verdict == proof.Passed {
		report.Log("%s: passed", c.Name)
		return
	}
	report.Warn("%s: %s: %s", c.Name, c.Verdict, c.Summary)
}

// boundary checks the place and the transactions on both sides of it.
func (p *Prover) boundary(ctx context.Context, conn *pgx.Conn, k catalog.Copy, b moment.Boundary) ([]proof.Check, error) {
	at := k.PausedLSN
	if k.State == catalog.CopyPaused { // look again rather than trust the record
		var text string
		if err := conn.QueryRow(ctx, `select pg_catalog.pg_last_wal_replay_lsn()::pg_catalog.text`).Scan(&text); err != nil {
			return nil, err
		}
		if err := at.UnmarshalText([]byte(text)); err != nil {
			return nil, err
		}
	}
	checks := []proof.Check{proof.Boundary(b, at)}
	for _, side := range []struct {
		commit *journal.Commit
		in     bool
	}{{b.LastIn, true}, {b.FirstOut, false}} {
		if side.commit == nil {
			continue
		}
		status, err := status(ctx, conn, pg.XID(side.commit.XID))
		if err != nil {
			return nil, err
		}
		checks = append(checks, proof.Transaction(*side.commit, side.in, status))
	}
	return checks, nil
}

// status asks the copy what became of a transaction. One that the copy has never
// heard of has not happened there, which is as far from committed as can be.
func status(ctx context.Context, conn *pgx.Conn, xid pg.XID) (string, error) {
	var next string
	const newest = `select pg_catalog.pg_snapshot_xmax(pg_catalog.pg_current_snapshot())::pg_catalog.text`
	if err := conn.QueryRow(ctx, newest).Scan(&next); err != nil {
		return "", err
	}
	var xmax uint64
	if _, err := fmt.Sscan(next, &xmax); err != nil {
		return "", err
	}
	if !xid.Precedes(pg.XID(xmax)) {
		return proof.StatusAborted, nil
	}
	full := xid.Near(pg.FullXID(xmax))
	var s *string
	if err := conn.QueryRow(ctx, `select pg_catalog.pg_xact_status($1::pg_catalog.text::pg_catalog.xid8)`,
		fmt.Sprint(uint64(full))).Scan(&s); err != nil {
		return "", err
	}
	if s == nil {
		return proof.StatusUnknown, nil
	}
	return *s, nil
}

// mostFaults is how many damaged pages a proof names; all are counted.
const mostFaults = 20

// pages reads every page of every relation file in the copy's data directory.
func (p *Prover) pages(ctx context.Context, k catalog.Copy, report task.Report) proof.PageCounts {
	at, err := p.Host.As(k.OSUser)
	if err != nil {
		return proof.PageCounts{Unreadable: err.Error()}
	}
	tree, err := at.Tree(k.Directory)
	if err != nil {
		return proof.PageCounts{Unreadable: err.Error()}
	}
	defer func() { _ = tree.Close() }()
	n := proof.PageCounts{Checksums: p.checksums(tree)}
	buf := make([]byte, 64*pg.BlockSize)
	err = copies.Walk(tree, func(name, rel string) error {
		f, ok := pg.ParseRelationFile(rel)
		if !ok {
			return nil
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		n.Files++
		report.Progress(n.Pages, 0, task.Pages, "reading the pages of "+rel)
		return p.file(tree, name, rel, f, buf, &n)
	})
	if err != nil {
		n.Unreadable = err.Error()
	}
	return n
}

// checksums tells whether the copy's pages have checksums. They may have been switched since.
func (p *Prover) checksums(tree *host.Tree) bool {
	control, err := copies.Control(tree)
	if err != nil {
		return p.Cluster.DataChecksums
	}
	return control.DataChecksums
}

func (p *Prover) file(tree *host.Tree, name, rel string, f pg.RelationFile, buf []byte, n *proof.PageCounts) error {
	file, err := tree.Open(name)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	for block := f.FirstBlock(); ; {
		got, err := io.ReadFull(file, buf)
		for at := 0; at+pg.BlockSize <= got; at, block = at+pg.BlockSize, block+1 {
			n.Pages++
			fault := pg.CheckPage(buf[at:at+pg.BlockSize], block, n.Checksums)
			if fault == "" || p.wholeNow(file, f, block, n.Checksums) {
				continue
			}
			n.FaultCount++
			if len(n.Faults) < mostFaults {
				n.Faults = append(n.Faults, fmt.Sprintf("%s, block %d: %s", rel, block, fault))
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// wholeNow reads a page once more: the copy's server may have been writing it.
func (p *Prover) wholeNow(file io.ReaderAt, f pg.RelationFile, block uint32, checksums bool) bool {
	const tries, pause = 3, 20 * time.Millisecond
	page := make([]byte, pg.BlockSize)
	for range tries {
		<-time.After(pause)
		if _, err := file.ReadAt(page, int64(block-f.FirstBlock())*pg.BlockSize); err != nil {
			return false
		}
		if pg.CheckPage(page, block, checksums) == "" {
			return true
		}
	}
	return false
}
