package takeover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore/copies"
)

// moved is a directory of the original's and the one of the copy's that takes its place.
type moved struct {
	original, copy string
	whence         string // directory of the copy's from which copy is brought, where that lies on another file system
}

// directories are those that both have: in each tablespace one of the version's own, and the data directory, which comes last.
func (m *move) directories() ([]moved, error) {
	from, err := m.Host.Spot(m.copy.Directory)
	if err != nil {
		return nil, err
	}
	list := append(tablespaces(m.cluster, m.original, m.copy), moved{original: m.original.DataDir,
		copy: copies.Server(m.copy, m.cluster.Major()).DataDir})
	for i, d := range list {
		to, err := m.Host.Spot(filepath.Dir(d.original))
		if err != nil {
			return nil, err
		}
		if to.Device != from.Device {
			list[i].copy, list[i].whence = d.original+host.BroughtName(m.copy.ID), d.copy
		}
	}
	return list, nil
}

func tablespaces(cluster catalog.Cluster, o host.Original, k catalog.Copy) (list []moved) {
	own := cluster.Version().TablespaceDirectory()
	for oid, at := range o.Tablespaces {
		list = append(list, moved{original: filepath.Join(at, own), copy: filepath.Join(copies.Tablespace(k, oid), own)})
	}
	return list
}

// bring has those of the copy's directories be beside their places that lie on another file system.
func (m *move) bring(ctx context.Context) error {
	for _, d := range m.dirs {
		if d.whence == "" {
			continue
		}
		is, err := m.there(d.whence)
		if err != nil {
			return err
		}
		if !is {
			continue // a tablespace that was made after the moment
		}
		m.report.Log("%s lies on another file system: it is copied to %s", d.whence, d.copy)
		if err := m.Host.Bring(ctx, m.original.User, d.whence, d.copy); err != nil {
			return err
		}
	}
	return nil
}

// unbring removes what was brought and does not serve.
func (m *move) unbring() (err error) {
	for _, d := range m.dirs {
		if d.whence != "" {
			err = errors.Join(err, m.Host.RemoveAside(d.copy))
		}
	}
	return err
}

// data is the copy's data directory, where it is moved from.
func (m *move) data() string { return m.dirs[len(m.dirs)-1].copy }

// setAside gives what is the original's another name.
func (m *move) setAside(context.Context) error {
	if err := m.idle(m.original); err != nil {
		return err
	}
	for _, d := range m.dirs {
		if is, err := m.there(d.original); m.original.Gone && !is {
			if err != nil {
				return err
			}
			continue
		}
		if err := m.Host.Move(d.original, d.original+m.record.Aside); err != nil {
			return err
		}
	}
	return m.idle(m.aside()) // of which one may have been begun between our look and the new name
}

// aside is the original by the name that it has when it is set aside.
func (m *move) aside() host.Original {
	o := m.original
	o.DataDir += m.record.Aside
	return o
}

// idle makes sure that no server runs on an original's directory.
func (m *move) idle(o host.Original) error {
	runs, err := m.Host.OriginalRunning(o)
	if err == nil && runs {
		err = fmt.Errorf("somebody has started the server in %s meanwhile", m.original.DataDir)
	}
	return err
}

// configuration is what a server reads of its data directory, and a DBA may have changed since the base backup.
var configuration = []string{"postgresql.conf", "postgresql.auto.conf", "pg_hba.conf", "pg_ident.conf"}

// place gives the copy's directories the original's names, its own last.
func (m *move) place(context.Context) error {
	own, err := m.Host.Under(m.original.User)
	if err != nil {
		return err
	}
	if _, err := own.Control(m.original.User, m.data()); !errors.Is(err, fs.ErrNotExist) { // else it stands in its place already
		if err != nil {
			return err
		}
		if err := m.configure(own); err != nil {
			return err
		}
	}
	for _, d := range m.dirs {
		if is, err := m.there(d.copy); err != nil {
			return err
		} else if !is && d.original != m.original.DataDir {
			continue // it was made after the moment, or stands in its place already
		}
		if err := m.Host.Move(d.copy, d.original); err != nil {
			return err
		}
	}
	return nil
}

