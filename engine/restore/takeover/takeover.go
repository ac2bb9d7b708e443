// Package takeover puts a copy in the place of its original, on the host where that lies, or, where that host is lost, on another.
//
// Invariant: each step is recorded before anything of it is done, and can be done again; until the new server is started, going
// back leaves everything where it was. What was the original's is set aside under another name, never written to, and removed by
// Clear alone. No two servers run on one directory, and no client reaches the copy before it stands in its place, opened
// and whole. Whether the copy is right is for a proof to say, and the word to begin for a person.
package takeover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/server/remains"
)

// Taker carries takeovers out.
type Taker struct {
	Catalog *catalog.Catalog
	Copies  *copies.Maker
	// Serves tells whether a cluster's server answers at its address.
	Serves func(ctx context.Context, cluster catalog.Cluster) bool
	// Doors tells how clients of a cluster come in, and Disconnect ends their sessions; left are those that may not be ended.
	Doors      func(ctx context.Context, cluster catalog.Cluster) (Doors, error)
	Disconnect func(ctx context.Context, cluster catalog.Cluster) (left int, err error)
	// Look has the captures be compared with what is wanted of them.
	Look func()
}

// Plan is what a takeover would do.
type Plan struct {
	Original  host.Original
	Moves     bool              // to another host than it was on
	HBA       string            // pg_hba.conf by which clients are refused ahead of the stop; "" where they are not
	Brought   []string          // places on another file system than the copy's, to which its directories are copied first
	Aside     string            // what is appended to the names of what is set aside
	Obstacles []problem.Problem // without which it could be begun
}

// title begins the refusals.
const title = "the original was not touched"

// Begin takes over, to the end or back to where everything was. The error says why it went back.
func (k *Taker) Begin(ctx context.Context, cluster catalog.Cluster, copy catalog.Copy, task string, w Wish, report task.Report) error {
	p := k.Prepare(ctx, cluster, copy, w)
	if len(p.Obstacles) > 0 {
		return &p.Obstacles[0]
	}
	machine, err := k.Copies.Machine(copy)
	if err != nil {
		return err
	}
	capture, err := k.Catalog.Capture(ctx, cluster.ID)
	if err != nil {
		return err
	}
	original, err := json.Marshal(p.Original)
	if err != nil {
		return err
	}
	lease, err := k.own(ctx, cluster.ID)
	if err != nil {
		return err
	}
	defer lease.Release()
	t := catalog.Takeover{ID: catalog.NewID(), ClusterID: cluster.ID, CopyID: copy.ID, TaskID: task, Moment: copy.Moment,
		Step: catalog.TakeoverRefusing, Original: original, Aside: p.Aside, Captured: capture.Wanted, HBA: p.HBA}
	if err := k.Catalog.AddTakeover(ctx, t); err != nil {
		return err
	}
	m := &move{Taker: k, Host: machine, cluster: cluster, copy: copy, record: t, original: p.Original, report: report}
	if m.dirs, err = m.directories(); err == nil {
		err = m.forward(ctx)
	}
	if err == nil {
		if p.Moves {
			report.Warn("the cluster is on another host now: lead its clients there, and have it be captured there: "+
				"velvet cluster edit %s --help", cluster.Name)
		}
		return nil
	}
	report.Warn("%v", err)
	if errors.Is(err, wire.ErrOutOfReach) {
		return fmt.Errorf("%w; what was begun is finished, or taken back, when the host is in reach again", err)
	}
	why := err.Error()
	return errors.Join(err, m.patiently(context.WithoutCancel(ctx), func(ctx context.Context) error { return m.back(ctx, why) }))
}

// own takes the right to carry out a takeover of a cluster.
func (k *Taker) own(ctx context.Context, cluster string) (*catalog.Lease, error) {
	lease, ok, err := k.Catalog.OwnTakeover(ctx, cluster)
	if err == nil && !ok {
		err = problem.New(problem.Conflict, "Watch it with: velvet task list", title,
			"another instance carries out a takeover of the cluster")
	}
	return lease, err
}

// Resume goes on with the takeover of a task whose instance died: to the end once the original was set aside, else back. It tells
// whether the takeover is done.
func (k *Taker) Resume(ctx context.Context, t catalog.Takeover, report task.Report) (done bool, err error) {
	if t.EndedAt.Valid {
		return t.Step == catalog.TakeoverDone, nil
	}
	m := &move{Taker: k, record: t, report: report}
	if m.copy, m.cluster, err = k.Catalog.CopyAndCluster(ctx, t.CopyID); err != nil {
		return false, err
	}
	if m.Host, err = k.Copies.Machine(m.copy); err != nil {
		return false, err
	}
	if err := json.Unmarshal(t.Original, &m.original); err != nil {
		return false, err
	}
	over := m.copy.Over && !m.copy.Complete() // its files were being handed over
	if err := m.here(over); err != nil {
		return false, err
	}
	if over {
		m.dirs = m.own()
	} else if m.dirs, err = m.directories(); err != nil {
		return false, err
	}
	lease, err := k.own(ctx, t.ClusterID)
	if err != nil {
		return false, err
	}
	defer lease.Release()
	why := "it was interrupted"
	if over {
		return false, m.takeBack(ctx, why)
	}
	if t.Step == catalog.TakeoverAside || t.Step == catalog.TakeoverPlacing || t.Step == catalog.TakeoverStarting {
		err := m.forward(ctx)
		if err == nil || errors.Is(err, wire.ErrOutOfReach) {
			return err == nil, err
		}
		why = err.Error()
	}
	return false, m.back(ctx, why)
}

