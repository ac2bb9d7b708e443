package work

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/problem"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/restore/leftovers"
	"velvetrewind/engine/restore/takeover"
	"velvetrewind/service/events"
)

// Taker carries takeovers out.
func (w *Worker) Taker() *takeover.Taker {
	return &takeover.Taker{Catalog: w.Catalog, Copies: w.Copies, Serves: w.serves, Doors: w.doors, Disconnect: w.disconnect,
		Look: w.Captures.Look}
}

// Leftovers finds what is left on hosts.
func (w *Worker) Leftovers() *leftovers.Finder {
	return &leftovers.Finder{Catalog: w.Catalog, Copies: w.Copies}
}

// asking asks a cluster's server something.
func (w *Worker) asking(ctx context.Context, cluster catalog.Cluster, ask func(*pgx.Conn) error) error {
	a, err := w.Logins.Access(cluster)
	if err != nil {
		return err
	}
	conn, err := a.SQL(ctx, "")
	if err != nil {
		return err
	}
	return errors.Join(ask(conn), conn.Close(context.WithoutCancel(ctx)))
}

// doors tells how clients come in.
func (w *Worker) doors(ctx context.Context, cluster catalog.Cluster) (d takeover.Doors, err error) {
	err = w.asking(ctx, cluster, func(conn *pgx.Conn) error {
		var user string
		err := conn.QueryRow(ctx, `select pg_catalog.current_setting('hba_file'), session_user::pg_catalog.text`).Scan(&d.HBA, &user)
		d.Roles = []string{user}
		if r := cluster.ReplicationUser; r != "" && r != user {
			d.Roles = append(d.Roles, r)
		}
		return err
	})
	return d, err
}

// disconnect ends the sessions of clients, and tells how many it may not end: those of superusers, perhaps.
func (w *Worker) disconnect(ctx context.Context, cluster catalog.Cluster) (left int, err error) {
	err = w.asking(ctx, cluster, func(conn *pgx.Conn) error {
		rows, err := conn.Query(ctx, `select pid from pg_catalog.pg_stat_activity where backend_type operator(pg_catalog.=) 'client backend'
			and coalesce(application_name, '') operator(pg_catalog.!~~) 'velvet%'`)
		if err != nil {
			return err
		}
		list, err := pgx.CollectRows(rows, pgx.RowTo[int32])
		for _, pid := range list {
			if _, err := conn.Exec(ctx, `select pg_catalog.pg_terminate_backend($1)`, pid); err != nil {
				left++
			}
		}
		return err
	})
	return left, err
}

// serves tells whether a cluster's server answers at its address.
func (w *Worker) serves(ctx context.Context, cluster catalog.Cluster) bool {
	return w.asking(ctx, cluster, func(*pgx.Conn) error { return nil }) == nil
}

