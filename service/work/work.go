// Package work does what tasks are for: it hands each to the room of the engine whose work it is, and tells those who
// watch what came of it.
//
// Invariant: what a task left when its instance died is put right by the same room that did the work. How tasks come to
// be run, and what is recorded of them, is left to package tasks.
package work

import (
	"context"
	"log/slog"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/upkeep/audit"
	"velvetrewind/engine/upkeep/rebuild"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/logins"
	"velvetrewind/service/planner"
	"velvetrewind/service/shapes"
	"velvetrewind/service/tasks"
)

// The orders of tasks, as the queue carries them.
type (
	// Backup takes a base backup. Its subject is the id that the backup gets.
	Backup struct {
		Checkpoint string `json:"checkpoint"`
		Kind       string `json:"kind"`
	}
	// Drop removes a base backup that nobody begins to use any more.
	Drop struct{}
	// Copy makes a side copy that was prepared.
	Copy struct {
		Plan  plan.Restore `json:"plan"`
		Whole string       `json:"whole,omitempty"` // why it is not partial, where it was to be
	}
	// Step moves a paused copy.
	Step struct {
		Plan    plan.Restore      `json:"plan"`
		Replays []catalog.Stretch `json:"replays,omitempty"` // the WAL that it needs
	}
	// Open ends a copy's recovery.
	Open struct{}
	// Discard removes a copy.
	Discard struct{}
	// Prove proves a copy.
	Prove struct{}
	// Audit looks through the store.
	Audit struct {
		Full bool `json:"full"`
		Fix  bool `json:"fix"`
	}
	// Rebuild records what the store holds and the catalogue does not know.
	Rebuild struct{}
	// Mirror copies a cluster to the second store.
	Mirror struct{}
	// Keep deletes what a cluster's keep rule does not need.
	Keep struct {
		Token string `json:"token,omitempty"` // of the preview that was confirmed; "" for the calendar's
	}
	// Rehearse makes a copy, proves it and discards it.
	Rehearse struct{}
	// Takeover puts a copy in the place of its original.
	Takeover struct {
		Despite  bool `json:"despite,omitempty"`  // also if its proof did not pass
		Refuse   bool `json:"refuse,omitempty"`   // clients, ahead of the stop
		HostLost bool `json:"hostLost,omitempty"` // on which the original was
		Quick    bool `json:"quick,omitempty"`    // after the quick checks alone, where it was not proved
	}
	// Clear removes what a takeover set aside, or what else is left on a host. Its subject is the takeover's id, or the path.
	Clear struct {
		Host string `json:"host,omitempty"` // id
		Path string `json:"path,omitempty"` // "" for what a takeover set aside
	}
	// Rescue brings rows back. Its subject is the rescue's id.
	Rescue struct {
		Copy       string       `json:"copy"`
		XID        uint64       `json:"xid"`
		Also       []uint64     `json:"also,omitempty"` // others, undone with it
		Tables     []string     `json:"tables,omitempty"`
		Rules      rescue.Rules `json:"rules,omitempty"`
		NoTriggers bool         `json:"noTriggers,omitempty"`
		Trust      bool         `json:"trust,omitempty"`
		As         string       `json:"as,omitempty"`
		Password   []byte       `json:"password,omitempty"` // of As, sealed
		Mode       string       `json:"mode"`
		// AtOnce is how many rows one transaction brings back at most, 0 for all; Pause is how long nothing is written after each.
		AtOnce int64         `json:"atOnce,omitempty"`
		Pause  time.Duration `json:"pause,omitempty"`
		Open   bool          `json:"open,omitempty"` // the copy, where that must be
	}
	// Repair lays right files over wrong ones of a cluster that is stopped.
	Repair struct {
		Apply       bool     `json:"apply,omitempty"` // else it only compares
		Tablespaces []string `json:"tablespaces,omitempty"`
		Relations   []string `json:"relations,omitempty"`
		NoStart     bool     `json:"noStart,omitempty"`
	}
	// Compare holds tables of a copy, which is its subject, against the live ones.
	Compare struct {
		Database string   `json:"database"`
		Tables   []string `json:"tables,omitempty"`
		Schemas  []string `json:"schemas,omitempty"`
		With     string   `json:"with,omitempty"`
		Where    string   `json:"where,omitempty"`
		Shown    int      `json:"shown,omitempty"`
	}
)

