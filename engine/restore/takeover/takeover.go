// Package takeover puts a copy in the place of its original, on the host where that lies.
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
	"os"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/server/remains"
)

// Taker carries takeovers out.
type Taker struct {
	Catalog *catalog.Catalog
	Copies  *copies.Maker
	Host    *host.Host
	// Look has the captures be compared with what is wanted of them.
	Look func()
}

// Plan is what a takeover would do.
type Plan struct {
	Original  host.Original
	Aside     string            // what is appended to the names of what is set aside
	Obstacles []problem.Problem // without which it could be begun
}

// title begins the refusals.
const title = "the original was not touched"

// Prepare looks at the original's directory, or, where that is lost, at how it was last seen, and for what stands in the way.
func (k *Taker) Prepare(ctx context.Context, cluster catalog.Cluster, copy catalog.Copy, now time.Time) (p Plan) {
	p.Aside = ".velvet-aside-" + now.UTC().Format("20060102T150405Z")
	stop := func(next, why string, args ...any) {
		p.Obstacles = append(p.Obstacles, *problem.New(problem.Conflict, next, title, why, args...))
	}
	if copy.State != catalog.CopyPaused {
		stop("Make one with: velvet restore start "+cluster.Name+" MOMENT", "the copy is %s; only a paused one takes over", copy.State)
	}
	if copy.Host != "" {
		stop("Make a copy on the service's own host: velvet restore start "+cluster.Name+" MOMENT",
			"the copy is on another host than the original's place")
		return p
	}
	if cluster.DataDirectory == "" {
		stop("Grant the registered role pg_read_all_settings: velvet cluster ready "+cluster.Name,
			"where the original's data directory lies is not known")
		return p
	}
	var err error
	if p.Original, err = k.original(ctx, cluster); err != nil {
		stop("A takeover is for an original on the service's own host, of an OS user of --run-as.", "its data directory %s: %v",
			cluster.DataDirectory, err)
	}
	if p.Original.Standby {
		stop("Take over on the primary's host.", "%s is the directory of a standby, which follows another server", cluster.DataDirectory)
	}
	if len(p.Obstacles) > 0 {
		return p // the rest says nothing then
	}
	if file := p.Original.ConfigFile(); file != "" && p.Original.Gone {
		if _, err := os.Stat(file); err != nil {
			stop("Put it back; if the base backup holds it, it is in "+filepath.Join(copy.Directory, copies.OriginalConfiguration, "files",
				file), "the original's configuration is lost, too: %v", err)
		}
	}
	places := []string{filepath.Dir(p.Original.DataDir)}
	for _, at := range p.Original.Tablespaces {
		places = append(places, at)
	}
	for _, at := range places {
		if real, err := filepath.EvalSymlinks(at); err == nil && real != filepath.Clean(at) {
			stop("Make "+real+" the tablespace's place, without a link on the way.", "%s leads elsewhere, over a link: %s", at, real)
			continue
		}
		if same, err := host.SameFileSystem(copy.Directory, at); err != nil {
			stop("Make the directory, of the OS user "+p.Original.User+".", "there is no place for the copy: %v", err)
		} else if !same {
			stop("Serve with --copies on that file system, and make the copy there.",
				"the copy lies on another file system than %s, and cannot be moved there", at)
		}
	}
	if own, err := k.Host.TablespacesOf(p.Original.User, copies.Server(copy, cluster.Major()).DataDir); err != nil {
		stop("", "the copy's directory: %v", err)
	} else {
		for oid := range own {
			if p.Original.Tablespaces[oid] == "" {
				stop("Make the tablespace of the copy's, which was dropped since, a part of its directory by hand; or bring its rows home.",
					"the copy has the tablespace %d, and the original no longer has a place for it", oid)
			}
		}
	}
	if user := p.Original.User; copy.OSUser != "" && copy.OSUser != user || copy.OSUser == "" && user != k.Host.User() {
		stop("Have copies run as it: velvet cluster edit "+cluster.Name+" --copies-user "+user+"; then make the copy anew.",
			"the original belongs to the OS user %s, and the copy to another", user)
	}
	return p
}

