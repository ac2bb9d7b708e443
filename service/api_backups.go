package service

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/inventory"
	"velvetrewind/core/reach"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
)

func (s *Service) backupAPI(api huma.API) {
	op(s, api, http.MethodGet, "/clusters/{cluster}/backups", "list-backups", "List a cluster's base backups, newest first", 0,
		s.listBackups)
	op(s, api, http.MethodPost, "/clusters/{cluster}/backups", "take-backup", "Take a base backup", http.StatusAccepted, s.submitBackup)
	op(s, api, http.MethodGet, "/backups/{backup}", "show-backup", "Show a base backup", 0, s.showBackup)
	op(s, api, http.MethodGet, "/backups/{backup}/content", "show-backup-content", "Show what a base backup holds", 0, s.showContent)
	op(s, api, http.MethodDelete, "/backups/{backup}", "drop-backup", "Delete a base backup", http.StatusAccepted, s.submitDrop)
}

func (s *Service) listBackups(ctx context.Context, in *ClusterPath) (*body[[]api.Backup], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := s.catalog.Backups(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	lost, err := s.catalog.Losses(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	views := make([]api.Backup, len(list))
	for i, b := range list {
		if views[i], err = backupView(b, k.Name, lost); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

// BackupPath names a backup in a path.
type BackupPath struct {
	Backup string `path:"backup" doc:"id of the backup"`
}

// backupAndCluster reads a backup and the cluster that it is of.
func (s *Service) backupAndCluster(ctx context.Context, id string) (b catalog.Backup, k catalog.Cluster, err error) {
	if b, err = s.catalog.Backup(ctx, id); err != nil {
		return b, k, err
	}
	k, err = s.catalog.Cluster(ctx, b.ClusterID)
	return b, k, err
}

func (s *Service) showBackup(ctx context.Context, in *BackupPath) (*body[api.Backup], error) {
	b, k, err := s.backupAndCluster(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	lost, err := s.catalog.Losses(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	return answer(backupView(b, k.Name, lost))
}

func (s *Service) showContent(ctx context.Context, in *BackupPath) (*body[api.Content], error) {
	b, err := s.catalog.Backup(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	book, err := s.books.Of(ctx, b.ClusterID)
	if err != nil {
		return nil, err
	}
	c, err := backup.Describe(ctx, s.store, s.catalog, b, book.At(b.StoppedAt))
	return answer(asContent(c), err)
}

type takeBackup struct {
	ClusterPath
	Body api.TakeBackupRequest
}

func (s *Service) submitBackup(ctx context.Context, in *takeBackup) (*body[api.Task], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	t, err := s.tasks.submit(ctx, taskBackup, k.ID, catalog.NewID(), backupArgs{Checkpoint: in.Body.Checkpoint, Kind: in.Body.Kind})
	if err != nil {
		return nil, err
	}
	return answer(taskView(t, map[string]string{k.ID: k.Name}))
}

type dropBackup struct {
	BackupPath
	Confirm string `query:"confirm" doc:"name of the cluster that it is a backup of"`
}

func (s *Service) submitDrop(ctx context.Context, in *dropBackup) (*body[api.Task], error) {
	b, k, err := s.backupAndCluster(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	loss, err := s.dropLoss(ctx, k, b)
	if err != nil {
		return nil, err
	}
	if err := confirmed(in.Confirm, k.Name, "the base backup was not dropped", loss+s.takenBack("velvet keep undo "+k.Name)); err != nil {
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
	bases, wal = inventory.Losses{Backups: []string{b.ID}}.Without(bases, wal, k.SegmentSize)
	after, _ := reach.Compute(bases, wal, forks)
	lost := inventory.Difference(before, after)
	alone, err := backup.Alone(ctx, s.store, s.catalog, k.ID, b.ID)
	text := fmt.Sprintf("dropping base %s, taken %s, frees ", b.ID, b.StoppedAt.UTC().Format("2006-01-02 15:04:05 UTC"))
	switch {
	case backup.Unreadable(err):
		text += "nothing yet: what another base backup needs cannot be read"
	case err != nil:
		return "", err
	case alone == 0:
		text += "little: other backups share its packs"
	default:
		text += figures.Size(alone) + " that no other backup needs"
	}
	why, err := s.neededFor(ctx, k, b.ID)
	if err != nil {
		return "", err
	}
	text += why
	if len(lost) == 0 {
		return text + "; every moment can still be reached with the others", nil
	}
	for _, l := range lost {
		text += fmt.Sprintf("; %s can no longer be rewound to moments from %s to %s on timeline %d", k.Name, l.From, l.To, l.Timeline)
	}
	return text, nil
}

// neededFor says what the keep rule, a pin or a copy needs a backup for.
func (s *Service) neededFor(ctx context.Context, k catalog.Cluster, id string) (string, error) {
	rule, _, err := s.effectiveRule(ctx, k)
	if err != nil {
		return "", err
	}
	p, err := s.keepEngine().Preview(ctx, k, rule, s.cfg.Now().UTC(), false)
	if err != nil {
		return "", err
	}
	text := ""
	for _, v := range p.Bases {
		for _, r := range v.Reasons {
			if v.ID == id && v.Needed {
				text += "; it is needed: " + r.Text
			}
		}
	}
	return text, nil
}