// How far a rescue goes.
const (
	ModePlan  = "plan"
	ModeTry   = "try"
	ModeApply = "apply"
)

// Kinds of tasks, as they are shown.
const (
	KindBackup  = "backup"
	KindDrop    = "drop backup"
	KindCopy    = "side copy"
	KindStep    = "step copy"
	KindOpen    = "open copy"
	KindDiscard = "discard copy"
	KindProve   = "proof"
	KindAudit   = "audit"
	KindRebuild = "rebuild"
	KindMirror  = catalog.CopyToSecond
	KindKeep    = "keep run"

	KindRehearse = "rehearsal"
	KindTakeover = "takeover"
	KindClear    = "remove what was set aside"
	KindRescue   = "rescue"
	KindCompare  = "comparison"
	KindRepair   = "repair"
)

// TaskKind is the kind of task that an order is for.
func (Backup) TaskKind() string { return KindBackup }

// TaskKind is the kind of task that an order is for.
func (Drop) TaskKind() string { return KindDrop }

// TaskKind is the kind of task that an order is for.
func (Copy) TaskKind() string { return KindCopy }

// TaskKind is the kind of task that an order is for.
func (Step) TaskKind() string { return KindStep }

// TaskKind is the kind of task that an order is for.
func (Open) TaskKind() string { return KindOpen }

// TaskKind is the kind of task that an order is for.
func (Discard) TaskKind() string { return KindDiscard }

// TaskKind is the kind of task that an order is for.
func (Prove) TaskKind() string { return KindProve }

// TaskKind is the kind of task that an order is for.
func (Audit) TaskKind() string { return KindAudit }

// TaskKind is the kind of task that an order is for.
func (Rebuild) TaskKind() string { return KindRebuild }

// TaskKind is the kind of task that an order is for.
func (Mirror) TaskKind() string { return KindMirror }

// TaskKind is the kind of task that an order is for.
func (Keep) TaskKind() string { return KindKeep }

// TaskKind is the kind of task that an order is for.
func (Rehearse) TaskKind() string { return KindRehearse }

// TaskKind is the kind of task that an order is for.
func (Takeover) TaskKind() string { return KindTakeover }

// TaskKind is the kind of task that an order is for.
func (Clear) TaskKind() string { return KindClear }

// TaskKind is the kind of task that an order is for.
func (Rescue) TaskKind() string { return KindRescue }

// TaskKind is the kind of task that an order is for.
func (Compare) TaskKind() string { return KindCompare }

// TaskKind is the kind of task that an order is for.
func (Repair) TaskKind() string { return KindRepair }

// Worker does the work of all kinds.
type Worker struct {
	Catalog    *catalog.Catalog
	Custody    *custody.Custody
	Logins     logins.Logins
	Planner    *planner.Planner
	Copies     *copies.Maker
	Host       *host.Host
	Captures   *capture.Supervisor
	Books      *names.Books
	Codec      layout.Codec
	Spool      string // directory
	Version    string // of this program
	ThroughSQL bool   // read data through SQL, also where the data directory could be read
	Events     *events.Hub
	Now        func() time.Time
	Log        *slog.Logger

	queue *tasks.Queue // that has the work done
}

// triesOfMirror is how often a copy to the second store is tried before it counts as failed: with the queue's pauses,
// for some six minutes.
const triesOfMirror = 5