// original is the cluster's server as it is run, or was when it was last seen.
func (k *Taker) original(ctx context.Context, cluster catalog.Cluster) (o host.Original, err error) {
	o, err = k.Host.Inspect(cluster.DataDirectory, cluster.SystemID)
	if !errors.Is(err, host.ErrGone) {
		return o, err
	}
	seen, e := k.Catalog.Original(ctx, cluster.ID)
	if e != nil || seen == nil {
		return o, errors.Join(err, e)
	}
	var was host.Original
	if e := json.Unmarshal(seen, &was); e != nil || was.DataDir != cluster.DataDirectory {
		return o, errors.Join(err, e)
	}
	was.Running, was.Gone = false, true
	return was, nil
}

// Remember records how a cluster's server is run, for the day on which its directory is lost. One that is not on this host is none.
func (k *Taker) Remember(ctx context.Context, cluster catalog.Cluster) error {
	o, err := k.Host.Inspect(cluster.DataDirectory, cluster.SystemID)
	if err != nil || !o.Running {
		return nil // it is elsewhere, or of somebody else
	}
	content, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return k.Catalog.SaveOriginal(ctx, cluster.ID, content)
}

// Begin takes over, to the end or back to where everything was. The error says why it went back.
func (k *Taker) Begin(ctx context.Context, cluster catalog.Cluster, copy catalog.Copy, task string, now time.Time,
	report task.Report) error {
	p := k.Prepare(ctx, cluster, copy, now)
	if len(p.Obstacles) > 0 {
		return &p.Obstacles[0]
	}
	capture, err := k.Catalog.Capture(ctx, cluster.ID)
	if err != nil {
		return err
	}
	original, err := json.Marshal(p.Original)
	if err != nil {
		return err
	}
	t := catalog.Takeover{ID: catalog.NewID(), ClusterID: cluster.ID, CopyID: copy.ID, TaskID: task, Moment: copy.Moment,
		Step: catalog.TakeoverOpening, Original: original, Aside: p.Aside, Captured: capture.Wanted}
	if err := k.Catalog.AddTakeover(ctx, t); err != nil {
		return err
	}
	m := &move{Taker: k, cluster: cluster, copy: copy, record: t, original: p.Original, report: report}
	if err := m.forward(ctx); err != nil {
		report.Warn("%v", err)
		return errors.Join(err, m.back(context.WithoutCancel(ctx), err.Error()))
	}
	return nil
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
	if err := json.Unmarshal(t.Original, &m.original); err != nil {
		return false, err
	}
	why := "the service ended meanwhile"
	if t.Step == catalog.TakeoverAside || t.Step == catalog.TakeoverPlacing || t.Step == catalog.TakeoverStarting {
		err := m.forward(ctx)
		if err == nil {
			return true, nil
		}
		why = err.Error()
	}
	return false, m.back(ctx, why)
}

// move is one takeover.
type move struct {
	*Taker
	cluster  catalog.Cluster
	copy     catalog.Copy
	record   catalog.Takeover
	original host.Original
	report   task.Report
}

// data is the copy's data directory, in its own place.
func (m *move) data() string { return copies.Server(m.copy, m.cluster.Major()).DataDir }

// forward does the steps from the recorded one on.
func (m *move) forward(ctx context.Context) error {
	steps := []struct {
		name string
		do   func(context.Context) error
	}{
		{catalog.TakeoverOpening, m.open}, {catalog.TakeoverStopping, m.stop}, {catalog.TakeoverAside, m.setAside},
		{catalog.TakeoverPlacing, m.place}, {catalog.TakeoverStarting, m.start},
	}
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
		if err := s.do(ctx); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		m.report.Log("%s: done in %.1f s", s.name, time.Since(began).Seconds())
	}
	if err := m.Catalog.EndTakeover(ctx, m.record.ID, catalog.TakeoverDone, ""); err != nil {
		return err
	}
	m.settle(ctx)
	return nil
}

// settle has capture go on, and removes what is left of the copy, which cannot be started any more. What fails of that is said, and
// stands in nobody's way.
func (m *move) settle(ctx context.Context) {
	if m.record.Captured {
		if err := m.Catalog.WantCapture(ctx, m.cluster.ID, true); err != nil {
			m.report.Warn("capture was not begun again: %v; begin it with: velvet capture start %s", err, m.cluster.Name)
		}
		m.Look()
	}
	if m.record.Step == catalog.TakeoverOpening || m.record.Step == catalog.TakeoverStopping {
		return // it is whole
	}
	if err := m.Copies.Remove(ctx, m.cluster, m.copy); err != nil {
		m.report.Warn("what is left of the copy in %s was not removed: %v", m.copy.Directory, err)
	}
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