// here makes sure that the takeover took place on this machine: the copy's directory is there, or, where it may not have been made yet,
// the original's.
func (m *move) here(over bool) error {
	is, err := m.there(m.copy.Directory)
	if err == nil && !is && over {
		is, err = m.there(m.original.DataDir)
	}
	if err == nil && !is {
		err = fmt.Errorf("the copy's directory %s is not on this host", m.copy.Directory)
	}
	return err
}

// move is one takeover.
type move struct {
	*Taker
	Host     host.Machine // where it takes place
	cluster  catalog.Cluster
	copy     catalog.Copy
	record   catalog.Takeover
	original host.Original
	dirs     []moved
	report   task.Report
}

// step is a part of a takeover.
type step struct {
	name string
	do   func(context.Context) error
}

// forward does the steps from the recorded one on.
func (m *move) forward(ctx context.Context) error {
	err := m.steps(ctx, []step{
		{catalog.TakeoverRefusing, m.refuse}, {catalog.TakeoverOpening, m.open}, {catalog.TakeoverBringing, m.bring},
		{catalog.TakeoverStopping, m.stop}, {catalog.TakeoverAside, m.setAside}, {catalog.TakeoverPlacing, m.place},
		{catalog.TakeoverStarting, m.start},
	})
	if err != nil {
		return err
	}
	serves := m.original
	serves.Running, serves.Gone = true, false
	content, err := json.Marshal(serves)
	if err != nil {
		return err
	}
	if err := m.Catalog.SaveOriginal(ctx, m.cluster.ID, catalog.Original{Original: content, Host: m.copy.Host}); err != nil {
		return err
	}
	if err := m.Catalog.EndTakeover(ctx, m.record.ID, catalog.TakeoverDone, ""); err != nil {
		return err
	}
	m.settle(ctx, true)
	return nil
}

// steps does those from the recorded one on.
func (m *move) steps(ctx context.Context, steps []step) error {
	from := 0
	for i, s := range steps {
		if s.name == m.record.Step {
			from = i
		}
	}
	for i, s := range steps[from:] {
		if err := m.Catalog.TakeoverStep(ctx, m.record.ID, s.name); err != nil {
			return err
		}
		m.record.Step = s.name
		m.report.Progress(int64(from+i), int64(len(steps)), task.Steps, s.name)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if s.name == catalog.TakeoverStarting {
			ctx = context.WithoutCancel(ctx) // clients may be in, and what they commit stays
		}
		began := time.Now()
		if err := m.patiently(ctx, s.do); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		m.report.Log("%s: done in %.1f s", s.name, time.Since(began).Seconds())
	}
	return nil
}

// patience is how long a host may be out of reach before a takeover on it is left as it is.
const patience = time.Minute

// patiently does a step again where the host was out of reach meanwhile.
func (m *move) patiently(ctx context.Context, step func(context.Context) error) error {
	began := time.Now()
	for said := false; ; said = true {
		err := step(ctx)
		if !errors.Is(err, wire.ErrOutOfReach) || time.Since(began) > patience {
			return err
		}
		if !said {
			m.report.Warn("%v; it is tried again for %s", err, patience)
		}
		select {
		case <-ctx.Done():
			return errors.Join(context.Cause(ctx), err)
		case <-time.After(10 * askEvery):
		}
		if machine, err := m.Copies.Machine(m.copy); err == nil {
			m.Host = machine // over a new connection
		}
	}
}

// settle has capture go on, and removes what is left of the copy, which cannot be started any more. What fails of that is said, and
// stands in nobody's way.
func (m *move) settle(ctx context.Context, done bool) {
	m.recapture(ctx)
	switch m.record.Step {
	case catalog.TakeoverRefusing, catalog.TakeoverOpening, catalog.TakeoverBringing, catalog.TakeoverStopping:
		return // it is whole
	}
	if m.copy.Over && !done { // nothing else is left of the original's files
		m.copy.Problem = "it was opened to take over, and did not; have it be laid over anew: velvet copy step " + m.copy.Name + " MOMENT"
		if err := m.Copies.Drop(ctx, m.cluster, m.copy); err != nil {
			m.report.Warn("the copy's server was not ended: %v", err)
		}
		return
	}
	if err := m.Copies.Remove(ctx, m.cluster, m.copy); err != nil {
		m.report.Warn("what is left of the copy in %s was not removed: %v", m.copy.Directory, err)
	}
}

// recapture has capture go on, if it was wanted.
func (m *move) recapture(ctx context.Context) {
	if !m.record.Captured {
		return
	}
	if err := m.Catalog.WantCapture(ctx, m.cluster.ID, true); err != nil {
		m.report.Warn("capture was not begun again: %v; begin it with: velvet capture start %s", err, m.cluster.Name)
	}
	m.Look()
}

