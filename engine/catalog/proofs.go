package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"velvetrewind/core/problem"
	"velvetrewind/core/trail"
)

// Proof is the verdict on a copy.
type Proof struct {
	ID         string           `db:"id"`
	CopyID     string           `db:"copy_id"`
	ClusterID  string           `db:"cluster_id"`
	BackupID   string           `db:"backup_id"`
	Moment     string           `db:"moment"`
	Plan       *json.RawMessage `db:"plan"` // plan.Restore of the copy; nil of proofs made by an earlier version
	Verdict    string           `db:"verdict"`
	Checks     json.RawMessage  `db:"checks"` // []proof.Check
	StartedAt  time.Time        `db:"started_at"`
	FinishedAt time.Time        `db:"finished_at"`
	TaskID     string           `db:"task_id"`
	Moves      int              `db:"moves"` // how often the copy had been moved
	AskedBy    string           `db:"asked_by"`
	ReportHash string           `db:"report_hash"` // SHA-256 of the report, in hex
}

// AddProof records a proof, and the hash of its report in the trail.
func (c *Catalog) AddProof(ctx context.Context, p Proof) error {
	var plan any
	if p.Plan != nil {
		plan = string(*p.Plan)
	}
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	_, err = tx.ExecContext(ctx, `insert into velvet.proofs
		(id, copy_id, cluster_id, backup_id, moment, plan, verdict, checks, started_at, finished_at, task_id, moves, asked_by, report_hash)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`,
		p.ID, p.CopyID, p.ClusterID, p.BackupID, p.Moment, plan, p.Verdict, string(p.Checks), p.StartedAt, p.FinishedAt, p.TaskID, p.Moves,
		p.AskedBy, p.ReportHash)
	if err != nil {
		return err
	}
	outcome := p.Verdict
	if p.ReportHash != "" {
		outcome += "; SHA-256 of its report: " + p.ReportHash
	}
	err = addToTrail(ctx, tx, trail.Entry{Who: TheService, Did: "verdict", Cluster: p.ClusterID,
		Subject: "proof " + p.ID + ", about " + p.CopyID, Outcome: outcome})
	if err != nil {
		return err
	}
	return tx.Commit()
}

// Proofs lists at most so many proofs, newest first, of one cluster or one copy.
func (c *Catalog) Proofs(ctx context.Context, clusterOrCopy string, most int) ([]Proof, error) {
	var list []Proof
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.proofs where cluster_id = $1 or copy_id = $1
		order by finished_at desc limit $2`, clusterOrCopy, most)
}

// Proof finds a proof by its id, or the newest one of a copy by the copy's id or name.
func (c *Catalog) Proof(ctx context.Context, id string) (Proof, error) {
	var p Proof
	return p, c.get(ctx, &p, `select * from velvet.proofs where id = $1 or copy_id = $1
		or copy_id = (select id from velvet.copies where name = $1 and state <> '`+CopyDiscarded+`') order by finished_at desc limit 1`,
		`select id from velvet.proofs union select copy_id from velvet.proofs`, id, "proof", "Prove a copy with: velvet prove run COPY")
}

// CopiesOfTask lists the copies that a task made for itself and that still exist.
func (c *Catalog) CopiesOfTask(ctx context.Context, task string) ([]Copy, error) {
	var list []Copy
	return list, c.db.SelectContext(ctx, &list, `select * from velvet.copies where task_id = $1 and beside <> '' and state <> $2`, task,
		CopyDiscarded)
}

// OwnCheck is one version of a check of the DBA's own.
type OwnCheck struct {
	ClusterID string       `db:"cluster_id"`
	Name      string       `db:"name"`
	Version   int          `db:"version"`
	SQL       string       `db:"sql"`
	Database  string       `db:"database"`
	Role      string       `db:"role"`    // that it is run as
	Expects   string       `db:"expects"` // as core/proof.Expectation writes it
	Seconds   int          `db:"seconds"` // that it may take
	AddedAt   time.Time    `db:"added_at"`
	AddedBy   string       `db:"added_by"`
	RemovedAt sql.NullTime `db:"removed_at"`
}

// OwnChecks lists the newest versions of a cluster's checks that were not removed, by name; or, of the check that is named, every
// version, the newest first.
func (c *Catalog) OwnChecks(ctx context.Context, cluster, name string) ([]OwnCheck, error) {
	var list []OwnCheck
	if name != "" {
		return list, c.db.SelectContext(ctx, &list, `select * from velvet.own_checks where cluster_id = $1 and name = $2
			order by version desc`, cluster, name)
	}
	return list, c.db.SelectContext(ctx, &list, `select * from (select distinct on (name) * from velvet.own_checks where cluster_id = $1
		order by name, version desc) k where removed_at is null`, cluster)
}

// SetOwnCheck adds the next version of a check, and returns its number. The same again is no new version.
func (c *Catalog) SetOwnCheck(ctx context.Context, k OwnCheck) (version int, err error) {
	tx, err := c.db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer func() { _ = tx.Rollback() }()
	last, err := newestOwnCheck(ctx, tx, k.ClusterID, k.Name)
	if err != nil {
		return 0, err
	}
	if last.Version > 0 && !last.RemovedAt.Valid && last.SQL == k.SQL && last.Database == k.Database && last.Role == k.Role &&
		last.Expects == k.Expects && last.Seconds == k.Seconds {
		return last.Version, nil
	}
	_, err = tx.ExecContext(ctx, `insert into velvet.own_checks (cluster_id, name, version, sql, database, role, expects, seconds, added_by)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, k.ClusterID, k.Name, last.Version+1, k.SQL, k.Database, k.Role, k.Expects, k.Seconds,
		k.AddedBy)
	if err != nil {
		return 0, err
	}
	return last.Version + 1, tx.Commit()
}

// newestOwnCheck is the newest version of a check, of which the cluster's others wait; its Version is 0 if there is none.
func newestOwnCheck(ctx context.Context, tx *sqlx.Tx, cluster, name string) (k OwnCheck, err error) {
	if _, err := tx.ExecContext(ctx, `select from velvet.clusters where id = $1 for update`, cluster); err != nil {
		return k, err
	}
	var list []OwnCheck
	err = tx.SelectContext(ctx, &list, `select * from velvet.own_checks where cluster_id = $1 and name = $2 order by version desc limit 1`,
		cluster, name)
	if err == nil && len(list) > 0 {
		k = list[0]
	}
	return k, err
}

// RemoveOwnCheck has a check be made no more. Its versions are kept, for the proofs in which they were used.
func (c *Catalog) RemoveOwnCheck(ctx context.Context, cluster, name string) error {
	found, err := c.changed(ctx, `update velvet.own_checks k set removed_at = now() where cluster_id = $1 and name = $2
		and removed_at is null and version = (select max(version) from velvet.own_checks where cluster_id = $1 and name = $2)`, cluster,
		name)
	if err == nil && !found {
		err = problem.New(problem.NotFound, "List them with: velvet prove checks list CLUSTER", "nothing was removed",
			"there is no check named %q", name)
	}
	return err
}

// UnderWay tells whether a task of a kind about a subject has not ended.
func (c *Catalog) UnderWay(ctx context.Context, kind, subject string) (under bool, err error) {
	err = c.db.GetContext(ctx, &under, `select exists (select from velvet.tasks where kind = $1 and subject = $2 and finished_at is null)`,
		kind, subject)
	return under, err
}
