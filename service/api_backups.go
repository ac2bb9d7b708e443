package service

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/core/audit"
	"velvetrewind/core/reach"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/wire"
)

func (s *Service) backupAPI(api huma.API) {
	op(s, api, http.MethodGet, "/clusters/{cluster}/backups", "list-backups", "List a cluster's base backups, newest first", 0, s.listBackups)
	op(s, api, http.MethodPost, "/clusters/{cluster}/backups", "take-backup", "Take a base backup", http.StatusAccepted, s.submitBackup)
	op(s, api, http.MethodGet, "/backups/{backup}", "show-backup", "Show a base backup", 0, s.showBackup)
	op(s, api, http.MethodDelete, "/backups/{backup}", "drop-backup", "Let a base backup go", http.StatusAccepted, s.submitDrop)
}

func (s *Service) listBackups(ctx context.Context, in *ClusterPath) (*body[[]wire.Backup], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := s.catalog.Backups(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	views := make([]wire.Backup, len(list))
	for i, b := range list {
		if views[i], err = backupView(b, k.Name); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

// BackupPath names a backup in a path.
type BackupPath struct {
	Backup string `path:"backup" doc:"id of the backup"`
}

func (s *Service) showBackup(ctx context.Context, in *BackupPath) (*body[wire.Backup], error) {
	b, err := s.catalog.Backup(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	k, err := s.catalog.Cluster(ctx, b.ClusterID)
	if err != nil {
		return nil, err
	}
	return answer(backupView(b, k.Name))
}

type takeBackup struct {
	ClusterPath
	Body struct {
		Fast bool `json:"fast,omitempty" doc:"have the server make its checkpoint at once instead of spreading it out"`
	}
}

func (s *Service) submitBackup(ctx context.Context, in *takeBackup) (*body[wire.Task], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	t, err := s.tasks.submit(ctx, taskBackup, k.ID, catalog.NewID(), backupArgs{Fast: in.Body.Fast})
	if err != nil {
		return nil, err
	}
	return answer(taskView(t, map[string]string{k.ID: k.Name}))
}

type dropBackup struct {
	BackupPath
	Confirm string `query:"confirm" doc:"name of the cluster that it is a backup of"`
}

func (s *Service) submitDrop(ctx context.Context, in *dropBackup) (*body[wire.Task], error) {
	b, err := s.catalog.Backup(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	k, err := s.catalog.Cluster(ctx, b.ClusterID)
	if err != nil {
		return nil, err
	}
	loss, err := s.dropLoss(ctx, k, b)
	if err != nil {
		return nil, err
	}
	if err := confirmed(in.Confirm, k.Name, "the base backup was not dropped", loss); err != nil {
		return nil, err
	}
	if err := s.catalog.DropBackup(ctx, b.ID); err != nil {
		return nil, err
	}
	t, err := s.tasks.submit(ctx, taskDrop, k.ID, b.ID, noArgs{})
	if err != nil {
		return nil, err
	}
	s.events.publish(eventCluster, k.ID)
	return answer(taskView(t, map[string]string{k.ID: k.Name}))
}

// dropLoss says which moments can no longer be reached without a base backup.
func (s *Service) dropLoss(ctx context.Context, k catalog.Cluster, b catalog.Backup) (string, error) {
	a, err := archive.Open(ctx, s.catalog, s.store, s.cfg.spool(), k)
	if err != nil {
		return "", err
	}
	before, _ := a.Reach()
	bases, wal, forks := a.Known()
	bases, wal = audit.Losses{Backups: []string{b.ID}}.Without(bases, wal, k.SegmentSize)
	after, _ := reach.Compute(bases, wal, forks)
	lost := audit.Difference(before, after)
	text := fmt.Sprintf("dropping removes %s of base %s, taken %s", sizeText(b.BytesStored), b.ID, b.StoppedAt.UTC().Format("2006-01-02 15:04:05 UTC"))
	if len(lost) == 0 {
		return text + "; every moment can still be reached with the others", nil
	}
	for _, l := range lost {
		text += fmt.Sprintf("; %s can no longer be rewound to moments from %s to %s on timeline %d", k.Name, l.From, l.To, l.Timeline)
	}
	return text, nil
}

func sizeText(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) }
