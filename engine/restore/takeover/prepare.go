package takeover

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
)

// Wish is how a takeover is to be done.
type Wish struct {
	Now time.Time
	// Lost says that the host is lost for good on which the original was: the copy serves in its place where it is.
	Lost bool
	// Refuse has clients be refused, and their sessions ended, as soon as the takeover begins, and not only when the original is stopped.
	Refuse bool
}

// preparation looks for what stands in the way of a takeover.
type preparation struct {
	*Taker
	Plan
	machine host.Machine
	cluster catalog.Cluster
	copy    catalog.Copy
	wish    Wish
	over    bool // the copy is to be laid over the original's files
}

func (p *preparation) stop(next, why string, args ...any) {
	p.Obstacles = append(p.Obstacles, *problem.New(problem.Conflict, next, title, why, args...))
}

// Prepare looks at the original's directory, or, where that is lost, at how it was last seen, and for what stands in the way.
func (k *Taker) Prepare(ctx context.Context, cluster catalog.Cluster, copy catalog.Copy, w Wish) Plan {
	p := &preparation{Taker: k, cluster: cluster, copy: copy, wish: w}
	if p.begin(ctx) {
		p.places()
		p.room()
		p.tablespacesOf()
		p.owner()
		p.doors(ctx)
	}
	return p.Plan
}

// begin looks at the copy and at the original; it tells whether looking further says anything.
func (p *preparation) begin(ctx context.Context) bool {
	p.Aside = host.AsideName(p.wish.Now)
	cluster, copy := p.cluster, p.copy
	if copy.State != catalog.CopyPaused {
		p.stop("Make one with: velvet restore start "+cluster.Name+" MOMENT", "the copy is %s; only a paused one takes over", copy.State)
	}
	if cluster.DataDirectory == "" {
		p.stop("Grant the registered role pg_read_all_settings: velvet cluster ready "+cluster.Name,
			"where the original's data directory lies is not known")
		return false
	}
	var err error
	if p.machine, err = p.Copies.Machine(copy); err != nil {
		p.stop("See that its agent runs: velvet host list", "the copy's host: %v", err)
		return false
	}
	p.inspect(ctx)
	return len(p.Obstacles) == 0
}

// owner makes sure that the copy is of the original's OS user.
func (p *preparation) owner() {
	own, user := p.copy.OSUser, p.Original.User
	if own == "" {
		own = p.machine.User()
	}
	if own != user {
		p.stop("Have copies run as it: velvet cluster edit "+p.cluster.Name+" --copies-user "+user+"; then make the copy anew.",
			"the original belongs to the OS user %s, and the copy to another", user)
	}
}

// inspect looks at the original on the copy's host, or recalls how it was run there, or on the host that is lost.
func (p *preparation) inspect(ctx context.Context) {
	dir := p.cluster.DataDirectory
	var err error
	p.Original, err = p.machine.Inspect(dir, p.cluster.SystemID)
	switch {
	case err == nil && p.Original.Standby:
		p.stop("Take over on the primary's host.", "%s is the directory of a standby, which follows another server", dir)
		return
	case err == nil:
		return
	case !errors.Is(err, host.ErrGone):
		p.stop("A takeover needs the original's directory to be of an OS user of --run-as, and on a host with an agent to lie in one of "+
			"the directories that host.yaml there names as databases.", "its data directory %s: %v", dir, err)
		return
	}
	was, on, ok := p.recall(ctx)
	switch {
	case !ok:
		p.stop("Make the copy on the original's own host, with --host: velvet host list", "its data directory %s: %v", dir, err)
	case on == p.copy.Host:
		p.Original = was
	case !p.wish.Lost:
		p.stop("Make the copy there, with --host; or, if that host is lost for good, add --host-lost.",
			"the original was last seen on %s, and the copy is on another host", p.nameOf(ctx, on))
	case p.runsOn(on) || p.Serves(ctx, p.cluster):
		p.stop("Make the copy on its own host, with --host.", "the original is not lost: it serves")
	default:
		p.Original, p.Moves = was, true
	}
}

// recall tells how the original was run, and on which host, when it was last seen.
func (p *preparation) recall(ctx context.Context) (was host.Original, on string, ok bool) {
	seen, err := p.Catalog.Original(ctx, p.cluster.ID)
	if err != nil || seen == nil {
		return was, "", false
	}
	if was, err = seen.Server(); err != nil || was.DataDir != p.cluster.DataDirectory {
		return was, "", false
	}
	was.Running, was.Gone = false, true
	return was, seen.Host, true
}

// nameOf is what a host is called.
func (p *preparation) nameOf(ctx context.Context, id string) string {
	if id == "" {
		return "the service's own host"
	}
	if h, err := p.Catalog.Host(ctx, id); err == nil {
		return h.Name
	}
	return "a host that was removed"
}

// runsOn tells whether the original runs on a host, as far as that is in reach.
func (p *preparation) runsOn(id string) bool {
	m, err := p.Copies.Machine(catalog.Copy{Host: id})
	if err != nil {
		return false
	}
	o, err := m.Inspect(p.cluster.DataDirectory, p.cluster.SystemID)
	return err == nil && o.Running
}

// places looks at where the copy is to be.
func (p *preparation) places() {
	if file := p.Original.ConfigFile(); file != "" && p.Original.Gone {
		if _, err := p.machine.Spot(file); err != nil {
			p.stop("Put it back; if the base backup holds it, it is in "+filepath.Join(p.copy.Directory, copies.OriginalConfiguration,
				"files", file), "the original's configuration is lost, too: %v", err)
		}
	}
	places := []string{filepath.Dir(p.Original.DataDir)}
	for _, at := range p.Original.Tablespaces {
		places = append(places, at)
	}
	for _, at := range places {
		p.place(at)
	}
}

