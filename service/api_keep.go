package service

import (
	"context"
	"database/sql"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/keep"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/upkeep/retention"
)

func (s *Service) keepAPI(api huma.API) {
	op(s, api, http.MethodGet, "/clusters/{cluster}/keep", "show-keep", "Show a cluster's keep rule and its pins", 0, s.showKeep)
	op(s, api, http.MethodPut, "/clusters/{cluster}/keep", "set-keep", "Set a cluster's own keep rule; nothing is deleted by that", 0,
		s.setKeep)
	op(s, api, http.MethodDelete, "/clusters/{cluster}/keep", "unset-keep",
		"Take a cluster's own keep rule away: that of its policy, or the default, applies", 0, s.unsetKeep)
	op(s, api, http.MethodPost, "/clusters/{cluster}/keep/preview", "preview-keep",
		"Show what applying a keep rule would delete, and why the rest is kept",
		0, s.previewKeep)
	op(s, api, http.MethodPost, "/clusters/{cluster}/keep/apply", "apply-keep", "Delete just what a preview showed",
		http.StatusAccepted, s.applyKeep)
	op(s, api, http.MethodPost, "/clusters/{cluster}/keep/undo", "undo-keep",
		"Take back what was deleted and is not permanently deleted yet", 0, s.undoKeep)
	op(s, api, http.MethodPut, "/backups/{backup}/pin", "pin-backup", "Keep a base backup whatever the rule says", 0, s.pinBackup)
	op(s, api, http.MethodDelete, "/backups/{backup}/pin", "unpin-backup", "Take the pin off a base backup", http.StatusNoContent,
		s.unpinBackup)
}

// keeper is the part of the engine that keeps what rules need.
func (s *Service) keepEngine() *retention.Enforcer {
	return &retention.Enforcer{Catalog: s.catalog, Store: s.store, Notices: s.notices(), Spool: s.cfg.spool(),
		Second: s.cfg.SecondStore != ""}
}

// effectiveRule is the rule that applies to a cluster now.
func (s *Service) effectiveRule(ctx context.Context, k catalog.Cluster) (r keep.Rule, from string, err error) {
	all, err := schedule.Load(ctx, s.catalog)
	if err != nil {
		return r, "", err
	}
	return ruleOf(k, all.PolicyOf(k))
}

