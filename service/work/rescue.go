package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"

	"github.com/jackc/pgx/v5"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/retrieve"
	"velvetrewind/service/events"
	"velvetrewind/service/planner"
)

// retriever prepares a rescue: by whom it writes, and what it is about.
func (w *Worker) retriever(ctx context.Context, k catalog.Copy, cluster catalog.Cluster, id string, order Rescue) (
	r *retrieve.Retriever, wish retrieve.Wish, err error) {
	r = &retrieve.Retriever{Cluster: cluster, Copy: k}
	if r.Access, err = w.Logins.Access(cluster); err != nil {
		return nil, wish, err
	}
	if order.As != "" {
		password, err := w.Logins.Key.Open(order.Password, rescuePurpose(id))
		if err != nil {
			return nil, wish, err
		}
		if r.Access, err = r.Access.As(order.As, password); err != nil {
			return nil, wish, err
		}
	}
	if r.Host, err = w.Copies.Machine(k); err != nil {
		return nil, wish, err
	}
	o, err := w.openOf(ctx, k, cluster)
	if err != nil {
		return nil, wish, err
	}
	r.Journal = o.Journal
	wish = retrieve.Wish{Also: order.Also, Rules: order.Rules, Untriggered: order.NoTriggers, Trust: order.Trust,
		Done: make(map[string]bool)}
	if wish.Entry, err = undone(ctx, o, order); err != nil {
		return nil, wish, err
	}
	if len(wish.Entry.DroppedDatabases) > 0 {
		if err := r.Database(ctx, &wish); err != nil {
			return nil, wish, err
		}
	}
	if wish.Apart, err = order.apart(k); err != nil {
		return nil, wish, err
	}
	if wish.Brought, err = w.brought(ctx, cluster, order); err != nil {
		return nil, wish, err
	}
	for _, xid := range order.all() {
		if err := w.broughtBack(ctx, cluster, xid, wish.Done); err != nil {
			return nil, wish, err
		}
	}
	wish.Tables, err = parseTables(order.Tables)
	return r, wish, err
}

// all are the ids of the transactions that are undone, each once.
func (o Rescue) all() []uint64 {
	list := []uint64{o.XID}
	for _, x := range o.Also {
		if !slices.Contains(list, x) {
			list = append(list, x)
		}
	}
	return list
}

// apart tells whether others may have written between a copy and the last of the transactions.
func (o Rescue) apart(k catalog.Copy) (bool, error) {
	var p plan.Restore
	err := json.Unmarshal(k.Plan, &p)
	return len(o.Also) > 0 || p.Boundary.FirstOut == nil || uint64(p.Boundary.FirstOut.XID) != o.XID, err
}

// undone is what is undone: one transaction, or several that only deleted and updated rows after the first.
func undone(ctx context.Context, o planner.Opened, order Rescue) (e changes.Entry, err error) {
	const title = "nothing was changed"
	var list []changes.Entry
	for _, xid := range order.all() {
		found, err := o.Journal.ByXID(ctx, pg.FullXID(xid))
		if err != nil {
			return e, err
		}
		if len(found) != 1 || !found[0].Committed {
			return e, problem.New(problem.NotFound, "See: velvet changes list "+o.Cluster.Name, title,
				"no transaction %d committed on the way that the copy was taken from", xid)
		}
		if len(list) > 0 && found[0].End < list[0].End {
			return e, problem.New(problem.Invalid, "Name the one that was committed first as the first.", title,
				"transaction %d was committed before %d", xid, order.XID)
		}
		for _, t := range found[0].Tables {
			if len(list) > 0 && t.Known && !t.System() && t.Database != databaseOf(list[0]) {
				return e, problem.New(problem.Invalid, "Rescue them one by one.", title,
					"transaction %d changed %s, and %d another database", xid, t.Label(), order.XID)
			}
			if len(list) > 0 && t.Counts[journal.Truncate]+t.Counts[journal.Drop] > 0 {
				return e, problem.New(problem.Invalid, fmt.Sprintf("Rescue that one by itself: velvet rescue plan %s \"before tx %d\"",
					o.Cluster.Name, xid), title, "transaction %d truncated or dropped %s, with what others had written since %d", xid,
					t.Label(), order.XID)
			}
		}
		if len(list) > 0 && len(found[0].Dropped) > 0 {
			return e, problem.New(problem.Invalid, fmt.Sprintf("Rescue that one by itself: velvet rescue plan %s \"before tx %d\"",
				o.Cluster.Name, xid), title, "transaction %d dropped %s, of which others may have been made since %d", xid,
				found[0].Dropped[0].Label(), order.XID)
		}
		list = append(list, found[0])
	}
	return changes.Together(list), nil
}

// databaseOf is where a transaction changed tables, or dropped something else.
func databaseOf(e changes.Entry) string {
	for _, t := range e.Tables {
		if t.Known && !t.System() {
			return t.Database
		}
	}
	for _, n := range e.Dropped {
		return n.Database
	}
	return ""
}