// AddTo has a queue's tasks be done by w.
func (w *Worker) AddTo(q *tasks.Queue) {
	w.queue = q
	tasks.Add(q, tasks.Kind[Backup]{Work: w.takeBackup, Undo: w.undoBackup, Alone: problem.New(problem.Conflict,
		"Watch it with: velvet task list. Take another when it has ended.", "no second backup was begun",
		"a base backup of this cluster is under way already")})
	tasks.Add(q, tasks.Kind[Drop]{Work: w.dropBackup, Undo: w.undoDrop})
	tasks.Add(q, tasks.Kind[Copy]{Work: w.makeCopy, Undo: w.undoCopy, Forget: w.undoCopy})
	tasks.Add(q, tasks.Kind[Step]{Work: w.stepCopy, Undo: w.undoStep})
	tasks.Add(q, tasks.Kind[Open]{Work: w.openCopy, Undo: leaveAsIs})
	tasks.Add(q, tasks.Kind[Discard]{Work: w.discardCopy, Undo: w.undoCopy})
	tasks.Add(q, tasks.Kind[Prove]{Work: w.proveCopy, Undo: w.undoProof})
	tasks.Add(q, tasks.Kind[Rehearse]{Work: w.rehearse, Undo: w.undoRehearsal, Forget: w.forgetRehearsal})
	tasks.Add(q, tasks.Kind[Takeover]{Work: w.takeOver, Undo: w.undoTakeover, Alone: problem.New(problem.Conflict,
		"Watch it with: velvet task list", "the original was not touched", "a takeover of this cluster is under way")})
	tasks.Add(q, tasks.Kind[Clear]{Work: w.clear, Undo: leaveAsIs})
	tasks.Add(q, tasks.Kind[Repair]{Work: w.repair, Undo: w.undoRepair, Alone: problem.New(problem.Conflict,
		"Watch it with: velvet task list", "nothing was changed", "a repair of this cluster is under way")})
	tasks.Add(q, tasks.Kind[Compare]{Work: w.compare, Undo: leaveAsIs})
	tasks.Add(q, tasks.Kind[Rescue]{Work: w.rescue, Undo: w.undoRescue, Alone: problem.New(problem.Conflict,
		"Watch it with: velvet task list", "nothing was changed", "a rescue of this cluster is under way")})
	tasks.Add(q, tasks.Kind[Audit]{Work: w.auditStore, Undo: leaveAsIs})
	tasks.Add(q, tasks.Kind[Rebuild]{Work: w.rebuildCatalogue, Undo: w.undoRebuild})
	tasks.Add(q, tasks.Kind[Mirror]{Work: w.copyToSecond, Undo: w.sweepSecond, Tries: triesOfMirror, Alone: problem.New(problem.Conflict,
		"Watch it with: velvet task list.", "nothing was copied to the second store", "this cluster is being copied already")})
	tasks.Add(q, tasks.Kind[Keep]{Work: w.applyRule, Undo: w.undoApply, Alone: problem.New(problem.Conflict,
		"Watch it with: velvet task list. Preview again when it has ended.", "nothing was deleted",
		"the keep rule of this cluster is being applied already")})
	tasks.Every[deposit](q, custody.Nightly{}, w.Custody.DepositIfDue)
}

// deposit puts what only the catalogue knows into the store, every night.
type deposit struct{}

func (deposit) TaskKind() string { return "deposit" }

func (w *Worker) takeBackup(ctx context.Context, t catalog.Task, order Backup, report task.Report) (any, error) {
	k, err := w.Catalog.Cluster(ctx, t.ClusterID.String)
	if err != nil {
		return nil, err
	}
	a, err := w.Logins.Access(k)
	if err != nil {
		return nil, err
	}
	taker := &backup.Taker{Cluster: k, Access: a, Catalog: w.Catalog, Store: w.Custody.Store, Notices: w.Custody.Notices, Books: w.Books,
		Codec: w.Codec, Spool: w.Spool, ThroughSQL: w.ThroughSQL, Away: w.Taker().Away, Now: w.Now}
	b, err := taker.Take(ctx, backup.Options{ID: t.Subject, TaskID: t.ID, Checkpoint: order.Checkpoint, Kind: order.Kind}, report)
	if err != nil {
		return nil, err
	}
	report.Log("%s backup %s is complete", b.Kind, b.ID)
	if k, err = w.Catalog.Cluster(ctx, k.ID); err == nil {
		err = w.Taker().Remember(ctx, k)
	}
	if err != nil {
		report.Warn("how the server is run was not recorded: %v", err)
	}
	w.Events.Publish(events.Cluster, k.ID)
	return map[string]any{"backup": b.ID, "files": b.Files, "kind": b.Kind, "bytesRead": b.BytesRead, "bytesStored": b.BytesStored,
		"pageFaults": b.PageFaults}, nil
}