func (s *Service) keepView(ctx context.Context, k catalog.Cluster) (*body[api.Keep], error) {
	all, err := schedule.Load(ctx, s.catalog)
	if err != nil {
		return nil, err
	}
	rule, from, err := ruleOf(k, all.PolicyOf(k))
	if err != nil {
		return nil, err
	}
	view, err := s.clusterView(ctx, k)
	if err != nil {
		return nil, err
	}
	v := api.Keep{Cluster: k.Name, Rule: api.KeepRule(rule), From: from, Promise: view.Promise, Pins: []api.Pin{}}
	if next := all.NextRun(k, catalog.WorkKeep, s.cfg.Now()); !next.IsZero() {
		next = next.UTC()
		v.NextRun = &next
	}
	if v.Deleted, err = s.deletedView(ctx, k); err != nil {
		return nil, err
	}
	pins, err := s.catalog.Pins(ctx, k.ID)
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

func (s *Service) showKeep(ctx context.Context, in *ClusterPath) (*body[api.Keep], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	return s.keepView(ctx, k)
}

type setKeep struct {
	ClusterPath
	Body api.KeepRule
}

func (s *Service) setKeep(ctx context.Context, in *setKeep) (*body[api.Keep], error) {
	rule := keep.Rule(in.Body)
	if err := checkRule(rule); err != nil {
		return nil, err
	}
	return s.changeKeep(ctx, in.Cluster, &rule)
}

// checkRule refuses a rule that cannot be used.
func checkRule(r keep.Rule) error {
	if err := r.Check(); err != nil {
		return problem.Wrap(err, problem.Invalid, "the keep rule was not set", "Promise a span: velvet keep set CLUSTER --span 31d")
	}
	_, err := retention.Zone(r.Zone)
	return err
}

func (s *Service) unsetKeep(ctx context.Context, in *ClusterPath) (*body[api.Keep], error) {
	return s.changeKeep(ctx, in.Cluster, nil)
}

func (s *Service) changeKeep(ctx context.Context, cluster string, r *keep.Rule) (*body[api.Keep], error) {
	k, err := s.catalog.Cluster(ctx, cluster)
	if err != nil {
		return nil, err
	}
	if err := s.catalog.SetKeepRule(ctx, k.ID, r); err != nil {
		return nil, err
	}
	if k, err = s.catalog.Cluster(ctx, k.ID); err != nil {
		return nil, err
	}
	s.events.publish(eventCluster, k.ID)
	if err := s.keepRecord(ctx, k); err != nil {
		return nil, err
	}
	return s.keepView(ctx, k)
}

type previewKeep struct {
	ClusterPath
	Body api.PreviewKeepRequest
}

func (s *Service) previewKeep(ctx context.Context, in *previewKeep) (*body[api.KeepPreview], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	rule, _, err := s.effectiveRule(ctx, k)
	if err != nil {
		return nil, err
	}
	if in.Body.Rule != nil {
		rule = keep.Rule(*in.Body.Rule)
	}
	at := s.cfg.Now()
	if in.Body.AsOf != nil {
		at = *in.Body.AsOf
	}
	p, err := s.keepEngine().Preview(ctx, k, rule, at.UTC(), in.Body.Measure)
	return answer(asKeepPreview(p), err)
}

type applyKeep struct {
	ClusterPath
	Body api.ApplyKeepRequest
}

func (s *Service) applyKeep(ctx context.Context, in *applyKeep) (*body[api.Task], error) {
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	rule, _, err := s.effectiveRule(ctx, k)
	if err != nil {
		return nil, err
	}
	p, err := s.keepEngine().Preview(ctx, k, rule, s.cfg.Now().UTC(), false)
	if err != nil {
		return nil, err
	}
	if p.Token != in.Body.Token {
		return nil, problem.New(problem.Conflict, "Preview it again: velvet keep preview "+k.Name, "nothing was deleted",
			"something else would be deleted now than the preview showed")
	}
	bases, wal := p.Releasable()
	if err := confirmed(in.Body.Confirm, k.Name, "nothing was deleted",
		letGo(bases, wal, p.FreesWAL)+s.takenBack("velvet keep undo "+k.Name)); err != nil {
		return nil, err
	}
	t, err := s.tasks.submit(ctx, taskKeep, k.ID, "", keepArgs{Token: p.Token})
	if err != nil {
		return nil, err
	}
	return answer(taskView(t, map[string]string{k.ID: k.Name}))
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
func (s *Service) deletedView(ctx context.Context, k catalog.Cluster) (*api.Deleted, error) {
	p, err := s.catalog.Pending(ctx, k.ID)
	if err != nil || s.cfg.deleteAfter == 0 || len(p.Backups) == 0 && p.Segments == 0 {
		return nil, err
	}
	v := &api.Deleted{Backups: []api.DeletedBackup{}, Segments: p.Segments, Bytes: p.Bytes}
	for _, b := range p.Backups {
		v.Backups = append(v.Backups, api.DeletedBackup{ID: b.ID, TakenAt: b.StoppedAt.UTC(),
			Until: b.DroppedAt.Add(s.cfg.deleteAfter).UTC()})
	}
	if p.Since.Valid {
		until := p.Since.Time.Add(s.cfg.deleteAfter).UTC()
		v.WALUntil = &until
	}
	return v, nil
}

func (s *Service) undoKeep(ctx context.Context, in *ClusterPath) (*body[api.Keep], error) {
	const title = "nothing was taken back"
	k, err := s.catalog.Cluster(ctx, in.Cluster)
	if err != nil {
		return nil, err
	}
	p, err := s.catalog.Pending(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	if len(p.Backups) == 0 && p.Segments == 0 {
		return nil, problem.New(problem.NotFound, "See: velvet keep show "+k.Name, title, "nothing of %s waits to be permanently deleted",
			k.Name)
	}
	if err := s.catalog.Undelete(ctx, k.ID); err != nil {
		return nil, err
	}
	// Deleted again it waits anew.
	for _, kind := range []string{"packs", "wal"} {
		if _, _, err := s.notices().Due(ctx, k.ID, kind, nil); err != nil {
			return nil, err
		}
	}
	s.events.publish(eventCluster, k.ID)
	return s.keepView(ctx, k)
}

type pinBackup struct {
	BackupPath
	Body api.PinRequest
}

func (s *Service) pinBackup(ctx context.Context, in *pinBackup) (*body[api.Keep], error) {
	b, k, err := s.backupAndCluster(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	p := catalog.Pin{BackupID: b.ID, Reason: in.Body.Reason}
	if in.Body.Until != nil {
		if !in.Body.Until.After(s.cfg.Now()) {
			return nil, problem.New(problem.Invalid, "Name a time to come, or none.", "the base backup was not pinned", "%s is past",
				in.Body.Until.UTC().Format(time.RFC3339))
		}
		p.Until = sql.NullTime{Time: in.Body.Until.UTC(), Valid: true}
	}
	if err := s.catalog.SetPin(ctx, p); err != nil {
		return nil, err
	}
	s.events.publish(eventCluster, k.ID)
	return s.keepView(ctx, k)
}

func (s *Service) unpinBackup(ctx context.Context, in *BackupPath) (*empty, error) {
	b, err := s.catalog.Backup(ctx, in.Backup)
	if err != nil {
		return nil, err
	}
	return nil, s.catalog.RemovePin(ctx, b.ID)
}
