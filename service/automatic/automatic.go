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