// there tells whether something is at a path.
func (m *move) there(path string) (bool, error) {
	_, err := m.Host.Spot(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// configure gives the copy the original's configuration of today and its tablespaces' places.
func (m *move) configure(own host.Machine) error {
	is, err := own.Files(m.data())
	if err != nil {
		return err
	}
	defer func() { _ = is.Close() }()
	for _, name := range configuration {
		content, err := m.configurationOf(own, name)
		switch {
		case errors.Is(err, fs.ErrNotExist): // it lies elsewhere
			err = is.Remove(name)
		case err == nil:
			err = is.WriteFile(name, content, 0o600)
		}
		if err != nil {
			return err
		}
	}
	has, err := own.TablespacesOf(m.original.User, m.data())
	if err != nil {
		return err
	}
	for oid := range has {
		at := m.original.Tablespaces[oid]
		if err := is.Link(at, fmt.Sprintf("pg_tblspc/%d", oid)); err != nil {
			return err
		}
	}
	return is.Sync()
}

// configurationOf reads a file of the original's configuration: as it is today, or, where it is lost, as the base backup has it.
func (m *move) configurationOf(own host.Machine, name string) ([]byte, error) {
	if m.copy.Over {
		return read(own, filepath.Join(m.copy.Directory, copies.ConfigurationOfToday), name)
	}
	content, err := read(own, m.aside().DataDir, name)
	if m.original.Gone && errors.Is(err, fs.ErrNotExist) {
		return read(own, filepath.Join(m.copy.Directory, copies.OriginalConfiguration), name)
	}
	return content, err
}

// start begins the server as the original was begun, and makes sure that it is the copy.
func (m *move) start(ctx context.Context) error {
	if err := m.Host.StartOriginal(ctx, m.original); err != nil {
		return err
	}
	var p plan.Restore
	if err := json.Unmarshal(m.copy.Plan, &p); err != nil {
		return err
	}
	is, err := m.Host.Control(m.original.User, m.original.DataDir)
	switch {
	case err != nil:
		return err
	case is.SystemID != m.cluster.SystemID || is.Timeline <= p.Boundary.Timeline:
		return fmt.Errorf("the server that was started is not the copy: it is on timeline %d, and the moment on %d", is.Timeline,
			p.Boundary.Timeline)
	}
	return nil
}

// back puts everything where it was, has the original serve if it did, and removes the copy.
func (m *move) back(ctx context.Context, why string) (unstarted error) {
	m.report.Log("going back: everything is put where it was")
	set, err := m.there(m.aside().DataDir)
	if err != nil {
		return m.stuck(err)
	}
	if set || m.original.Gone {
		for _, o := range []host.Original{m.original, m.aside()} {
			if err := m.Host.StopOriginal(ctx, o); err != nil {
				return m.stuck(err)
			}
		}
	}
	for _, d := range m.dirs {
		if err := m.putBack(d); err != nil {
			return m.stuck(err)
		}
	}
	if err := m.admit(ctx); err != nil {
		return m.stuck(err)
	}
	if err := m.unbring(); err != nil {
		m.report.Warn("what was brought was not removed: %v", err)
	}
	if m.original.Running {
		if err := m.Host.StartOriginal(ctx, m.original); err != nil {
			if errors.Is(err, wire.ErrOutOfReach) {
				return m.stuck(err)
			}
			unstarted = fmt.Errorf("everything is where it was, but the original's server did not start; start it: %w", err)
			why += "; " + unstarted.Error()
		}
	}
	if err := m.Catalog.EndTakeover(ctx, m.record.ID, catalog.TakeoverBack, why); err != nil {
		return errors.Join(unstarted, err)
	}
	m.settle(ctx, false)
	return unstarted
}

// putBack gives the copy's directory its own name again, if it has the original's, and then the original's to what was set aside.
func (m *move) putBack(d moved) error {
	aside := d.original + m.record.Aside
	isAside, err1 := m.there(aside)
	isPlaced, err2 := m.there(d.original)
	isCopy, err3 := m.there(d.copy)
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	if !isAside {
		if m.original.Gone && isPlaced && !isCopy { // there was nothing to set aside
			return m.Host.Move(d.original, d.copy)
		}
		return nil // it was never set aside
	}
	if isPlaced {
		if m.record.Step == catalog.TakeoverAside {
			return nil // nothing was placed yet: the original has its name, and somebody else's has the other
		}
		if err := m.Host.Move(d.original, d.copy); err != nil {
			return err
		}
	}
	return m.Host.Move(aside, d.original)
}

// stuck says what a person must do where going back failed.
func (m *move) stuck(err error) error {
	return fmt.Errorf("going back failed: %w; what was the original's has %s at the end of its name, and what is the copy's lies in %s; "+
		"it is tried again when the host is in reach, and when the service is started", err, m.record.Aside, m.copy.Directory)
}

// Aside lists the directories that a takeover sets aside, by the names that they have then.
func Aside(cluster catalog.Cluster, o host.Original, suffix string) []string {
	list := []string{o.DataDir + suffix}
	for _, d := range tablespaces(cluster, o, catalog.Copy{}) {
		list = append(list, d.original+suffix)
	}
	return list
}

// kept is how long what was set aside is kept before it is offered for deletion: whoever was wrong finds out meanwhile.
const kept = 7 * 24 * time.Hour

// KeptUntil is when what a takeover that is done has set aside is offered for deletion. Nothing removes it by itself.
func KeptUntil(t catalog.Takeover) time.Time { return t.EndedAt.Time.Add(kept) }

// Clear removes what a takeover that is done has set aside.
func (k *Taker) Clear(ctx context.Context, cluster catalog.Cluster, t catalog.Takeover, report task.Report) error {
	const title = "nothing was removed"
	if t.Step != catalog.TakeoverDone || t.RemovedAt.Valid {
		return problem.New(problem.Conflict, "", title, "nothing of it is set aside")
	}
	var o host.Original
	if err := json.Unmarshal(t.Original, &o); err != nil {
		return err
	}
	copy, err := k.Catalog.Copy(ctx, t.CopyID)
	if err != nil {
		return err
	}
	machine, err := k.Copies.Machine(copy)
	if err != nil {
		return err
	}
	set := o
	set.DataDir += t.Aside
	if runs, err := machine.OriginalRunning(set); err != nil {
		return err
	} else if runs {
		return problem.New(problem.Conflict, "Stop it first.", title, "a server runs on %s", set.DataDir)
	}
	control, err := machine.Control(o.User, set.DataDir)
	if err == nil && control.SystemID != cluster.SystemID {
		err = fmt.Errorf("it is of another cluster")
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return problem.Wrap(err, problem.Conflict, title, "Look at "+set.DataDir+".")
	}
	for _, dir := range Aside(cluster, o, t.Aside) {
		if err := machine.RemoveAside(dir); err != nil {
			return err
		}
		report.Log("%s is removed", dir)
	}
	return k.Catalog.AsideRemoved(ctx, t.ID)
}