func parseTables(names []string) (list []journal.Table, err error) {
	for _, name := range names {
		t, err := journal.ParseTable(name)
		if err != nil {
			return nil, problem.Wrap(err, problem.Invalid, "nothing was changed", "")
		}
		list = append(list, t)
	}
	return list, nil
}

// compare holds tables of a copy against the live ones.
func (w *Worker) compare(ctx context.Context, t catalog.Task, order Compare, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	r := &retrieve.Retriever{Cluster: cluster, Copy: k}
	live := cluster
	if order.With != "" && order.With != cluster.Name {
		r.Strange = true
		if live, err = w.Catalog.Cluster(ctx, order.With); err != nil {
			return nil, err
		}
	}
	if r.Access, err = w.Logins.Access(live); err != nil {
		return nil, err
	}
	if r.Host, err = w.Copies.Machine(k); err != nil {
		return nil, err
	}
	tables, err := parseTables(order.Tables)
	if err != nil {
		return nil, err
	}
	o, err := w.Planner.Open(ctx, cluster.Name) // along the way to what is live, and not that which the copy was taken from
	if err != nil {
		return nil, err
	}
	var p plan.Restore
	if err := json.Unmarshal(k.Plan, &p); err != nil {
		return nil, err
	}
	r.Journal = o.Journal
	wish := retrieve.CompareWish{Database: order.Database, Tables: tables, Schemas: order.Schemas, Where: order.Where, Shown: order.Shown,
		Since: p.Boundary.End}
	list, err := r.Compare(ctx, wish, report)
	return map[string]any{"tables": list}, err
}

// Exporting prepares rows of a table of a copy to be written elsewhere: those that the order's transactions took, or without one all.
func (w *Worker) Exporting(ctx context.Context, k catalog.Copy, cluster catalog.Cluster, order Rescue, in api.ExportRequest) (
	*retrieve.Export, error) {
	wish := retrieve.ExportWish{Database: in.Database, Where: in.Where, Form: in.Form}
	tables, err := parseTables([]string{in.Table})
	if err != nil {
		return nil, err
	}
	wish.Table = tables[0]
	if in.Into != "" {
		if tables, err = parseTables([]string{in.Into}); err != nil {
			return nil, err
		}
		wish.Into = tables[0]
	}
	r := &retrieve.Retriever{Cluster: cluster, Copy: k}
	if r.Access, err = w.Logins.Access(cluster); err != nil {
		return nil, err
	}
	if r.Host, err = w.Copies.Machine(k); err != nil {
		return nil, err
	}
	if order.XID != 0 {
		o, err := w.openOf(ctx, k, cluster)
		if err != nil {
			return nil, err
		}
		entry, err := undone(ctx, o, order)
		if err != nil {
			return nil, err
		}
		r.Journal, wish.Entry = o.Journal, &entry
		if wish.Apart, err = order.apart(k); err != nil {
			return nil, err
		}
		if wish.Database == "" {
			wish.Database = databaseOf(entry)
		}
	}
	return r.Exporting(ctx, wish)
}

// openOf opens the journal along the way that a copy was taken from.
func (w *Worker) openOf(ctx context.Context, k catalog.Copy, cluster catalog.Cluster) (o planner.Opened, err error) {
	var p plan.Restore
	if err := json.Unmarshal(k.Plan, &p); err != nil {
		return o, err
	}
	return w.Planner.OpenOn(ctx, cluster.Name, p.Boundary.Timeline)
}

// broughtBack notes the tables into which a transaction's rows were brought back already.
func (w *Worker) broughtBack(ctx context.Context, cluster catalog.Cluster, xid uint64, done map[string]bool) error {
	list, err := w.Catalog.RescuesOf(ctx, cluster.ID, int64(xid), catalog.RescueApplied)
	if err != nil {
		return err
	}
	for _, r := range list {
		var p rescue.Plan
		if err := json.Unmarshal(r.Plan, &p); err != nil {
			return err
		}
		for _, t := range p.Tables {
			done[t.Table] = true
		}
	}
	return nil
}

func rescuePurpose(id string) string { return "password of rescue " + id }

// SealFor seals the password of a rescue.
func (w *Worker) SealFor(id, password string) ([]byte, error) {
	return w.Logins.Key.Seal(password, rescuePurpose(id))
}

// ScriptRescue writes SQL that does what a rescue does.
func (w *Worker) ScriptRescue(ctx context.Context, k catalog.Copy, cluster catalog.Cluster, id string, order Rescue, to io.Writer) error {
	r, wish, err := w.retriever(ctx, k, cluster, id, order)
	if err != nil {
		return err
	}
	_, _, err = r.Try(ctx, wish, to, task.Silent)
	return err
}

