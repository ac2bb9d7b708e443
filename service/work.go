package service

import (
	"context"
	"encoding/json"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/prove"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/upkeep/audit"
	"velvetrewind/engine/upkeep/rebuild"
)

// The arguments of tasks, as they are kept in the catalogue.
type (
	backupArgs struct {
		Checkpoint string `json:"checkpoint"`
		Kind       string `json:"kind"`
	}
	copyArgs struct {
		Plan    plan.Restore      `json:"plan"`
		Replays []catalog.Stretch `json:"replays,omitempty"` // the WAL that a step needs
	}
	auditArgs struct {
		Full bool `json:"full"`
		Fix  bool `json:"fix"`
	}
	keepArgs struct {
		Token string `json:"token,omitempty"` // of the preview that was confirmed; "" for the calendar's
	}
	noArgs struct{}
)

// kinds lists what tasks can do. A task's subject is the id of the backup or copy it is about.
func (s *Service) kinds() map[string]kind {
	return map[string]kind{
		taskBackup:  {work: s.takeBackup, undo: s.undoBackup},
		taskCopy:    {work: s.makeCopy, undo: s.undoCopy, forget: s.undoCopy},
		taskStep:    {work: s.stepCopy, undo: s.undoStep},
		taskOpen:    {work: s.openCopy, undo: s.leaveAsIs},
		taskDiscard: {work: s.discardCopy, undo: s.undoCopy},
		taskProve:   {work: s.proveCopy, undo: s.leaveAsIs},
		taskDrop:    {work: s.dropBackup, undo: s.undoDrop},
		taskAudit:   {work: s.auditStore, undo: s.leaveAsIs},
		taskRebuild: {work: s.rebuildCatalogue, undo: s.undoRebuild},
		taskMirror:  {work: s.copyToSecond, undo: s.sweepSecond},
		taskKeep:    {work: s.applyRule, undo: s.undoApply},
	}
}

func (s *Service) access(k catalog.Cluster) (access.Access, error) {
	a := access.Access{ConnString: k.ConnString, ReplicationUser: k.ReplicationUser}
	var err error
	if a.Password, err = s.key.Open(k.PasswordSealed, passwordPurpose(k.ID)); err != nil {
		return a, err
	}
	a.ReplicationPassword, err = s.key.Open(k.ReplicationSealed, replicationPurpose(k.ID))
	return a, err
}

func replicationPurpose(cluster string) string { return "replication password of cluster " + cluster }

func passwordPurpose(cluster string) string { return "password of cluster " + cluster }

func (s *Service) takeBackup(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	var args backupArgs
	if err := json.Unmarshal(t.Arguments, &args); err != nil {
		return nil, err
	}
	k, err := s.catalog.Cluster(ctx, t.ClusterID.String)
	if err != nil {
		return nil, err
	}
	a, err := s.access(k)
	if err != nil {
		return nil, err
	}
	taker := &backup.Taker{Cluster: k, Access: a, Catalog: s.catalog, Store: s.store, Notices: s.notices(), Books: s.books, Codec: s.codec,
		Spool: s.cfg.spool(), ThroughSQL: s.cfg.ReadData == "sql", Now: s.cfg.Now}
	b, err := taker.Take(ctx, backup.Options{ID: t.Subject, TaskID: t.ID, Checkpoint: args.Checkpoint, Kind: args.Kind}, report)
	if err != nil {
		return nil, err
	}
	report.Log("%s backup %s is complete", b.Kind, b.ID)
	s.events.publish(eventCluster, k.ID)
	return map[string]any{"backup": b.ID, "files": b.Files, "kind": b.Kind, "bytesRead": b.BytesRead, "bytesStored": b.BytesStored,
		"pageFaults": b.PageFaults}, nil
}

func (s *Service) undoBackup(ctx context.Context, t catalog.Task) (bool, error) {
	return backup.Undo(ctx, s.notices(), s.catalog, t.ClusterID.String, t.Subject, t.ID)
}

// applyRule deletes what a cluster's keep rule does not need.
func (s *Service) applyRule(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	var args keepArgs
	if err := json.Unmarshal(t.Arguments, &args); err != nil {
		return nil, err
	}
	k, err := s.catalog.Cluster(ctx, t.ClusterID.String)
	if err != nil {
		return nil, err
	}
	rule, _, err := s.effectiveRule(ctx, k)
	if err != nil {
		return nil, err
	}
	done, err := s.keepEngine().Apply(ctx, k, rule, s.cfg.Now().UTC(), args.Token, report)
	s.events.publish(eventCluster, k.ID)
	return api.KeepApplied(done), err
}

// undoApply tells whether anything had been deleted: then that is finished when the store
// is next looked after.
func (s *Service) undoApply(ctx context.Context, t catalog.Task) (bool, error) {
	return s.catalog.ReleasedSince(ctx, t.ClusterID.String, t.StartedAt.Time)
}

