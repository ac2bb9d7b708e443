package work

import (
	"context"

	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/names"
)

func (w *Worker) makeCopy(ctx context.Context, t catalog.Task, order Copy, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	if err := w.Planner.HaveStored(ctx, cluster, order.Plan.Boundary.End); err != nil {
		return nil, err
	}
	if k.Over {
		if err := w.Taker().GiveUp(ctx, cluster, k, t.ID, w.Now(), report); err != nil {
			return nil, err
		}
		return nil, w.layOver(ctx, t, cluster, k, report)
	}
	spec, err := k.Part()
	if err != nil {
		return nil, err
	}
	if order.Whole != "" {
		report.Log("it holds the whole cluster: %s", order.Whole)
	}
	if spec == nil {
		err = w.Copies.Make(ctx, cluster, k, order.Plan, report)
	} else {
		var book *names.Book
		if book, err = w.Books.Of(ctx, cluster.ID); err != nil {
			return nil, err
		}
		err = w.Copies.MakePart(ctx, cluster, k, order.Plan, spec, book.Lacks(spec), report)
	}
	if err != nil {
		return nil, err
	}
	return map[string]any{"copy": k.ID, "port": k.Port}, nil
}

// layOver makes a copy over the original's own files, which it was given. The moment is looked up again: what the original committed
// last has been captured since.
func (w *Worker) layOver(ctx context.Context, t catalog.Task, cluster catalog.Cluster, k catalog.Copy, report task.Report) error {
	k.State, k.TaskID = catalog.CopyDown, t.ID
	k.Problem = "nothing was laid over the original's files yet; have that be done: velvet copy step " + k.Name + " MOMENT"
	if err := w.Catalog.SaveCopy(ctx, k); err != nil {
		return err
	}
	k.Problem = ""
	_, p, replays, err := w.Planner.Plan(ctx, cluster.Name, k.Moment, "")
	if err != nil {
		return err
	}
	if err := w.Planner.HaveStored(ctx, cluster, p.Boundary.End); err != nil {
		return err
	}
	return w.Copies.Step(ctx, cluster, k, p, replays, report)
}

func (w *Worker) stepCopy(ctx context.Context, t catalog.Task, order Step, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	k.TaskID = t.ID
	if err := w.Planner.HaveStored(ctx, cluster, order.Plan.Boundary.End); err != nil {
		return nil, err
	}
	return nil, w.Copies.Step(ctx, cluster, k, order.Plan, order.Replays, report)
}

// undoStep removes a copy on its way to another moment; one that had not left is as it was.
func (w *Worker) undoStep(ctx context.Context, t catalog.Task) (bool, error) {
	k, err := w.Catalog.Copy(ctx, t.Subject)
	if err != nil || k.State != catalog.CopyLayingOut && k.State != catalog.CopyReplaying {
		return false, err
	}
	return w.undoCopy(ctx, t)
}

// undoCopy removes what there is of a copy.
func (w *Worker) undoCopy(ctx context.Context, t catalog.Task) (bool, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return false, err
	}
	if k.Over && t.Kind != KindDiscard {
		return false, w.undoOver(ctx, t, cluster, k)
	}
	return t.Kind == KindDiscard, w.Copies.Remove(ctx, cluster, k)
}

// undoOver gives the original its files back, if nothing was laid over them yet; else these are left for another try.
func (w *Worker) undoOver(ctx context.Context, t catalog.Task, cluster catalog.Cluster, k catalog.Copy) error {
	record, begun, err := w.Catalog.TakeoverOfTask(ctx, t.ID)
	switch {
	case err != nil:
		return err
	case !begun && t.Kind == KindCopy:
		return w.Copies.Remove(ctx, cluster, k)
	case begun && !record.EndedAt.Valid:
		_, err := w.Taker().Resume(ctx, record, task.Silent)
		return err
	case begun && record.Step == catalog.TakeoverBack:
		return nil
	}
	k.Problem = "it was interrupted; have it be laid over anew: velvet copy step " + k.Name + " MOMENT"
	return w.Copies.Drop(ctx, cluster, k)
}

func (w *Worker) openCopy(ctx context.Context, t catalog.Task, _ Open, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	return nil, w.Copies.Open(ctx, cluster, k, report)
}

func (w *Worker) discardCopy(ctx context.Context, t catalog.Task, _ Discard, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	if err := w.Copies.Remove(ctx, cluster, k); err != nil {
		return nil, err
	}
	report.Log("the copy's server was ended and %s removed; backups and WAL are untouched", k.Directory)
	return nil, nil
}

// Meet does on a host that is in reach again what could not be done while it was not: takeovers there are finished or taken back,
// what is left of copies whose making ended is removed, and it is recorded which clusters' servers run there.
func (w *Worker) Meet(ctx context.Context, host string) {
	w.resumeTakeovers(ctx, host)
	w.clearHost(ctx, host)
	clusters, err := w.Catalog.Clusters(ctx)
	if err != nil {
		w.Log.Warn("which clusters' servers run on a host was not looked for", "host", host, "error", err)
	}
	for _, k := range clusters {
		if err := w.Taker().RememberOn(ctx, k, host); err != nil {
			w.Log.Warn("how a server is run was not recorded", "cluster", k.Name, "error", err)
		}
	}
}

// clearHost removes from a host what is left there of copies whose making ended while it was out of reach.
func (w *Worker) clearHost(ctx context.Context, host string) {
	list, err := w.Catalog.CopiesLeft(ctx, host)
	if err != nil {
		w.Log.Warn("what is left on a host was not looked for", "host", host, "error", err)
		return
	}
	for _, k := range list {
		cluster, err := w.Catalog.Cluster(ctx, k.ClusterID)
		if err == nil {
			err = w.Copies.Remove(ctx, cluster, k)
		}
		if err != nil {
			w.Log.Warn("what is left of a copy could not be removed", "copy", k.ID, "error", err)
			continue
		}
		w.Log.Info("what was left of a copy is removed", "copy", k.ID, "directory", k.Directory)
	}
}
