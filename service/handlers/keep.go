package handlers

import (
	"context"
	"database/sql"
	"net/http"
	"strings"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/keep"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/upkeep/retention"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/fleet"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Keep sets keep rules and pins, and applies them.
type Keep struct {
	Catalog *catalog.Catalog
	Custody *custody.Custody
	Fleet   *fleet.Reader
	Tasks   *tasks.Queue
	Events  *events.Hub
	Now     func() time.Time
}

// Register registers the operations.
func (h *Keep) Register(api *Surface) {
	op(api, http.MethodGet, "/clusters/{cluster}/keep", "show-keep", "Show a cluster's keep rule and its pins", 0, h.showKeep)
	op(api, http.MethodPut, "/clusters/{cluster}/keep", "set-keep", "Set a cluster's own keep rule; nothing is deleted by that", 0,
		h.setKeep)
	op(api, http.MethodDelete, "/clusters/{cluster}/keep", "unset-keep",
		"Take a cluster's own keep rule away: that of its policy, or the default, applies", 0, h.unsetKeep)
	question(api, "/clusters/{cluster}/keep/preview", "preview-keep",
		"Show what applying a keep rule would delete, and why the rest is kept", h.previewKeep)
	op(api, http.MethodPost, "/clusters/{cluster}/keep/apply", "apply-keep", "Delete just what a preview showed",
		http.StatusAccepted, h.applyKeep)
	op(api, http.MethodPost, "/clusters/{cluster}/keep/undo", "undo-keep",
		"Take back what was deleted and is not permanently deleted yet", 0, h.undoKeep)
	op(api, http.MethodPut, "/backups/{backup}/pin", "pin-backup", "Keep a base backup whatever the rule says", 0, h.pinBackup)
	op(api, http.MethodDelete, "/backups/{backup}/pin", "unpin-backup", "Take the pin off a base backup", http.StatusNoContent,
		h.unpinBackup)
}

func (h *Keep) keepView(ctx context.Context, k catalog.Cluster) (*body[api.Keep], error) {
	all, err := schedule.Load(ctx, h.Catalog)
	if err != nil {
		return nil, err
	}
	rule, from, err := schedule.RuleOf(k, all.PolicyOf(k))
	if err != nil {
		return nil, err
	}
	view, err := h.Fleet.View(ctx, k)
	if err != nil {
		return nil, err
	}
	v := api.Keep{Cluster: k.Name, Rule: api.KeepRule(rule), From: from, Promise: view.Promise, Pins: []api.Pin{}}
	if next := all.NextRun(k, catalog.WorkKeep, h.Now()); !next.IsZero() {
		next = next.UTC()
		v.NextRun = &next
	}
	if v.Deleted, err = h.deletedView(ctx, k); err != nil {
		return nil, err
	}
	pins, err := h.Catalog.Pins(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	for _, p := range pins {
		shown := api.Pin{Backup: p.BackupID, Reason: p.Reason, PinnedAt: p.PinnedAt.UTC()}
		if p.Until.Valid {
			until := p.Until.Time.UTC()
			shown.Until = &until
		}
		v.Pins = append(v.Pins, shown)
	}
	return answer(v, nil)
}

func (h *Keep) showKeep(ctx context.Context, in *ClusterPath) (*body[api.Keep], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return h.keepView(ctx, k)
}

type setKeep struct {
	ClusterPath
	Body api.KeepRule
}

func (h *Keep) setKeep(ctx context.Context, in *setKeep) (*body[api.Keep], error) {
	rule := keep.Rule(in.Body)
	if err := checkRule(rule); err != nil {
		return nil, err
	}
	return h.changeKeep(ctx, in.Cluster, &rule)
}

// checkRule refuses a rule that cannot be used.
func checkRule(r keep.Rule) error {
	if err := r.Check(); err != nil {
		return problem.Wrap(err, problem.Invalid, "the keep rule was not set", "Promise a span: velvet keep set CLUSTER --span 31d")
	}
	_, err := retention.Zone(r.Zone)
	return err
}

func (h *Keep) unsetKeep(ctx context.Context, in *ClusterPath) (*body[api.Keep], error) {
	return h.changeKeep(ctx, in.Cluster, nil)
}

func (h *Keep) changeKeep(ctx context.Context, cluster string, r *keep.Rule) (*body[api.Keep], error) {
	k, err := h.Catalog.Cluster(ctx, cluster)
	if err != nil {
		return nil, err
	}
	if err := h.Catalog.SetKeepRule(ctx, k.ID, r); err != nil {
		return nil, err
	}
	if k, err = h.Catalog.Cluster(ctx, k.ID); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, k.ID)
	if err := h.Custody.KeepRecord(ctx, k); err != nil {
		return nil, err
	}
	return h.keepView(ctx, k)
}

type previewKeep struct {
	ClusterPath
	Body api.PreviewKeepRequest
}

func (h *Keep) previewKeep(ctx context.Context, in *previewKeep) (*body[api.KeepPreview], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	rule, _, err := schedule.EffectiveRule(ctx, h.Catalog, k)
	if err != nil {
		return nil, err
	}
	if in.Body.Rule != nil {
		rule = keep.Rule(*in.Body.Rule)
	}
	at := h.Now()
	if in.Body.AsOf != nil {
		at = *in.Body.AsOf
	}
	p, err := h.Custody.Retention.Preview(ctx, k, rule, at.UTC(), in.Body.Measure)
	return answer(shapes.KeepPreview(p), err)
}

type applyKeep struct {
	ClusterPath
	Body api.ApplyKeepRequest
}

func (h *Keep) applyKeep(ctx context.Context, in *applyKeep) (*body[api.Task], error) {
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	rule, _, err := schedule.EffectiveRule(ctx, h.Catalog, k)
	if err != nil {
		return nil, err
	}
	p, err := h.Custody.Retention.Preview(ctx, k, rule, h.Now().UTC(), false)
	if err != nil {
		return nil, err
	}
	if p.Token != in.Body.Token {
		return nil, problem.New(problem.Conflict, "Preview it again: velvet keep preview "+k.Name, "nothing was deleted",
			"something else would be deleted now than the preview showed")
	}
	bases, wal := p.Releasable()
	if err := confirmed(in.Body.Confirm, k.Name, "nothing was deleted",
		letGo(bases, wal, p.FreesWAL)+takenBack(h.Custody.DeleteAfter, "velvet keep undo "+k.Name)); err != nil {
		return nil, err
	}
	t, err := h.Tasks.Submit(ctx, k.ID, "", work.Keep{Token: p.Token})
	if err != nil {
		return nil, err
	}
	return answer(shapes.Task(t, map[string]string{k.ID: k.Name}))
}

func letGo(bases []string, wal []keep.WAL, bytes int64) string {
	var segments uint64
	for _, w := range wal {
		segments += w.Last - w.First + 1
	}
	return strings.TrimSpace(figures.Of(len(bases), "base backup") + " and " + figures.Of(int(segments), "WAL segment") + " (" +
		figures.Size(bytes) + ") would be deleted")
}

// deletedView tells what can be taken back; nil if there is nothing.
func (h *Keep) deletedView(ctx context.Context, k catalog.Cluster) (*api.Deleted, error) {
	p, err := h.Catalog.Pending(ctx, k.ID)
	if err != nil || h.Custody.DeleteAfter == 0 || len(p.Backups) == 0 && p.Segments == 0 {
		return nil, err
	}
	v := &api.Deleted{Backups: []api.DeletedBackup{}, Segments: p.Segments, Bytes: p.Bytes}
	for _, b := range p.Backups {
		v.Backups = append(v.Backups, api.DeletedBackup{ID: b.ID, TakenAt: b.StoppedAt.UTC(),
			Until: b.DroppedAt.Add(h.Custody.DeleteAfter).UTC()})
	}
	if p.Since.Valid {
		until := p.Since.Time.Add(h.Custody.DeleteAfter).UTC()
		v.WALUntil = &until
	}
	return v, nil
}

func (h *Keep) undoKeep(ctx context.Context, in *ClusterPath) (*body[api.Keep], error) {
	const title = "nothing was taken back"
	k, err := h.Catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	p, err := h.Catalog.Pending(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	if len(p.Backups) == 0 && p.Segments == 0 {
		return nil, problem.New(problem.NotFound, "See: velvet keep show "+k.Name, title, "nothing of %s waits to be permanently deleted",
			k.Name)
	}
	if err := h.Catalog.Undelete(ctx, k.ID); err != nil {
		return nil, err
	}
	// Deleted again it waits anew.
	for _, kind := range []string{"packs", "wal"} {
		if _, _, err := h.Custody.Notices.Due(ctx, k.ID, kind, nil); err != nil {
			return nil, err
		}
	}
	h.Events.Publish(events.Cluster, k.ID)
	return h.keepView(ctx, k)
}

type pinBackup struct {
	BackupPath
	Body api.PinRequest
}

func (h *Keep) pinBackup(ctx context.Context, in *pinBackup) (*body[api.Keep], error) {
	b, k, err := h.Catalog.BackupAndCluster(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	p := catalog.Pin{BackupID: b.ID, Reason: in.Body.Reason}
	if in.Body.Until != nil {
		if !in.Body.Until.After(h.Now()) {
			return nil, problem.New(problem.Invalid, "Name a time to come, or none.", "the base backup was not pinned", "%s is past",
				in.Body.Until.UTC().Format(time.RFC3339))
		}
		p.Until = sql.NullTime{Time: in.Body.Until.UTC(), Valid: true}
	}
	if err := h.Catalog.SetPin(ctx, p); err != nil {
		return nil, err
	}
	h.Events.Publish(events.Cluster, k.ID)
	return h.keepView(ctx, k)
}

func (h *Keep) unpinBackup(ctx context.Context, in *BackupPath) (*empty, error) {
	b, err := h.Catalog.Backup(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	return nil, h.Catalog.RemovePin(ctx, b.ID)
}
