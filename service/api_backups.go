package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/engine/catalog"
	"velvetrewind/service/wire"
)

func (s *Service) backupAPI(api huma.API) {
	op(s, api, http.MethodGet, "/clusters/{cluster}/backups", "list-backups", "List a cluster's base backups, newest first", 0, s.listBackups)
	op(s, api, http.MethodPost, "/clusters/{cluster}/backups", "take-backup", "Take a base backup", http.StatusAccepted, s.submitBackup)
	op(s, api, http.MethodGet, "/backups/{backup}", "show-backup", "Show a base backup", 0, s.showBackup)
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