// takeOver proves a copy, if it was not proved where it stands, puts it in the place of its original, and takes a base backup.
func (w *Worker) takeOver(ctx context.Context, t catalog.Task, order Takeover, report task.Report) (any, error) {
	k, cluster, err := w.Catalog.CopyAndCluster(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	if err := w.proved(ctx, t, cluster, k, order, report); err != nil {
		return nil, err
	}
	if err := w.Taker().Begin(ctx, cluster, k, t.ID, takeover.Wish{Now: w.Now(), Lost: order.HostLost, Refuse: order.Refuse},
		report); err != nil {
		return nil, err
	}
	if err := w.Taker().Remember(ctx, cluster); err != nil {
		report.Warn("how the server is run was not recorded: %v", err)
	}
	if order.HostLost && !w.follows(ctx, cluster, elsewhereWithin) {
		report.Warn("when it is captured again, take a base backup: velvet backup take %s", cluster.Name)
		return map[string]any{"copy": k.ID}, nil
	}
	w.tookOver(ctx, cluster, report)
	return map[string]any{"copy": k.ID}, nil
}

// proved refuses a copy whose proof did not pass, unless it is to take over despite that.
func (w *Worker) proved(ctx context.Context, t catalog.Task, cluster catalog.Cluster, k catalog.Copy, order Takeover,
	report task.Report) error {
	checks, err := w.checksOf(ctx, t, cluster, k, order.Quick, report)
	if err != nil {
		return err
	}
	running := w.Taker().Prepare(ctx, cluster, k, takeover.Wish{Now: w.Now(), Lost: order.HostLost}).Original.Running
	v := Verdict(checks, running)
	if v == proof.Passed {
		return nil
	}
	if !order.Despite {
		return Unproved(k, v)
	}
	report.Warn("the verdict on the copy is: %s; it takes over all the same, as was asked", v)
	return nil
}

// checksOf are those of the copy's proof where it stands, which is made where there is none; or, if that is wanted, the quick ones.
func (w *Worker) checksOf(ctx context.Context, t catalog.Task, cluster catalog.Cluster, k catalog.Copy, quick bool,
	report task.Report) (checks []proof.Check, err error) {
	list, err := w.Catalog.Proofs(ctx, k.ID, 1)
	if err != nil {
		return nil, err
	}
	if len(list) > 0 && list[0].Moves == k.Moves {
		err = json.Unmarshal(list[0].Checks, &checks)
		return checks, err
	}
	if !quick {
		_, checks, err = w.prove(ctx, t, cluster, k, "takeover", report)
		return checks, err
	}
	prover, err := w.prover(ctx, t, cluster, k)
	if err != nil {
		return nil, err
	}
	if checks, err = prover.Quick(ctx, k, report); err == nil {
		report.Warn("its pages and rows were not looked at, as was asked: the quick checks are no proof")
	}
	return checks, err
}

// Verdict is what a proof says of a copy that is to take over. The configuration is that of the original as it is now, not what
// the base backup holds of it; and an original that does not run cannot be compared with.
func Verdict(checks []proof.Check, running bool) proof.Verdict {
	return proof.Overall(slices.DeleteFunc(slices.Clone(checks), func(c proof.Check) bool {
		return c.Verdict == proof.CouldNotRun && (c.Name == proof.Settings || c.Name == proof.Content && !running)
	}))
}

// Unproved says that a copy does not take over because of the verdict on it.
func Unproved(k catalog.Copy, v proof.Verdict) *problem.Problem {
	return problem.New(problem.Conflict, "Read why: velvet prove show "+k.ID+". To take over all the same, add --despite-proof.",
		"the original was not touched", "the verdict on the copy is: %s", v)
}

// How long the capture of what took over may take to begin before a base backup is tried all the same; and, on another host, before
// it is taken that clients and capture have to be led there first.
const (
	followsWithin   = 30 * time.Second
	elsewhereWithin = 5 * time.Second
)

// follows waits until capture follows what took over, where it is wanted; it tells whether it does.
func (w *Worker) follows(ctx context.Context, cluster catalog.Cluster, within time.Duration) bool {
	for began := time.Now(); time.Since(began) < within && ctx.Err() == nil; {
		if k, err := w.Catalog.Capture(ctx, cluster.ID); err != nil || !k.Wanted || k.Receives() {
			return err == nil && k.Receives() // without it there is nothing to wait for
		}
		select {
		case <-ctx.Done():
		case <-time.After(100 * time.Millisecond):
		}
	}
	return false
}

// tookOver begins what follows on a takeover.
func (w *Worker) tookOver(ctx context.Context, cluster catalog.Cluster, report task.Report) {
	w.Events.Publish(events.Cluster, cluster.ID)
	w.follows(ctx, cluster, followsWithin)
	if _, err := w.queue.Submit(ctx, cluster.ID, catalog.NewID(), Backup{Checkpoint: "fast"}); err != nil {
		report.Warn("no base backup was begun: %v; take one: velvet backup take %s", err, cluster.Name)
	}
}

// resumeTakeovers finishes, or takes back, takeovers on a host that nobody carries out any more.
func (w *Worker) resumeTakeovers(ctx context.Context, host string) {
	list, err := w.Catalog.TakeoversLeft(ctx, host)
	if err != nil {
		w.Log.Warn("takeovers that are left were not looked for", "host", host, "error", err)
	}
	for _, t := range list {
		whole, err := w.resume(ctx, t, t.ClusterID)
		if err != nil {
			w.Log.Warn("a takeover could be neither finished nor taken back", "takeover", t.ID, "error", err)
			continue
		}
		w.Log.Info("a takeover that was interrupted has ended", "takeover", t.ID, "in service", whole)
	}
}

// resume finishes a takeover, or takes it back.
func (w *Worker) resume(ctx context.Context, record catalog.Takeover, clusterID string) (whole bool, err error) {
	whole, err = w.Taker().Resume(ctx, record, task.Silent)
	if err == nil && whole && !record.EndedAt.Valid {
		if cluster, err := w.Catalog.Cluster(ctx, clusterID); err == nil {
			w.tookOver(ctx, cluster, task.Silent)
		}
	}
	return whole, err
}

// undoTakeover goes on with a takeover whose instance died, or takes it back.
func (w *Worker) undoTakeover(ctx context.Context, t catalog.Task) (whole bool, err error) {
	record, ok, err := w.Catalog.TakeoverOfTask(ctx, t.ID)
	if err != nil || !ok {
		return false, err // it had only been proving
	}
	return w.resume(ctx, record, t.ClusterID.String)
}

// clear removes what a takeover set aside, or what else is left.
func (w *Worker) clear(ctx context.Context, t catalog.Task, order Clear, report task.Report) (any, error) {
	if order.Path != "" {
		return nil, w.Leftovers().Remove(ctx, order.Host, order.Path)
	}
	cluster, err := w.Catalog.Cluster(ctx, t.ClusterID.String)
	if err != nil {
		return nil, err
	}
	record, err := w.Catalog.Takeover(ctx, t.Subject)
	if err != nil {
		return nil, err
	}
	return nil, w.Taker().Clear(ctx, cluster, record, report)
}
