package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/repair"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/place"
	"velvetrewind/service/events"
	"velvetrewind/service/shapes"
)

// repair compares a stopped cluster with its base backup and WAL, lays right files over wrong ones, and has the server recover.
func (w *Worker) repair(ctx context.Context, t catalog.Task, order Repair, report task.Report) (any, error) {
	cluster, err := w.Catalog.Cluster(ctx, t.ClusterID.String)
	if err != nil {
		return nil, err
	}
	machine, err := w.Taker().MachineOf(ctx, cluster)
	if err != nil {
		return nil, err
	}
	lease, ok, err := w.Catalog.OwnTakeover(ctx, cluster.ID)
	if err == nil && !ok {
		err = problem.New(problem.Conflict, "Watch it with: velvet task list", "nothing was changed", "a takeover of %s is under way",
			cluster.Name)
	}
	if err != nil {
		return nil, err
	}
	defer lease.Release()
	o, from, err := w.prepareRepair(ctx, cluster, machine, order, report)
	if err != nil {
		return nil, err
	}
	report.Log("%s is compared with base %s and the WAL from %s to %s", o.Original.DataDir, o.Base, o.Start, o.End)
	done, err := w.runRepair(ctx, machine, from, o, report)
	v := shapes.Repair(cluster, o, done)
	if err != nil || !order.Apply {
		return v, err
	}
	for _, dir := range done.Aside {
		report.Log("what stood there is kept in %s", dir)
	}
	if order.NoStart {
		return v, nil
	}
	if err := w.startRepaired(ctx, machine, o, report); err != nil {
		return v, err
	}
	v.Started = true
	w.Captures.Look()
	w.Events.Publish(events.Cluster, cluster.ID)
	return v, nil
}

// prepareRepair makes sure that it is possible.
func (w *Worker) prepareRepair(ctx context.Context, cluster catalog.Cluster, m host.Machine, order Repair, report task.Report) (
	o repair.Order, from repair.Source, err error) {
	state, err := w.Catalog.Capture(ctx, cluster.ID)
	if err == nil {
		err = w.Planner.HaveStored(ctx, cluster, state.FlushedLSN)
	}
	if err != nil {
		return o, from, err
	}
	opened, err := w.Planner.Open(ctx, cluster.ID)
	if err != nil {
		return o, from, err
	}
	book, err := w.Books.Of(ctx, cluster.ID)
	if err != nil {
		return o, from, err
	}
	past := repair.Past{Catalog: w.Catalog, Archive: opened.Archive, Journal: opened.Journal, Book: book}
	wish := repair.Wish{Tablespaces: order.Tablespaces, Relations: order.Relations, Now: w.Now()}
	o, err = repair.Prepare(ctx, past, m, wish, report)
	o.Apply = order.Apply
	return o, repair.Source{Vault: w.Custody.Store, Segment: opened.Archive.OpenSegment}, err
}

// repairer is a host that repairs by itself.
type repairer interface {
	Repair(ctx context.Context, at place.Place, o repair.Order, tails map[string][]byte, report task.Report) (repair.Outcome, error)
}

// runRepair has it done where the files are.
func (w *Worker) runRepair(ctx context.Context, m host.Machine, from repair.Source, o repair.Order, report task.Report) (
	repair.Outcome, error) {
	if there, is := m.(repairer); is {
		tails, err := w.tails(ctx, from, o)
		if err != nil {
			return repair.Outcome{}, err
		}
		return there.Repair(ctx, w.Copies.Place.For(w.Custody.Store, o.Cluster), o, tails, report)
	}
	own, is := m.(*host.Host)
	if !is {
		return repair.Outcome{}, fmt.Errorf("%T cannot repair", m)
	}
	return repair.Run(ctx, own, from, o, report)
}

// tails reads the segments that are not in the store yet.
func (w *Worker) tails(ctx context.Context, from repair.Source, o repair.Order) (map[string][]byte, error) {
	tails := make(map[string][]byte)
	for _, s := range o.Segments {
		name := s.Name(o.SegmentSize)
		_, err := w.Custody.Store.Stat(ctx, store.SegmentKey(o.Cluster, s.Timeline, name))
		if err == nil {
			continue
		}
		content, err := from.Segment(ctx, s)
		if err != nil {
			return nil, err
		}
		tails[name], err = io.ReadAll(content)
		if err := errors.Join(err, content.Close()); err != nil {
			return nil, err
		}
	}
	return tails, nil
}

// startRepaired has the server recover, and makes sure that it went on where it was.
func (w *Worker) startRepaired(ctx context.Context, m host.Machine, o repair.Order, report task.Report) error {
	report.Log("the server is started, and recovers to its latest")
	if err := m.StartOriginal(ctx, o.Original); err != nil {
		return fmt.Errorf("every file is as it has to be, but the server did not start: %w", err)
	}
	control, err := m.Control(o.Original.User, o.Original.DataDir)
	if err != nil {
		return err
	}
	if control.Timeline != o.Timeline() {
		return errors.New("the server was started, and is on another timeline than it was")
	}
	if control.Checkpoint < o.End && control.State == pg.ShutDown {
		return fmt.Errorf("the server recovered to %s alone, of %s", control.Checkpoint, o.End)
	}
	report.Log("the server of %s runs, and has recovered to its latest", o.Original.DataDir)
	return nil
}

// undoRepair goes on with a repair whose instance died while no server could start: there is no way back that is nearer.
func (w *Worker) undoRepair(ctx context.Context, t catalog.Task) (whole bool, err error) {
	var order Repair
	if err := json.Unmarshal(t.Arguments, &order); err != nil || !order.Apply {
		return false, err
	}
	cluster, err := w.Catalog.Cluster(ctx, t.ClusterID.String)
	if err != nil {
		return false, err
	}
	machine, err := w.Taker().MachineOf(ctx, cluster)
	if err != nil {
		return false, err // its host is out of reach: tried again
	}
	if o, err := machine.Inspect(cluster.DataDirectory, cluster.SystemID); err != nil || !o.Locked {
		return false, nil // nothing was changed yet, or it was through
	}
	if _, err := w.repair(ctx, t, order, task.Silent); err != nil {
		w.Log.Warn("a repair that was interrupted could not be finished; begin another, which goes on", "cluster", cluster.Name,
			"error", err)
		return false, nil
	}
	return true, nil
}

// Repairing says of a repair what it does.
func Repairing(k catalog.Cluster) string {
	return fmt.Sprintf("files of %s in %s are replaced by right ones, as far as they are wrong; what stands there is kept beside, "+
		"and the server recovers to its latest", k.Name, k.DataDirectory)
}