func (w *Worker) rescue(ctx context.Context, t catalog.Task, order Rescue, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, order.Copy)
	if err != nil {
		return nil, err
	}
	record := catalog.Rescue{ID: t.Subject, ClusterID: cluster.ID, CopyID: k.ID, TaskID: t.ID, Moment: k.Moment, XID: int64(order.XID),
		State: catalog.RescueLooking}
	if record.Also, err = json.Marshal(append([]uint64{}, order.Also...)); err != nil {
		return nil, err
	}
	if err := w.Catalog.AddRescue(ctx, record); err != nil {
		return nil, err
	}
	p, checks, err := w.carryOut(ctx, k, cluster, t.Subject, order, report)
	if order.Open && errors.Is(err, retrieve.ErrHeld) && k.State == catalog.CopyPaused {
		report.Log("the copy is opened, which ends the transaction there that holds a table")
		if err = w.Copies.Open(ctx, cluster, k, report); err == nil {
			p, checks, err = w.carryOut(ctx, k, cluster, t.Subject, order, report)
		}
	}
	for _, c := range checks {
		report.Log("%s: %s: %s", c.Name, c.Verdict, c.Summary)
	}
	record.State = map[string]string{ModePlan: catalog.RescuePlanned, ModeTry: catalog.RescueTried,
		ModeApply: catalog.RescueApplied}[order.Mode]
	state, batches, lost := w.outcome(context.WithoutCancel(ctx), t.Subject)
	if err != nil {
		record.State = state
		switch state {
		case catalog.RescueWriting: // the connection went as it was committed
			err = errors.Join(err, lost)
		case catalog.RescueApplied:
			err = nil
		case catalog.RescuePartly:
			report.Warn("%s are back; the same command goes on after them", figures.Of(len(batches), "batch"))
		}
	}
	var failed error
	if record.Plan, failed = json.Marshal(p); failed == nil {
		record.Checks, failed = json.Marshal(append([]rescue.Check{}, checks...))
	}
	if failed == nil {
		record.Batches, failed = json.Marshal(append([]rescue.Batch{}, batches...))
	}
	if failed == nil {
		failed = w.Catalog.EndRescue(context.WithoutCancel(ctx), record)
	}
	if record.State == catalog.RescueApplied && len(order.Tables) == 0 { // whoever did that has looked at it
		var none *problem.Problem
		for _, xid := range order.all() {
			if e := w.Catalog.SettleIncidents(ctx, cluster.ID, pg.FullXID(xid)); e != nil && !errors.As(e, &none) {
				report.Warn("the incident was not settled: %v", e)
			}
		}
	}
	w.Events.Publish(events.Cluster, cluster.ID)
	return map[string]any{"rescue": record.ID, "state": record.State}, errors.Join(err, failed)
}

func (w *Worker) carryOut(ctx context.Context, k catalog.Copy, cluster catalog.Cluster, id string, order Rescue, report task.Report) (
	p rescue.Plan, checks []rescue.Check, err error) {
	r, wish, err := w.retriever(ctx, k, cluster, id, order)
	if err != nil {
		return p, nil, err
	}
	switch order.Mode {
	case ModeTry:
		return r.Try(ctx, wish, nil, report)
	case ModeApply:
		if order.AtOnce > 0 {
			return w.inBatches(ctx, r, wish, id, order, report)
		}
		return r.Apply(ctx, wish, func(own pg.FullXID, p rescue.Plan) error { return w.rescueWrites(ctx, id, own, p, nil) }, report)
	}
	p, err = r.Plan(ctx, wish, report)
	return p, nil, err
}

// becameOf asks the live cluster what became of the transaction of a rescue; of one that was never about to be committed that is known.
func (w *Worker) becameOf(ctx context.Context, record catalog.Rescue) (known, committed bool, err error) {
	if record.OwnXID == 0 {
		return true, false, nil
	}
	cluster, err := w.Catalog.Cluster(ctx, record.ClusterID)
	if err != nil {
		return false, false, err
	}
	var status *string
	err = w.asking(ctx, cluster, func(conn *pgx.Conn) error {
		return conn.QueryRow(ctx, "select pg_catalog.pg_xact_status($1::pg_catalog.text::pg_catalog.xid8)",
			strconv.FormatInt(record.OwnXID, 10)).Scan(&status)
	})
	if err != nil || status == nil || *status == "in progress" {
		return false, false, err
	}
	return true, *status == "committed", nil
}

// undoRescue finds out whether the transaction of a rescue that was interrupted is committed.
func (w *Worker) undoRescue(ctx context.Context, t catalog.Task) (whole bool, err error) {
	record, found, err := w.Catalog.RescueOfTask(ctx, t.ID)
	if err != nil || !found || record.EndedAt.Valid {
		return found && record.State == catalog.RescueApplied, err
	}
	state, batches, err := w.outcome(ctx, record.ID)
	if err != nil {
		return false, err
	}
	if state == catalog.RescueWriting {
		return false, problem.New(problem.Conflict, "", "it is not known yet what became of the rescue", "its transaction is still open")
	}
	record.Checks, record.State = json.RawMessage("[]"), state
	if record.Batches, err = json.Marshal(append([]rescue.Batch{}, batches...)); err != nil {
		return false, err
	}
	return state == catalog.RescueApplied, w.Catalog.EndRescue(ctx, record)
}
