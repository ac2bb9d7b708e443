package takeover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
)

// moved is a directory of the original's and the one of the copy's that takes its place.
type moved struct{ original, copy string }

// tablespaces are those that both have: in each lies a directory of the version's own.
func (m *move) tablespaces() (list []moved) {
	own := m.cluster.Version().TablespaceDirectory()
	for oid, at := range m.original.Tablespaces {
		list = append(list, moved{filepath.Join(at, own), filepath.Join(copies.Tablespace(m.copy, oid), own)})
	}
	return list
}

// setAside gives what is the original's another name.
func (m *move) setAside(context.Context) error {
	if m.Host.OriginalRunning(m.original) {
		return fmt.Errorf("somebody has started the server in %s meanwhile", m.original.DataDir)
	}
	for _, d := range append(m.tablespaces(), moved{original: m.original.DataDir}) {
		if m.original.Gone && !there(d.original) {
			continue
		}
		if err := host.Move(d.original, d.original+m.record.Aside); err != nil {
			return err
		}
	}
	set := m.original
	set.DataDir += m.record.Aside
	if m.Host.OriginalRunning(set) { // begun between our look and the new name
		return fmt.Errorf("somebody has started the server in %s meanwhile", m.original.DataDir)
	}
	return nil
}

// configuration is what a server reads of its data directory, and a DBA may have changed since the base backup.
var configuration = []string{"postgresql.conf", "postgresql.auto.conf", "pg_hba.conf", "pg_ident.conf"}

// place gives the copy's directories the original's names, its own last.
func (m *move) place(context.Context) error {
	own, err := m.Host.As(m.original.User)
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
	for _, d := range m.tablespaces() {
		if !there(d.copy) {
			continue // it was made after the moment, or stands in its place already
		}
		if err := host.Move(d.copy, d.original); err != nil {
			return err
		}
	}
	return host.Move(m.data(), m.original.DataDir)
}

func there(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// configure gives the copy the original's configuration of today and its tablespaces' places.
func (m *move) configure(own *host.Host) error {
	is, err := own.Tree(m.data())
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
func (m *move) configurationOf(own *host.Host, name string) ([]byte, error) {
	read := func(dir string) ([]byte, error) {
		t, err := own.Tree(dir)
		if err != nil {
			return nil, err
		}
		defer func() { _ = t.Close() }()
		return t.ReadFile(name)
	}
	content, err := read(m.original.DataDir + m.record.Aside)
	if m.original.Gone && errors.Is(err, fs.ErrNotExist) {
		return read(filepath.Join(m.copy.Directory, copies.OriginalConfiguration))
	}
	return content, err
}

// start begins the server as the original was begun, and makes sure that it is the copy.
func (m *move) start(ctx context.Context) error {
	if !m.Host.OriginalRunning(m.original) {
		if err := m.Host.StartOriginal(ctx, m.original); err != nil {
			return err
		}
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
	aside := m.original
	aside.DataDir += m.record.Aside
	for _, o := range []host.Original{m.original, aside} {
		if _, err := m.Host.Control(o.User, aside.DataDir); err != nil && !m.original.Gone { // nothing was set aside
			break
		}
		if err := m.Host.StopOriginal(ctx, o); err != nil {
			return m.stuck(err)
		}
	}
	for _, d := range append(m.tablespaces(), moved{m.original.DataDir, m.data()}) {
		if err := m.putBack(d); err != nil {
			return m.stuck(err)
		}
	}
	if m.original.Running && !m.Host.OriginalRunning(m.original) {
		if err := m.Host.StartOriginal(ctx, m.original); err != nil {
			unstarted = fmt.Errorf("everything is where it was, but the original's server did not start; start it: %w", err)
			why += "; " + unstarted.Error()
		}
	}
	if err := m.Catalog.EndTakeover(ctx, m.record.ID, catalog.TakeoverBack, why); err != nil {
		return errors.Join(unstarted, err)
	}
	m.settle(ctx)
	return unstarted
}

// putBack gives the copy's directory its own name again, if it has the original's, and then the original's to what was set aside.
func (m *move) putBack(d moved) error {
	aside := d.original + m.record.Aside
	if !there(aside) {
		if m.original.Gone && there(d.original) && !there(d.copy) { // there was nothing to set aside
			return host.Move(d.original, d.copy)
		}
		return nil // it was never set aside
	}
	if there(d.original) {
		if m.record.Step == catalog.TakeoverAside {
			return nil // nothing was placed yet: the original has its name, and somebody else's has the other
		}
		if err := host.Move(d.original, d.copy); err != nil {
			return err
		}
	}
	return host.Move(aside, d.original)
}

// stuck says what a person must do where going back failed.
func (m *move) stuck(err error) error {
	return fmt.Errorf("going back failed: %w; what was the original's has %s at the end of its name, and what is the copy's lies in %s; "+
		"the service tries again when it is started", err, m.record.Aside, m.copy.Directory)
}

// Aside lists the directories that a takeover sets aside, by the names that they have then.
func Aside(cluster catalog.Cluster, o host.Original, suffix string) []string {
	m := &move{cluster: cluster, original: o}
	list := []string{o.DataDir + suffix}
	for _, d := range m.tablespaces() {
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
	set := o
	set.DataDir += t.Aside
	if k.Host.OriginalRunning(set) {
		return problem.New(problem.Conflict, "Stop it first.", title, "a server runs on %s", set.DataDir)
	}
	control, err := k.Host.Control(o.User, set.DataDir)
	if err == nil && control.SystemID != cluster.SystemID {
		err = fmt.Errorf("it is of another cluster")
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return problem.Wrap(err, problem.Conflict, title, "Look at "+set.DataDir+".")
	}
	for _, dir := range Aside(cluster, o, t.Aside) {
		if err := k.Host.RemoveTree(dir); err != nil {
			return err
		}
		report.Log("%s is removed", dir)
	}
	return k.Catalog.AsideRemoved(ctx, t.ID)
}