// copyAndCluster reads the copy that a task is about, and its cluster.
func (s *Service) copyAndCluster(ctx context.Context, id string) (catalog.Copy, catalog.Cluster, error) {
	k, err := s.catalog.Copy(ctx, id)
	if err != nil {
		return k, catalog.Cluster{}, err
	}
	cluster, err := s.catalog.Cluster(ctx, k.ClusterID)
	return k, cluster, err
}

func (s *Service) makeCopy(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	k, cluster, err := s.copyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	var args copyArgs
	if err := json.Unmarshal(t.Arguments, &args); err != nil {
		return nil, err
	}
	if err := s.haveStored(ctx, cluster); err != nil {
		return nil, err
	}
	if err := s.keeper.Make(ctx, cluster, k, args.Plan, report); err != nil {
		return nil, err
	}
	return map[string]any{"copy": k.ID, "port": k.Port}, nil
}

func (s *Service) stepCopy(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	k, cluster, err := s.copyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	var args copyArgs
	if err := json.Unmarshal(t.Arguments, &args); err != nil {
		return nil, err
	}
	k.TaskID = t.ID
	if err := s.haveStored(ctx, cluster); err != nil {
		return nil, err
	}
	return nil, s.keeper.Step(ctx, cluster, k, args.Plan, args.Replays, report)
}

// undoStep removes a copy on its way to another moment; one that had not left is as it was.
func (s *Service) undoStep(ctx context.Context, t catalog.Task) (bool, error) {
	k, err := s.catalog.Copy(ctx, t.Subject)
	if err != nil || k.State != catalog.CopyLayingOut && k.State != catalog.CopyReplaying {
		return false, err
	}
	return s.undoCopy(ctx, t)
}

// undoCopy removes what there is of a copy.
func (s *Service) undoCopy(ctx context.Context, t catalog.Task) (bool, error) {
	k, cluster, err := s.copyAndCluster(ctx, t.Subject)
	if err != nil {
		return false, err
	}
	return t.Kind == taskDiscard, s.keeper.Remove(ctx, cluster, k)
}

// dropBackup removes a backup that nobody begins to use any more.
func (s *Service) dropBackup(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	if err := backup.Remove(ctx, s.notices(), s.catalog, t.ClusterID.String, t.Subject, report); err != nil {
		return nil, err
	}
	s.events.publish(eventCluster, t.ClusterID.String)
	return nil, nil
}

// undoDrop goes on where the removal stopped: there is no way back from it.
func (s *Service) undoDrop(ctx context.Context, t catalog.Task) (bool, error) {
	return true, backup.Remove(ctx, s.notices(), s.catalog, t.ClusterID.String, t.Subject, task.Silent)
}

func (s *Service) auditStore(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	var args auditArgs
	if err := json.Unmarshal(t.Arguments, &args); err != nil {
		return nil, err
	}
	r, err := (&audit.Auditor{Catalog: s.catalog, Store: s.store, Spool: s.cfg.spool(), Full: args.Full, Fix: args.Fix}).Run(ctx, report)
	return asAudit(r), err
}

func (s *Service) rebuildCatalogue(ctx context.Context, _ catalog.Task, report task.Report) (any, error) {
	r, err := (&rebuild.Rebuilder{Catalog: s.catalog, Store: s.store, Codec: s.codec}).Run(ctx, report)
	s.captures.Look()
	s.events.publish(eventCluster, "")
	return api.RebuildResult(r), err
}

func (s *Service) undoRebuild(ctx context.Context, _ catalog.Task) (bool, error) {
	return false, rebuild.Undo(ctx, s.catalog)
}

// leaveAsIs is for tasks that leave nothing behind: the copy's state is looked at afresh anyway.
func (s *Service) leaveAsIs(context.Context, catalog.Task) (bool, error) { return false, nil }

func (s *Service) openCopy(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	k, cluster, err := s.copyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	return nil, s.keeper.Open(ctx, cluster, k, report)
}

func (s *Service) discardCopy(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	k, cluster, err := s.copyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	if err := s.keeper.Remove(ctx, cluster, k); err != nil {
		return nil, err
	}
	report.Log("the copy's server was ended and %s removed; backups and WAL are untouched", k.Directory)
	return nil, nil
}

func (s *Service) proveCopy(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	k, cluster, err := s.copyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	a, err := s.access(cluster)
	if err != nil {
		return nil, err
	}
	started := time.Now()
	checks, err := (&prove.Prover{Cluster: cluster, Access: a, Host: s.host}).Run(ctx, k, report)
	if err != nil {
		return nil, err
	}
	encoded, err := json.Marshal(checks)
	if err != nil {
		return nil, err
	}
	verdict := proof.Overall(checks)
	p := catalog.Proof{
		ID: catalog.NewID(), CopyID: k.ID, ClusterID: cluster.ID, Moment: k.Moment, Verdict: string(verdict),
		Checks: encoded, StartedAt: started, FinishedAt: time.Now(), TaskID: t.ID, Moves: k.Moves,
	}
	if err := s.catalog.AddProof(ctx, p); err != nil {
		return nil, err
	}
	report.Log("verdict: %s", verdict)
	s.events.publish(eventCopy, k.ID)
	return map[string]any{"proof": p.ID, "verdict": verdict}, nil
}