// open ends the copy's recovery where nobody reaches it, gives it our slot, so that no WAL of the new timeline is lost to capture,
// and stops it.
func (m *move) open(ctx context.Context) error {
	if m.copy.State == catalog.CopyPaused {
		if err := m.Copies.Seclude(ctx, m.cluster, m.copy); err != nil {
			return err
		}
		if err := m.Copies.Open(ctx, m.cluster, m.copy, m.report); err != nil {
			return err
		}
		m.copy.State = catalog.CopyOpen
	}
	conn, err := copies.Connect(ctx, m.Host, m.copy, m.cluster, "template1")
	if err != nil {
		return err
	}
	_, err = conn.Exec(ctx, `select pg_catalog.pg_create_physical_replication_slot($1::pg_catalog.name, true)
		where not exists (select from pg_catalog.pg_replication_slots where slot_name operator(pg_catalog.=) $1::pg_catalog.name)`,
		pgx.QueryExecModeExec, m.cluster.Slot)
	if err = errors.Join(err, conn.Close(ctx)); err != nil {
		return fmt.Errorf("make the slot %s: %w", m.cluster.Slot, err)
	}
	return m.Copies.Rest(ctx, m.cluster, m.copy)
}

// How long the original's last WAL may take to be captured, and the capture to end.
const (
	captureEnds = 30 * time.Second
	askEvery    = 100 * time.Millisecond
)

// stop ends the original, has its last WAL captured, and then the capture end.
func (m *move) stop(ctx context.Context) error {
	if err := m.Host.StopOriginal(ctx, m.original); err != nil {
		return err
	}
	if err := m.admit(ctx); err != nil { // what is set aside, and what takes its place, has its own again
		return err
	}
	if !m.record.Captured {
		m.report.Warn("the cluster was not captured: its last WAL is in what is set aside alone")
		return nil
	}
	if err := m.lastWAL(ctx); err != nil {
		return err
	}
	if err := m.Catalog.WantCapture(ctx, m.cluster.ID, false); err != nil {
		return err
	}
	m.Look()
	return m.until(ctx, captureEnds, func() (bool, error) {
		k, err := m.Catalog.Capture(ctx, m.cluster.ID)
		return k.State == catalog.CaptureStopped, err
	}, "the capture did not end")
}

// lastWAL has the original's last WAL captured, if there is any.
func (m *move) lastWAL(ctx context.Context) error {
	if m.original.Gone {
		return nil
	}
	control, err := m.Host.Control(m.original.User, m.original.DataDir)
	if err != nil {
		return err
	}
	reached, err := m.endOfWAL(ctx, control)
	if err != nil && m.copy.Over {
		return fmt.Errorf("where the original's WAL ends cannot be told: %w", err)
	}
	if err != nil {
		m.report.Warn("where the original's WAL ends cannot be told: %v", err)
	}
	return m.captured(ctx, control.Timeline, reached)
}

// endOfWAL is where the WAL of the original ends, which does not run: as its control file says, or, where it was not stopped in order,
// as its WAL does.
func (m *move) endOfWAL(ctx context.Context, control pg.Control) (pg.LSN, error) {
	if control.State == pg.ShutDown {
		return control.Checkpoint + 1, nil // of the record by which it was shut down nobody needs the end
	}
	k, err := m.Catalog.Capture(ctx, m.cluster.ID)
	if err != nil || k.FlushedLSN == 0 {
		return control.Checkpoint + 1, err
	}
	left, err := remains.Open(m.Host, m.original.DataDir, m.cluster.SystemID, m.cluster.SegmentSize)
	if err != nil {
		return control.Checkpoint + 1, err
	}
	end, err := left.End(ctx, control.Timeline, k.FlushedLSN, nil)
	return max(end, control.Checkpoint+1), errors.Join(err, left.Close())
}

// captured waits until capture has all that the stopped original wrote.
func (m *move) captured(ctx context.Context, t pg.Timeline, end pg.LSN) error {
	var at pg.LSN
	err := m.until(ctx, captureEnds, func() (bool, error) {
		k, err := m.Catalog.Capture(ctx, m.cluster.ID)
		at = k.FlushedLSN
		return k.Timeline == t && at >= end, err
	}, "not all of it was captured")
	if errors.Is(err, errInTime) && m.copy.Over && !m.original.Gone {
		return notCaptured(end, at)
	}
	if errors.Is(err, errInTime) {
		m.report.Warn("the original wrote WAL up to %s, and it was captured up to %s: the rest is in %s alone", end, at,
			m.original.DataDir+m.record.Aside+"/pg_wal")
		return nil
	}
	return err
}

var errInTime = errors.New("not in time")

func (m *move) until(ctx context.Context, span time.Duration, holds func() (bool, error), otherwise string) error {
	for began := time.Now(); ; {
		if is, err := holds(); is || err != nil {
			return err
		}
		if time.Since(began) > span {
			return fmt.Errorf("%s within %s: %w", otherwise, span, errInTime)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(askEvery):
		}
	}
}
