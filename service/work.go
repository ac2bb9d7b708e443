package service

import (
	"context"
	"encoding/json"

	"time"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/engine/access"
	"velvetrewind/engine/audit"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/prove"
	"velvetrewind/engine/rebuild"
	"velvetrewind/engine/task"
)

// The arguments of tasks, as they are kept in the catalogue.
type (
	backupArgs struct {
		Fast bool `json:"fast"`
	}
	copyArgs struct {
		Plan plan.Restore `json:"plan"`
	}
	auditArgs struct {
		Full bool `json:"full"`
	}
	noArgs struct{}
)

// kinds lists what tasks can do. A task's subject is the id of the backup or copy it is about.
func (s *Service) kinds() map[string]kind {
	return map[string]kind{
		taskBackup:  {s.takeBackup, s.undoBackup},
		taskCopy:    {s.makeCopy, s.undoCopy},
		taskOpen:    {s.openCopy, s.leaveAsIs},
		taskDiscard: {s.discardCopy, s.undoCopy},
		taskProve:   {s.proveCopy, s.leaveAsIs},
		taskDrop:    {s.dropBackup, s.undoDrop},
		taskAudit:   {s.auditStore, s.leaveAsIs},
		taskRebuild: {s.rebuildCatalogue, s.undoRebuild},
	}
}

func (s *Service) access(k catalog.Cluster) (access.Access, error) {
	password, err := s.key.Open(k.PasswordSealed, passwordPurpose(k.ID))
	return access.Access{ConnString: k.ConnString, Password: password}, err
}

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
	taker := &backup.Taker{Cluster: k, Access: a, Catalog: s.catalog, Store: s.store, Codec: s.codec, Spool: s.cfg.spool()}
	b, err := taker.Take(ctx, backup.Options{ID: t.Subject, TaskID: t.ID, Fast: args.Fast}, report)
	if err != nil {
		return nil, err
	}
	report.Log("backup %s is complete", b.ID)
	s.events.publish(eventCluster, k.ID)
	return map[string]any{"backup": b.ID, "files": b.Files, "bytesRead": b.BytesRead, "bytesStored": b.BytesStored, "pageFaults": b.PageFaults}, nil
}

func (s *Service) undoBackup(ctx context.Context, t catalog.Task) (bool, error) {
	return backup.Undo(ctx, s.store, s.catalog, t.ClusterID.String, t.Subject, t.ID)
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
	if err := s.keeper.Make(ctx, cluster, k, args.Plan, report); err != nil {
		return nil, err
	}
	return map[string]any{"copy": k.ID, "port": k.Port}, nil
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
	if err := backup.Remove(ctx, s.store, t.ClusterID.String, t.Subject); err != nil {
		return nil, err
	}
	report.Log("the content of base %s was removed from the store; WAL and other base backups are untouched", t.Subject)
	s.events.publish(eventCluster, t.ClusterID.String)
	return nil, nil
}

// undoDrop goes on where the removal stopped: there is no way back from it.
func (s *Service) undoDrop(ctx context.Context, t catalog.Task) (bool, error) {
	return true, backup.Remove(ctx, s.store, t.ClusterID.String, t.Subject)
}

func (s *Service) auditStore(ctx context.Context, t catalog.Task, report task.Report) (any, error) {
	var args auditArgs
	if err := json.Unmarshal(t.Arguments, &args); err != nil {
		return nil, err
	}
	return (&audit.Auditor{Catalog: s.catalog, Store: s.store, Spool: s.cfg.spool(), Full: args.Full}).Run(ctx, report)
}

func (s *Service) rebuildCatalogue(ctx context.Context, _ catalog.Task, report task.Report) (any, error) {
	r, err := (&rebuild.Rebuilder{Catalog: s.catalog, Store: s.store, Codec: s.codec}).Run(ctx, report)
	s.captures.Look()
	s.events.publish(eventCluster, "")
	return r, err
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
		Checks: encoded, StartedAt: started, FinishedAt: time.Now(), TaskID: t.ID,
	}
	if err := s.catalog.AddProof(ctx, p); err != nil {
		return nil, err
	}
	report.Log("verdict: %s", verdict)
	s.events.publish(eventCopy, k.ID)
	return map[string]any{"proof": p.ID, "verdict": verdict}, nil
}
