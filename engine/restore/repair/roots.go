package repair

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"velvetrewind/engine/host"
)

// root is a directory that files of the cluster lie in: the data directory, the version's own in a tablespace, or that of the WAL
// where a link leads to it.
type root struct {
	dir  string
	tree *host.Tree // nil for as long as it is not there

	once  sync.Once
	aside *host.Tree // beside it: what stood there; made when there is something
	kept  string
	err   error
}

// roots are those of a cluster.
type roots struct {
	data   *root
	below  map[string]*root // by the path at which they are found in the data directory
	suffix string
	host   *host.Host
}

// openRoots opens them. A tablespace whose place is there and empty is made anew where something is to be repaired.
func (r *run) openRoots() error {
	r.roots = roots{below: make(map[string]*root), suffix: r.Aside, host: r.host}
	data, err := r.host.RealTree(r.Original.DataDir)
	if err != nil {
		return err
	}
	r.roots.data = &root{dir: r.Original.DataDir, tree: data}
	for oid, at := range r.Original.Tablespaces {
		if err := r.openTablespace(oid, at); err != nil {
			return fmt.Errorf("tablespace %d: %w", oid, err)
		}
	}
	return r.openWAL()
}

func (r *run) openTablespace(oid uint32, at string) error {
	name := fmt.Sprintf("pg_tblspc/%d", oid)
	own := &root{dir: filepath.Join(at, r.Directory)}
	r.roots.below[name+"/"+r.Directory] = own
	link, err := r.roots.data.tree.Lstat(name)
	if r.Apply && (errors.Is(err, fs.ErrNotExist) || err == nil && link.Mode()&fs.ModeSymlink == 0) {
		err = errors.Join(r.roots.data.tree.MakeDir("pg_tblspc", 0o700), r.roots.data.tree.Link(at, name))
	}
	if err != nil && r.Apply {
		return err
	}
	if own.tree, err = r.host.RealTree(own.dir); !errors.Is(err, fs.ErrNotExist) || !r.Apply {
		if errors.Is(err, fs.ErrNotExist) {
			own.tree, err = nil, nil
		}
		return err
	}
	parent, err := r.host.RealTree(at)
	if errors.Is(err, fs.ErrNotExist) {
		var above *host.Tree
		if above, err = r.host.RealTree(filepath.Dir(at)); err != nil {
			return fmt.Errorf("its place is lost; make the directory %s, of the OS user %s: %w", at, r.Original.User, err)
		}
		err = errors.Join(above.MakeDir(filepath.Base(at), 0o700), above.SyncDir("."), above.Close())
		if err == nil {
			parent, err = r.host.RealTree(at)
		}
	}
	if err != nil {
		return err
	}
	if err = errors.Join(parent.MakeDir(r.Directory, 0o700), parent.SyncDir("."), parent.Close()); err == nil {
		own.tree, err = r.host.RealTree(own.dir)
	}
	return err
}

// walDir is where the server reads its WAL.
const walDir = "pg_wal"

// openWAL opens the directory that a link leads to.
func (r *run) openWAL() error {
	at := filepath.Join(r.Original.DataDir, walDir)
	info, err := r.roots.data.tree.Lstat(walDir)
	if errors.Is(err, fs.ErrNotExist) {
		if !r.Apply {
			return nil
		}
		return errors.Join(r.roots.data.tree.MakeDir(walDir, 0o700), r.roots.data.tree.MakeDir(walDir+"/archive_status", 0o700))
	}
	if err != nil || info.IsDir() {
		return err
	}
	real, err := filepath.EvalSymlinks(at)
	if err != nil {
		return fmt.Errorf("%s leads nowhere; make the directory that it names, of the OS user %s: %w", at, r.Original.User, err)
	}
	if r.Allowed != nil {
		if err := r.Allowed(real); err != nil {
			return err
		}
	}
	own := &root{dir: real}
	r.roots.below[walDir] = own
	own.tree, err = r.host.RealTree(real)
	return err
}

// find gives the root that a path of the data directory lies in, and its name there.
func (r *roots) find(name string) (*root, string) {
	for at, own := range r.below {
		if name == at {
			return own, "."
		}
		if rest, is := strings.CutPrefix(name, at+"/"); is {
			return own, rest
		}
	}
	return r.data, name
}

// keep gives the directory beside a root in which is kept what stood in it.
func (r *roots) keep(own *root) (*host.Tree, error) {
	own.once.Do(func() {
		parent, err := r.host.RealTree(filepath.Dir(own.dir))
		if err != nil {
			own.err = err
			return
		}
		name := filepath.Base(own.dir) + r.suffix
		err = errors.Join(parent.MakeDir(name, 0o700), parent.SyncDir("."), parent.Close())
		if err == nil {
			own.aside, err = r.host.RealTree(own.dir + r.suffix)
		}
		own.kept, own.err = own.dir+r.suffix, err
	})
	return own.aside, own.err
}

// each visits the roots that are there.
func (r *roots) each(visit func(*root) error) (err error) {
	if r.data == nil {
		return nil
	}
	for _, own := range r.below {
		if own.tree != nil {
			err = errors.Join(err, visit(own))
		}
	}
	return errors.Join(err, visit(r.data))
}

// sync has everything be safe.
func (r *roots) sync() error {
	return r.each(func(own *root) error { return own.tree.Sync() })
}

// asides lists what was made beside them.
func (r *roots) asides() []string {
	list := []string{}
	_ = r.each(func(own *root) error {
		if own.aside != nil {
			list = append(list, own.kept)
		}
		return nil
	})
	slices.Sort(list)
	return list
}

func (r *roots) close() {
	_ = r.each(func(own *root) error {
		if own.aside != nil {
			_ = own.aside.Close()
		}
		return own.tree.Close()
	})
}