// place looks at a directory into which a part of the copy is to be moved.
func (p *preparation) place(at string) {
	is, err := p.machine.Spot(at)
	if err != nil {
		p.stop("Make the directory, of the OS user "+p.Original.User+".", "there is no place for the copy: %v", err)
		return
	}
	from, err := p.machine.Spot(p.copyPlace())
	switch {
	case err != nil:
		p.stop("", "the copy's directory: %v", err)
	case is.Real != filepath.Clean(at):
		p.stop("Make "+is.Real+" the tablespace's place, without a link on the way.", "%s leads elsewhere, over a link: %s", at, is.Real)
	case !is.Dir:
		p.stop("Make it a directory.", "%s is none", at)
	case is.Device != from.Device:
		p.Brought = append(p.Brought, at)
	}
}

// copyPlace is where the copy is, or will be.
func (p *preparation) copyPlace() string {
	if p.over {
		return filepath.Dir(p.copy.Directory)
	}
	return p.copy.Directory
}

// room makes sure that what lies on another file system than its place can be brought there.
func (p *preparation) room() {
	if len(p.Brought) == 0 {
		return
	}
	m := &move{Taker: p.Taker, Host: p.machine, cluster: p.cluster, copy: p.copy, original: p.Original}
	dirs, err := m.directories()
	if err != nil {
		p.stop("", "where the copy is to be moved: %v", err)
		return
	}
	need := make(map[uint64]int64) // by file system
	for _, d := range dirs {
		if d.whence == "" {
			continue
		}
		size, err := p.used(d.whence)
		at, e := p.machine.Spot(filepath.Dir(d.original))
		if err = errors.Join(err, e); err != nil {
			p.stop("", "how much is to be brought: %v", err)
			return
		}
		need[at.Device] += size
		if need[at.Device] > at.Free {
			p.stop("Free space there, or have copies be made on that file system.",
				"%s lies on another file system, to which %s have to be brought, and %s are free", d.original,
				figures.Size(need[at.Device]), figures.Size(at.Free))
		}
	}
}

// used is how many bytes a directory of the copy's takes; none where it is not there.
func (p *preparation) used(dir string) (int64, error) {
	files, err := p.machine.Files(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	n, err := files.Used()
	return n, errors.Join(err, files.Close())
}

// tablespacesOf makes sure that the original has a place for each tablespace of the copy's.
func (p *preparation) tablespacesOf() {
	own, err := p.machine.TablespacesOf(p.Original.User, copies.Server(p.copy, p.cluster.Major()).DataDir)
	if err != nil {
		p.stop("", "the copy's directory: %v", err)
	}
	for oid := range own {
		if p.Original.Tablespaces[oid] == "" {
			p.stop("Make the tablespace of the copy's, which was dropped since, a part of its directory by hand; or bring its rows home.",
				"the copy has the tablespace %d, and the original no longer has a place for it", oid)
		}
	}
}

// Remember records how a cluster's server is run, and where, for the day on which its directory or host is lost. The host on which it
// was last seen is asked first, then the others in reach; of a server on none of them nothing is recorded.
func (k *Taker) Remember(ctx context.Context, cluster catalog.Cluster) error {
	hosts := k.Copies.Hosts()
	seen, err := k.Catalog.Original(ctx, cluster.ID)
	if err != nil {
		return err
	}
	if seen != nil && slices.Contains(hosts, seen.Host) {
		hosts = slices.Insert(hosts, 0, seen.Host)
	}
	for _, on := range hosts {
		if found, err := k.rememberOn(ctx, cluster, on); found || err != nil {
			return err
		}
	}
	return nil
}

// RememberOn asks one host alone, unless the server was last seen on another: what a host says of a cluster counts no more than that.
func (k *Taker) RememberOn(ctx context.Context, cluster catalog.Cluster, on string) error {
	seen, err := k.Catalog.Original(ctx, cluster.ID)
	if err == nil && (seen == nil || seen.Host == on) {
		_, err = k.rememberOn(ctx, cluster, on)
	}
	return err
}

func (k *Taker) rememberOn(ctx context.Context, cluster catalog.Cluster, on string) (found bool, err error) {
	if cluster.DataDirectory == "" {
		return false, nil
	}
	m, err := k.Copies.Machine(catalog.Copy{Host: on})
	if err != nil {
		return false, nil // it was lost just now
	}
	o, err := m.Inspect(cluster.DataDirectory, cluster.SystemID)
	if err != nil || !o.Running || o.Standby {
		return false, nil // it is elsewhere, or of somebody else
	}
	content, err := json.Marshal(o)
	if err != nil {
		return false, err
	}
	return true, k.Catalog.SaveOriginal(ctx, cluster.ID, catalog.Original{Original: content, Host: on})
}

// Away is the host with an agent on which a cluster's server was last seen; nil where it was on none.
func (k *Taker) Away(ctx context.Context, cluster catalog.Cluster) (host.Machine, error) {
	seen, err := k.Catalog.Original(ctx, cluster.ID)
	if err != nil || seen == nil || seen.Host == "" {
		return nil, err
	}
	return k.Copies.Machine(catalog.Copy{Host: seen.Host})
}

// MachineOf is where a cluster's server was last seen; the service's own host where it never was.
func (k *Taker) MachineOf(ctx context.Context, cluster catalog.Cluster) (host.Machine, error) {
	seen, err := k.Catalog.Original(ctx, cluster.ID)
	if err != nil {
		return nil, fmt.Errorf("where the server of %s runs: %w", cluster.Name, err)
	}
	if seen == nil {
		seen = &catalog.Original{}
	}
	return k.Copies.Machine(catalog.Copy{Host: seen.Host})
}
