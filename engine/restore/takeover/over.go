package takeover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
)

// PrepareOver looks for what stands in the way of giving a cluster's own files up for a copy that is to be laid over them.
func (k *Taker) PrepareOver(ctx context.Context, cluster catalog.Cluster, copy catalog.Copy, now time.Time) Plan {
	copy.State = catalog.CopyPaused // as it is to be
	p := &preparation{Taker: k, cluster: cluster, copy: copy, wish: Wish{Now: now}, over: true}
	if !p.begin(ctx) {
		return p.Plan
	}
	if p.Original.Gone {
		p.stop("Make the copy without --over-original.", "the original's directory is lost: there is nothing to lay over")
		return p.Plan
	}
	capture, err := k.Catalog.Capture(ctx, cluster.ID)
	if err != nil {
		p.stop("", "its capture: %v", err)
	} else if !capture.Wanted {
		p.stop("Begin it: velvet capture start "+cluster.Name, "the cluster is not captured: what it committed last would be lost for ever")
	}
	p.places()
	for _, at := range p.Brought {
		p.stop("Have copies be made on that file system, or make the copy without --over-original.",
			"%s is on another file system than copies, whose directory its files have to be moved into", at)
	}
	p.owner()
	return p.Plan
}

// GiveUp has the files of the original become those of a copy that is to be laid over them: the original is stopped, its last WAL
// captured, and its directories are moved into the copy's. On an error the original serves as before, and nothing is left of the copy;
// or the error says what a person must do.
func (k *Taker) GiveUp(ctx context.Context, cluster catalog.Cluster, copy catalog.Copy, task string, now time.Time,
	report task.Report) error {
	p := k.PrepareOver(ctx, cluster, copy, now)
	if len(p.Obstacles) > 0 {
		return errors.Join(&p.Obstacles[0], k.Copies.Remove(ctx, cluster, copy))
	}
	original, err := json.Marshal(p.Original)
	if err != nil {
		return err
	}
	if err := k.Catalog.SaveOriginal(ctx, cluster.ID, catalog.Original{Original: original, Host: copy.Host}); err != nil {
		return err
	}
	lease, err := k.own(ctx, cluster.ID)
	if err != nil {
		return err
	}
	defer lease.Release()
	t := catalog.Takeover{ID: catalog.NewID(), ClusterID: cluster.ID, CopyID: copy.ID, TaskID: task, Moment: copy.Moment,
		Step: catalog.TakeoverStopping, Original: original, Aside: p.Aside, Captured: true}
	if err := k.Catalog.AddTakeover(ctx, t); err != nil {
		return err
	}
	m := &move{Taker: k, cluster: cluster, copy: copy, record: t, original: p.Original, report: report}
	if m.Host, err = k.Copies.Machine(copy); err != nil {
		return err
	}
	m.dirs = m.own()
	err = m.steps(ctx, []step{{catalog.TakeoverStopping, m.stop}, {catalog.TakeoverHanding, m.hand}})
	if err == nil {
		return m.handed(ctx)
	}
	report.Warn("%v", err)
	why := err.Error()
	return errors.Join(err, m.patiently(context.WithoutCancel(ctx), func(ctx context.Context) error { return m.takeBack(ctx, why) }))
}

// own are the directories of the original, and those of the copy's that they become.
func (m *move) own() []moved {
	return append(tablespaces(m.cluster, m.original, m.copy),
		moved{original: m.original.DataDir, copy: copies.Server(m.copy, m.cluster.Major()).DataDir})
}

// hand moves the original's directories into the copy's, with its configuration of today beside them.
func (m *move) hand(context.Context) error {
	if err := m.idle(m.original); err != nil {
		return err
	}
	own, err := m.Host.Under(m.original.User)
	if err != nil {
		return err
	}
	today := make(map[string][]byte)
	for _, name := range configuration {
		if content, err := read(own, m.original.DataDir, name); err == nil {
			today[name] = content
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	var oids []uint32
	for oid := range m.original.Tablespaces {
		oids = append(oids, oid)
	}
	if err := m.Copies.MakeRoom(m.copy, oids, today); err != nil {
		return err
	}
	for _, d := range m.dirs {
		if err := m.Host.Move(d.original, d.copy); err != nil {
			return err
		}
	}
	moved := m.original
	moved.DataDir = m.data()
	return m.idle(moved) // of which one may have been begun between our look and the move
}

// handed records that the original's files are the copy's.
func (m *move) handed(ctx context.Context) error {
	if err := m.Catalog.EndTakeover(ctx, m.record.ID, catalog.TakeoverHanded, ""); err != nil {
		return err
	}
	m.recapture(ctx)
	return nil
}

// takeBack has the original's files be its own again, and serve if it did.
func (m *move) takeBack(ctx context.Context, why string) (unstarted error) {
	m.report.Log("going back: the original gets its files again")
	for _, d := range m.dirs {
		is, err := m.there(d.original)
		if err == nil && !is {
			err = m.Host.Move(d.copy, d.original)
		}
		if err != nil {
			return fmt.Errorf("going back failed: %w; what was the original's lies in %s; it is tried again when the host is in "+
				"reach, and when the service is started", err, m.copy.Directory)
		}
	}
	if m.original.Running {
		if err := m.Host.StartOriginal(ctx, m.original); err != nil {
			unstarted = fmt.Errorf("everything is where it was, but the original's server did not start; start it: %w", err)
			why += "; " + unstarted.Error()
		}
	}
	if err := m.Catalog.EndTakeover(ctx, m.record.ID, catalog.TakeoverBack, why); err != nil {
		return errors.Join(unstarted, err)
	}
	m.recapture(ctx)
	return errors.Join(unstarted, m.Copies.Remove(ctx, m.cluster, m.copy))
}

// read reads a small file of a directory.
func read(own host.Machine, dir, name string) ([]byte, error) {
	t, err := own.Files(dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = t.Close() }()
	return t.ReadFile(name)
}

// notCaptured refuses to give up what nobody else has.
func notCaptured(end, at pg.LSN) error {
	return problem.New(problem.Conflict, "Look at the capture: velvet capture status. Then begin again.", title,
		"it wrote WAL up to %s, and it was captured up to %s: laid over, the rest would be lost for ever", end, at)
}
