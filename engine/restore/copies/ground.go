package copies

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"velvetrewind/core/figures"
	"velvetrewind/core/plan"
	"velvetrewind/core/problem"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/store/place"
)

// Ground is where copies stand on one host.
type Ground struct {
	Host    host.Machine
	Dir     string // below it each copy has a directory
	Program string // the velvet that recovering servers call
	Service string // base URL for deliveries
	// Certificate is the one that the service shows there, in DER; none without TLS.
	Certificate []byte
	// Authority signs the one that it shows instead, in DER, where that is made anew from time to time.
	Authority []byte
	// What may stand there at once, and which versions of PostgreSQL are installed; 0 and nil where that is not limited or known.
	MostCopies int
	MostBytes  int64
	Majors     []int
	// LayOut lays out a base from the host itself, which may not be able to: then ErrNoStore. nil where the service is there.
	LayOut func(ctx context.Context, order LayOrder, report task.Report) (restore.Laid, error)
}

// ErrNoStore says that a host does not reach the store.
var ErrNoStore = errors.New("the host does not reach the store")

// LayOrder is a base to be laid out in a copy's directory.
type LayOrder struct {
	Store           place.Place
	Cluster, Backup string
	OSUser          string
	Directory       string
	Over            bool   // something of a copy stands there
	Lacks           string // of a partial copy: the file there that lists what it lacks
	Total           int64
}

// on gives the maker on a host, "" for the service's own.
func (c *Maker) on(host string) (*Maker, error) {
	own := *c
	if host == "" {
		return &own, nil
	}
	if c.Elsewhere == nil {
		return nil, problem.New(problem.Unreachable, "Serve with an address for host agents: --agents", "the copy was not touched",
			"it is on a host with an agent, and this service listens for none")
	}
	var err error
	own.Ground, err = c.Elsewhere(host)
	return &own, err
}

// GroundOn is where copies stand on a host, "" for the service's own.
func (c *Maker) GroundOn(host string) (Ground, error) {
	own, err := c.on(host)
	return own.Ground, err
}

// Hosts lists those that can be asked now, the service's own, "", first.
func (c *Maker) Hosts() []string {
	list := []string{""}
	if c.InReach != nil {
		list = append(list, c.InReach()...)
	}
	return list
}

// Machine is the host that a copy is on.
func (c *Maker) Machine(k catalog.Copy) (host.Machine, error) {
	own, err := c.on(k.Host)
	if err != nil {
		return nil, err
	}
	return own.Host, nil
}

// admits refuses a copy that a host with an agent does not have the programs for, or that its own limits do not allow.
func (c *Maker) admits(ctx context.Context, on string, cluster catalog.Cluster, base string) error {
	const title = "the copy was not made"
	if !slices.Contains(c.Majors, cluster.Major()) {
		install := fmt.Sprintf("Install the package postgresql-%d there, or choose another host.", cluster.Major())
		return problem.New(problem.Conflict, install, title, "PostgreSQL %d is not installed on the host", cluster.Major())
	}
	held, bytes, err := c.Catalog.HeldOn(ctx, on)
	if err != nil {
		return err
	}
	b, err := c.Catalog.Backup(ctx, base)
	if err != nil {
		return err
	}
	const next = "Discard a copy there that is no longer needed, choose another host, or raise the limit in the host's own host.yaml."
	switch {
	case c.MostCopies > 0 && held >= c.MostCopies:
		return problem.New(problem.Full, next, title, "the host allows %d at once, and so many copies stand there", c.MostCopies)
	case c.MostBytes > 0 && bytes+b.BytesHeld > c.MostBytes:
		return problem.New(problem.Full, next, title, "the host allows copies of %s together; %s are taken, and it needs %s",
			figures.Size(c.MostBytes), figures.Size(bytes), figures.Size(b.BytesHeld))
	}
	return nil
}

// layOut has the host lay out a base itself, if it can, or lays it out there.
func (c *Maker) layOut(ctx context.Context, k catalog.Copy, b catalog.Backup, trees restore.Trees, over bool, part *part,
	report task.Report) (restore.Laid, error) {
	if c.LayOut != nil {
		order := LayOrder{Store: c.Place.For(c.Store, b.ClusterID), Cluster: b.ClusterID, Backup: b.ID, OSUser: k.OSUser,
			Directory: k.Directory, Over: over, Total: b.BytesHeld}
		if part != nil {
			order.Lacks = lacksFile
		}
		laid, err := c.LayOut(ctx, order, report)
		if !errors.Is(err, ErrNoStore) {
			return laid, err
		}
		report.Log("%v; it is laid out through the service", err)
	}
	switch {
	case part != nil:
		return restore.LayOutPart(ctx, c.Store, b.ClusterID, b.ID, trees, part.lacks, b.BytesHeld, report)
	case over:
		return restore.LayOver(ctx, c.Store, b.ClusterID, b.ID, trees, b.BytesHeld, report)
	}
	return restore.LayOut(ctx, c.Store, b.ClusterID, b.ID, trees, b.BytesHeld, report)
}

// TreesIn are the trees of a copy whose directory is open.
func TreesIn(f host.Files) restore.Trees {
	return restore.Trees{Files: f, Data: dataDir, Tablespaces: tablespaces, Config: OriginalConfiguration}
}

// Site is where a copy would stand, and what stands in the way.
type Site struct {
	Directory, User string
	Bytes, Free     int64
	Memory, Buffers int64 // bytes that are free, and that its server would take for pages
	Obstacles       []error
}

// leastMemory is how many bytes have to be free for the server of a copy.
const leastMemory = 256 << 20

// hasMemory refuses a copy for whose server there is too little memory. It returns what is free.
func (c *Maker) hasMemory(title string) (free int64, err error) {
	free, err = c.Host.FreeMemory()
	if err == nil && free < leastMemory {
		err = problem.New(problem.Full, "Discard a copy there that is no longer needed, or choose another host with --host.", title,
			"its server needs %s of memory, and %s are free", figures.Size(leastMemory), figures.Size(free))
	}
	return free, err
}

// Survey looks at where a copy would stand. What stands in the way is no error but an obstacle.
func (c *Maker) Survey(ctx context.Context, cluster catalog.Cluster, p plan.Restore, w Wish) (s Site, err error) {
	b, err := c.Catalog.Backup(ctx, p.Base)
	if err != nil {
		return s, err
	}
	s.Bytes = b.BytesHeld
	own, err := c.on(w.Host)
	if err != nil {
		s.Obstacles = append(s.Obstacles, err)
		return s, nil
	}
	s.Directory = own.Dir
	user := cluster.CopiesUser
	if w.Host != "" {
		user = ""
		if err := own.admits(ctx, w.Host, cluster, p.Base); err != nil {
			s.Obstacles = append(s.Obstacles, err)
		}
	}
	if at, err := own.Host.Under(user); err != nil {
		s.Obstacles = append(s.Obstacles, err)
	} else {
		s.User = at.User()
	}
	if s.Free, err = own.Host.FreeSpace(own.Dir); err == nil {
		err = own.hasRoom(b, 0, "the copy cannot be made")
	}
	if err != nil {
		s.Obstacles = append(s.Obstacles, err)
	}
	if s.Memory, err = own.hasMemory("the copy cannot be made"); err != nil {
		s.Obstacles = append(s.Obstacles, err)
	}
	s.Buffers = buffers(s.Memory) << 20
	return s, nil
}
