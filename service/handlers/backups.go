package handlers

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/inventory"
	"velvetrewind/core/reach"
	"velvetrewind/engine/archive"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/server/names"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Backups takes base backups, shows them, and deletes them.
type Backups struct {
	Catalog *catalog.Catalog
	Custody *custody.Custody
	Books   *names.Books
	Tasks   *tasks.Queue
	Events  *events.Hub
	Spool   string // directory
	Now     func() time.Time
}

// Register registers the operations.
func (h *Backups) Register(api *Surface) {
	op(api, http.MethodGet, "/clusters/{cluster}/backups", "list-backups", "List a cluster's base backups, newest first", 0,
		h.listBackups)
	op(api, http.MethodPost, "/clusters/{cluster}/backups", "take-backup", "Take a base backup", http.StatusAccepted, h.submitBackup)
	op(api, http.MethodGet, "/backups/{backup}", "show-backup", "Show a base backup", 0, h.showBackup)
	op(api, http.MethodGet, "/backups/{backup}/content", "show-backup-content", "Show what a base backup holds", 0, h.showContent)
	op(api, http.MethodDelete, "/backups/{backup}", "drop-backup", "Delete a base backup", http.StatusAccepted, h.submitDrop)
}

func (h *Backups) listBackups(ctx context.Context, in *ClusterPath) (*body[[]api.Backup], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	list, err := h.Catalog.Backups(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	lost, err := h.Catalog.Losses(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	views := make([]api.Backup, len(list))
	for i, b := range list {
		if views[i], err = shapes.Backup(b, k.Name, lost); err != nil {
			return nil, err
		}
	}
	return answer(views, nil)
}

// BackupPath names a backup in a path.
type BackupPath struct {
	Backup string `path:"backup" doc:"id of the backup"`
}

func (h *Backups) showBackup(ctx context.Context, in *BackupPath) (*body[api.Backup], error) {
	b, k, err := h.Catalog.BackupAndCluster(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	lost, err := h.Catalog.Losses(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	return answer(shapes.Backup(b, k.Name, lost))
}

func (h *Backups) showContent(ctx context.Context, in *BackupPath) (*body[api.Content], error) {
	b, err := h.Catalog.Backup(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	book, err := h.Books.Of(ctx, b.ClusterID)
	if err != nil {
		return nil, err
	}
	c, err := backup.Describe(ctx, h.Custody.Store, h.Catalog, b, book.At(b.StoppedAt))
	return answer(shapes.Content(c), err)
}

type takeBackup struct {
	ClusterPath
	Body api.TakeBackupRequest
}

func (h *Backups) submitBackup(ctx context.Context, in *takeBackup) (*body[api.Task], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	t, err := h.Tasks.Submit(ctx, k.ID, catalog.NewID(), work.Backup{Checkpoint: in.Body.Checkpoint, Kind: in.Body.Kind})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, map[string]string{k.ID: k.Name}))
}

type dropBackup struct {
	BackupPath
	Confirm string `query:"confirm" doc:"name of the cluster that it is a backup of"`
}

func (h *Backups) submitDrop(ctx context.Context, in *dropBackup) (*body[api.Task], error) {
	b, k, err := h.Catalog.BackupAndCluster(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	loss, err := h.dropLoss(ctx, k, b)
	if err != nil {
		return nil, err
	}
	loss += takenBack(h.Custody.DeleteAfter, "velvet keep undo "+k.Name)
	if err := confirmed(in.Confirm, k.Name, "the base backup was not dropped", loss); err != nil {
		return nil, err
	}
	if err := h.Catalog.DropBackup(ctx, b.ID); err != nil {
		return nil, err
	}
	t, err := h.Tasks.Submit(ctx, k.ID, b.ID, work.Drop{})
	if err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, k.ID)
	return answer(shapes.Task(t, map[string]string{k.ID: k.Name}))
}

// dropLoss says which moments can no longer be reached without a base backup.
func (h *Backups) dropLoss(ctx context.Context, k catalog.Cluster, b catalog.Backup) (string, error) {
	a, err := archive.Open(ctx, h.Catalog, h.Custody.Store, h.Spool, k)
	if err != nil {
		return "", err
	}
	before, _ := a.Reach()
	bases, wal, forks := a.Known()
	bases, wal = inventory.Losses{Backups: []string{b.ID}}.Without(bases, wal, k.SegmentSize)
	after, _ := reach.Compute(bases, wal, forks)
	lost := inventory.Difference(before, after)
	alone, err := backup.Alone(ctx, h.Custody.Store, h.Catalog, k.ID, b.ID)
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
	why, err := h.neededFor(ctx, k, b.ID)
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
func (h *Backups) neededFor(ctx context.Context, k catalog.Cluster, id string) (string, error) {
	rule, _, err := schedule.EffectiveRule(ctx, h.Catalog, k)
	if err != nil {
		return "", err
	}
	p, err := h.Custody.Retention.Preview(ctx, k, rule, h.Now().UTC(), false)
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
