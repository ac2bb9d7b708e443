// Package automatic begins tasks that nobody asked for just now: what the calendar says is due, and base backups that end
// a hole.
//
// Invariant: it does nothing itself and begins nothing that a person could not; what is begun is a task like any other.
package automatic

import (
	"context"
	"log/slog"
	"time"

	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/fleet"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// Starter begins tasks.
type Starter struct {
	Tasks    *tasks.Queue
	Fleet    *fleet.Reader
	Captures *capture.Supervisor
	Log      *slog.Logger

	Rehearsals Rehearsals
}

// Begin submits what the calendar says is due, for a cluster unless it is the store's.
func (s *Starter) Begin(ctx context.Context, e catalog.Entry, k *catalog.Cluster) (task string, err error) {
	var t catalog.Task
	switch e.Work {
	case catalog.WorkBackup:
		t, err = s.Tasks.Submit(ctx, k.ID, catalog.NewID(), work.Backup{Kind: e.Detail})
	case catalog.WorkKeep:
		t, err = s.Tasks.Submit(ctx, k.ID, "", work.Keep{})
	case catalog.WorkRehearsal:
		return s.Fleet.Catalog.AskRehearsal(ctx, catalog.Rehearsal{ClusterID: k.ID, Pick: e.Detail, AskedBy: "the calendar",
			NotBefore: time.Now()})
	default:
		t, err = s.Tasks.Submit(ctx, "", "", work.Audit{Full: e.Detail == "full"})
	}
	return t.ID, err
}

// every does something again and again until ctx ends; a failure is logged in the words given, and tried again.
func (s *Starter) every(ctx context.Context, pause time.Duration, failed string, do func(context.Context) error) {
	tick := time.NewTicker(pause)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := do(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn(failed, "error", err)
		}
	}
}
