package shapes

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/core/proof/report"
	"velvetrewind/engine/catalog"
)

// Records of the catalogue become what the API shows.

// LagBytes is how much WAL the server has written and capture has not made safe yet, in bytes.
func LagBytes(c catalog.Capture) int64 {
	if c.ServerLSN <= c.FlushedLSN {
		return 0
	}
	return int64(c.ServerLSN - c.FlushedLSN)
}

// Capture shows how capture stands.
func Capture(c catalog.Capture) api.Capture {
	v := api.Capture{
		State: c.State, Wanted: c.Wanted, Problem: c.Problem, Timeline: uint32(c.Timeline),
		Flushed: c.FlushedLSN, Stored: c.StoredLSN, Server: c.ServerLSN, LagBytes: LagBytes(c), Since: c.Since.UTC(),
		Spooled: c.Spooled, Retained: c.Retained, Room: c.Room, ClockAhead: c.ServerAhead().Seconds(), ReadableTo: c.ReadableTo,
		AuthorsProblem: c.AuthorsProblem, AuthorsLook: float64(c.AuthorsLook) / 1e6,
	}
	if c.CompleteTo.Valid {
		t := c.CompleteTo.Time.UTC()
		v.CompleteTo = &t
	}
	return v
}

// Backup shows a base backup of a cluster that is named.
func Backup(b catalog.Backup, cluster string, lost catalog.Losses) (api.Backup, error) {
	v := api.Backup{
		ID: b.ID, Cluster: cluster, Kind: b.Kind, Timeline: uint32(b.Timeline), Start: b.Start, Stop: b.Stop,
		StartedAt: b.StartedAt.UTC(), StoppedAt: b.StoppedAt.UTC(), Files: b.Files, BytesRead: b.BytesRead, BytesStored: b.BytesStored,
		Pages: b.Pages, PageFaults: b.PageFaults, Task: b.TaskID, Beside: b.Beside, BytesHeld: b.BytesHeld, BytesShared: b.BytesShared,
		Extents: b.Extents, NewExtents: b.NewExtents, ZeroExtents: b.ZeroExtents,
		Lost: slices.Contains(lost.Backups, b.ID),
	}
	var damaged []layout.DamagedPage
	var spaces []layout.TablespaceEntry
	err := errors.Join(json.Unmarshal(b.Damaged, &damaged), json.Unmarshal(b.Tablespaces, &spaces))
	v.Damaged, v.Tablespaces = Each(damaged, damagedPage), Each(spaces, tablespace)
	return v, err
}

// Copy shows a copy, whose server runs as osUser unless it says otherwise.
func Copy(k catalog.Copy, cluster catalog.Cluster, osUser string) (api.Copy, error) {
	v := api.Copy{
		ID: k.ID, Name: k.Name, Cluster: cluster.Name, Moment: k.Moment,
		State: k.State, Problem: k.Problem, Port: k.Port, Directory: k.Directory,
		Replayed: k.ReplayedLSN, CreatedAt: k.CreatedAt.UTC(), Task: k.TaskID,
	}
	if k.ReplayedTo.Valid {
		t := k.ReplayedTo.Time.UTC()
		v.ReplayedTo = &t
	}
	spec, err := k.Part()
	if err != nil {
		return v, err
	}
	database := "postgres"
	if spec != nil {
		database = spec.Database
		v.Partial = &api.Partial{Database: spec.Database, Tables: spec.Tables, Rescue: spec.Rescue}
	}
	v.WaysIn = waysIn(k, cluster, cmp.Or(k.OSUser, osUser), database)
	var p plan.Restore
	err = json.Unmarshal(k.Plan, &p)
	v.Plan = Restore(p)
	return v, err
}

// waysIn lists how a copy can be looked at. One that is not running has none.
func waysIn(k catalog.Copy, cluster catalog.Cluster, osUser, database string) []api.WayIn {
	ways := []api.WayIn{}
	if k.State != catalog.CopyPaused && k.State != catalog.CopyOpen {
		return ways
	}
	quote := func(s string) string {
		if strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./") == "" {
			return s
		}
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	return append(ways,
		api.WayIn{Who: "any role of the original, with its password", Command: fmt.Sprintf("psql -h 127.0.0.1 -p %d -U %s %s", k.Port,
			quote(cluster.Superuser), quote(database))},
		api.WayIn{Who: "the OS user " + osUser + ", as any role, without a password",
			Command: fmt.Sprintf("psql -h %s -p %d -U %s %s", quote(k.Socket), k.Port, quote(cluster.Superuser), quote(database))})
}