func (w *Worker) undoBackup(ctx context.Context, t catalog.Task) (bool, error) {
	return backup.Undo(ctx, w.Custody.Notices, w.Catalog, t.ClusterID.String, t.Subject, t.ID)
}

func (w *Worker) dropBackup(ctx context.Context, t catalog.Task, _ Drop, report task.Report) (any, error) {
	if err := backup.Remove(ctx, w.Custody.Notices, w.Catalog, t.ClusterID.String, t.Subject, report); err != nil {
		return nil, err
	}
	w.Events.Publish(events.Cluster, t.ClusterID.String)
	return nil, nil
}

// undoDrop goes on where the removal stopped: there is no way back from it.
func (w *Worker) undoDrop(ctx context.Context, t catalog.Task) (bool, error) {
	return true, backup.Remove(ctx, w.Custody.Notices, w.Catalog, t.ClusterID.String, t.Subject, task.Silent)
}

func (w *Worker) applyRule(ctx context.Context, t catalog.Task, order Keep, report task.Report) (any, error) {
	k, err := w.Catalog.Cluster(ctx, t.ClusterID.String)
	if err != nil {
		return nil, err
	}
	rule, _, err := schedule.EffectiveRule(ctx, w.Catalog, k)
	if err != nil {
		return nil, err
	}
	done, err := w.Custody.Retention.Apply(ctx, k, rule, w.Now().UTC(), order.Token, report)
	w.Events.Publish(events.Cluster, k.ID)
	return api.KeepApplied(done), err
}

// undoApply tells whether anything had been deleted: then that is finished when the store
// is next looked after.
func (w *Worker) undoApply(ctx context.Context, t catalog.Task) (bool, error) {
	return w.Catalog.ReleasedSince(ctx, t.ClusterID.String, t.StartedAt.Time)
}

func (w *Worker) auditStore(ctx context.Context, _ catalog.Task, order Audit, report task.Report) (any, error) {
	auditor := &audit.Auditor{Catalog: w.Catalog, Store: w.Custody.Store, Spool: w.Spool, Full: order.Full, Fix: order.Fix}
	r, err := auditor.Run(ctx, report)
	return shapes.Audit(r), err
}

func (w *Worker) rebuildCatalogue(ctx context.Context, _ catalog.Task, _ Rebuild, report task.Report) (any, error) {
	r, err := (&rebuild.Rebuilder{Catalog: w.Catalog, Store: w.Custody.Store, Codec: w.Codec}).Run(ctx, report)
	w.Captures.Look()
	w.Events.Publish(events.Cluster, "")
	return api.RebuildResult(r), err
}

func (w *Worker) undoRebuild(ctx context.Context, _ catalog.Task) (bool, error) {
	return false, rebuild.Undo(ctx, w.Catalog)
}

func (w *Worker) copyToSecond(ctx context.Context, t catalog.Task, _ Mirror, report task.Report) (any, error) {
	r, err := w.Custody.CopyToSecond(ctx, t.ClusterID.String, report)
	return api.MirrorResult(r), err
}

func (w *Worker) sweepSecond(ctx context.Context, t catalog.Task) (bool, error) {
	return w.Custody.SweepSecond(ctx, t.ClusterID.String)
}

// leaveAsIs is for tasks that leave nothing behind: the copy's state is looked at afresh anyway.
func leaveAsIs(context.Context, catalog.Task) (whole bool, err error) { return false, nil }
