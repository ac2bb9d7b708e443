// Package leftovers finds what copies, takeovers and repairs hold on hosts, and removes what nobody needs any more.
//
// Invariant: what is recorded as somebody's is never removed here, but by who made it; and nothing is in which a server works. What
// can be removed is found again, at that moment, by looking at the host.
package leftovers

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/takeover"
)

// What something is.
const (
	Copy     = "copy"
	Aside    = "set aside"      // by a takeover
	Kept     = "kept by repair" // what stood where a repair has written
	Stranger = "not ours"       // in the directory of copies, and no copy that is recorded
)

// Leftover is something that takes room on a host.
type Leftover struct {
	Host      string // id, "" for the service's own
	Cluster   string // id; "" where that is not known
	What      string
	Path      string
	Bytes     int64
	Since     time.Time // zero where that is not known
	Removable bool      // by Remove
	How       string    // it is removed
}

// Finder looks for them.
type Finder struct {
	Catalog *catalog.Catalog
	Copies  *copies.Maker
}

// Find looks on the hosts that are in reach; of others it is told why not.
func (f *Finder) Find(ctx context.Context) (list []Leftover, unseen []string, err error) {
	clusters, err := f.Catalog.Clusters(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, on := range f.Copies.Hosts() {
		m, err := f.Copies.Machine(catalog.Copy{Host: on})
		if err != nil {
			unseen = append(unseen, err.Error())
			continue
		}
		for _, k := range clusters {
			found, err := f.ofCluster(ctx, m, on, k)
			if err != nil {
				unseen = append(unseen, fmt.Sprintf("of %s: %v", k.Name, err))
			}
			list = append(list, found...)
		}
		strangers, err := f.strangers(ctx, m, on)
		if err != nil {
			unseen = append(unseen, err.Error())
		}
		list = append(list, strangers...)
	}
	return list, unseen, nil
}

// ofCluster finds a cluster's copies on a host, and what was set aside of it there.
func (f *Finder) ofCluster(ctx context.Context, m host.Machine, on string, k catalog.Cluster) (list []Leftover, err error) {
	made, err := f.Catalog.Copies(ctx, k.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range made {
		if c.Host != on {
			continue
		}
		list = append(list, Leftover{Host: on, Cluster: k.ID, What: Copy, Path: c.Directory, Bytes: used(m, c.Directory),
			Since: c.CreatedAt, How: "velvet copy discard " + c.Name})
	}
	seen, err := f.Catalog.Original(ctx, k.ID)
	if err != nil || k.DataDirectory == "" || seen != nil && seen.Host != on || seen == nil && on != "" {
		return list, err
	}
	done, err := f.Catalog.Takeovers(ctx, k.ID)
	if err != nil {
		return list, err
	}
	dirs, err := directories(k, seen)
	if err != nil {
		return list, err
	}
	for _, dir := range dirs {
		found, err := m.Asides(dir)
		if err != nil {
			return list, err
		}
		for _, a := range found {
			list = append(list, aside(on, k, done, a))
		}
	}
	return list, nil
}

// aside says of a directory that was set aside by whom.
func aside(on string, k catalog.Cluster, done []catalog.Takeover, a host.Aside) Leftover {
	l := Leftover{Host: on, Cluster: k.ID, What: Kept, Path: a.Path, Bytes: a.Bytes, Since: a.At, Removable: true,
		How: "velvet host clear " + a.Path}
	for _, t := range done {
		if t.Aside != "" && strings.HasSuffix(a.Path, t.Aside) {
			l.What, l.Removable, l.How = Aside, false, "velvet restore takeover clear "+t.ID
		}
	}
	return l
}

// directories are those beside which things of a cluster are set aside.
func directories(k catalog.Cluster, seen *catalog.Original) ([]string, error) {
	o := host.Original{DataDir: k.DataDirectory}
	if seen != nil {
		was, err := seen.Server()
		if err != nil {
			return nil, err
		}
		o.Tablespaces = was.Tablespaces
	}
	return takeover.Aside(k, o, ""), nil
}

// strangers finds what lies in the directory of copies and is none that is recorded.
func (f *Finder) strangers(ctx context.Context, m host.Machine, on string) (list []Leftover, err error) {
	ground, err := f.Copies.GroundOn(on)
	if err != nil {
		return nil, err
	}
	made, err := f.Catalog.Copies(ctx, "")
	if err != nil {
		return nil, err
	}
	known := make(map[string]bool)
	for _, c := range made {
		known[filepath.Base(c.Directory)] = true
	}
	files, err := m.Files(ground.Dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = files.Close() }()
	entries, err := files.List(".")
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		path := filepath.Join(ground.Dir, e.Name)
		if !e.Dir || known[e.Name] || !catalog.ValidID(e.Name) { // only what has the name of a copy
			continue
		}
		list = append(list, Leftover{Host: on, What: Stranger, Path: path, Bytes: used(m, path), Removable: true,
			How: "velvet host clear " + path})
	}
	return list, nil
}

// used is how many bytes a directory takes; 0 where that cannot be told.
func used(m host.Machine, dir string) int64 {
	files, err := m.Files(dir)
	if err != nil {
		return 0
	}
	defer func() { _ = files.Close() }()
	n, err := files.Used()
	if err != nil {
		return 0
	}
	return n
}

// At finds what lies at a path of a host, and refuses what cannot be removed.
func (f *Finder) At(ctx context.Context, on, path string) (Leftover, error) {
	list, _, err := f.Find(ctx)
	if err != nil {
		return Leftover{}, err
	}
	i := slices.IndexFunc(list, func(l Leftover) bool { return l.Host == on && l.Path == path })
	if i < 0 {
		return Leftover{}, problem.New(problem.NotFound, "See what there is: velvet host leftovers", nothing,
			"nothing of ours is left at %s", path)
	}
	if l := list[i]; !l.Removable {
		return l, problem.New(problem.Conflict, "Remove it with: "+l.How, nothing, "%s is somebody's: %s", path, l.What)
	}
	return list[i], nil
}

const nothing = "nothing was removed"

// Remove removes it.
func (f *Finder) Remove(ctx context.Context, on, path string) error {
	l, err := f.At(ctx, on, path)
	if err != nil {
		return err
	}
	m, err := f.Copies.Machine(catalog.Copy{Host: on})
	if err != nil {
		return err
	}
	if l.What == Kept {
		return m.RemoveAside(path)
	}
	runs, starting, err := m.Runs(host.Server{DataDir: filepath.Join(path, "data"), Log: filepath.Join(path, "server.log")})
	if err == nil && (runs || starting) {
		err = problem.New(problem.Conflict, "Another service may have made it: ask there.", nothing, "a server works in %s", path)
	}
	if err != nil {
		return err
	}
	return m.RemoveTree(path)
}