// Proof shows a proof.
func Proof(p catalog.Proof) (api.Proof, error) {
	v := api.Proof{ID: p.ID, Copy: p.CopyID, Backup: p.BackupID, Moment: p.Moment, Verdict: p.Verdict, StartedAt: p.StartedAt.UTC(),
		FinishedAt: p.FinishedAt.UTC(), Task: p.TaskID, ReportHash: p.ReportHash}
	var checks []proof.Check
	err := json.Unmarshal(p.Checks, &checks)
	v.Checks = Each(checks, check)
	return v, err
}

// Report gathers what there is to tell of a proof.
func Report(ctx context.Context, c *catalog.Catalog, p catalog.Proof, cluster catalog.Cluster,
	version string) (r report.Report, err error) {
	r = report.Report{Proof: p.ID, Copy: p.CopyID, Task: p.TaskID, Cluster: cluster.Name, SystemID: cluster.SystemID,
		Server: fmt.Sprintf("%d.%d", cluster.ServerVersion/10000,
			cluster.ServerVersion%10000), AskedBy: p.AskedBy, Started: p.StartedAt, Finished: p.FinishedAt,
		Verdict: proof.Verdict(p.Verdict), Program: version}
	if r.AskedBy == "" {
		r.AskedBy = "by hand"
	}
	var restore plan.Restore
	if p.Plan != nil {
		err = json.Unmarshal(*p.Plan, &restore)
	}
	r.Boundary, r.From, r.Segments, r.Replayed = restore.Boundary, restore.Start, restore.Count, restore.Replay
	if err = errors.Join(err, json.Unmarshal(p.Checks, &r.Checks)); err != nil {
		return r, err
	}
	if b, err := c.Backup(ctx, p.BackupID); err == nil {
		r.Base = report.Base{ID: b.ID, Kind: b.Kind, Taken: b.StoppedAt, Bytes: b.BytesHeld}
	}
	if k, err := c.Copy(ctx, p.CopyID); err == nil && k.Moves == p.Moves {
		phase := func(name string, from, to sql.NullTime) {
			if from.Valid && to.Valid {
				r.Phases = append(r.Phases, report.Phase{Name: name, Took: to.Time.Sub(from.Time)})
			}
		}
		phase("laying out", k.BegunAt, k.LaidOutAt)
		phase("replay", k.LaidOutAt, k.ArrivedAt)
	}
	r.Phases = append(r.Phases, report.Phase{Name: "proof", Took: p.FinishedAt.Sub(p.StartedAt)})
	return r, nil
}

// Task shows a task; names has those of clusters by their ids.
func Task(t catalog.Task, names map[string]string) (api.Task, error) {
	v := api.Task{
		ID: t.ID, Kind: t.Kind, Cluster: names[t.ClusterID.String], Subject: t.Subject, State: t.State,
		Done: t.Done, Total: t.Total, Unit: t.Unit, Note: t.Note, CreatedAt: t.CreatedAt.UTC(),
	}
	if t.StartedAt.Valid {
		at := t.StartedAt.Time.UTC()
		v.StartedAt = &at
	}
	if t.FinishedAt.Valid {
		at := t.FinishedAt.Time.UTC()
		v.FinishedAt = &at
	}
	addPace(&v, t, time.Now())
	if t.Outcome != nil {
		if err := json.Unmarshal(*t.Outcome, &v.Outcome); err != nil {
			return v, err
		}
	}
	if t.Problem != nil {
		return v, json.Unmarshal(*t.Problem, &v.Problem)
	}
	return v, nil
}

// addPace works out how fast a running task has been and how long it may still take.
func addPace(v *api.Task, t catalog.Task, now time.Time) {
	if !t.StartedAt.Valid {
		return
	}
	end := now
	if t.FinishedAt.Valid {
		end = t.FinishedAt.Time
	}
	v.Seconds = end.Sub(t.StartedAt.Time).Seconds()
	if t.State != catalog.TaskRunning || t.Done <= 0 || v.Seconds < 1 {
		return
	}
	v.Rate = float64(t.Done) / v.Seconds
	if t.Total > t.Done {
		left := float64(t.Total-t.Done) / v.Rate
		v.Left = &left
	}
}
