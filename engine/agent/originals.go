package agent

import (
	"context"
	"net/http"
	"path/filepath"
	"slices"
	"strings"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
)

// below tells whether a path lies below a directory.
func below(path, dir string) bool {
	return filepath.Clean(path) == path && strings.HasPrefix(path, dir+string(filepath.Separator))
}

// ofDatabases refuses a path that does not lie below a directory of databases.
func (a *Agent) ofDatabases(path string) error {
	if slices.ContainsFunc(a.cfg.Databases, func(dir string) bool { return below(path, dir) }) {
		return nil
	}
	return refused("%q does not lie in what host.yaml names as databases: %q", path, a.cfg.Databases)
}

// place refuses a path that is neither of databases nor of a copy.
func (a *Agent) place(path string) error {
	if below(path, a.cfg.Copies) || slices.Contains(a.cfg.Databases, path) {
		return nil
	}
	return a.ofDatabases(path)
}

// inCopy tells whether a path lies below a copy's own directory.
func (a *Agent) inCopy(path string) bool {
	rel, is := strings.CutPrefix(path, a.cfg.Copies+string(filepath.Separator))
	return is && filepath.Clean(path) == path && strings.Contains(rel, string(filepath.Separator))
}

// inOriginal opens a directory of an original's for reading, or of copies'.
func (s *session) inOriginal(p wire.Place) (host.Files, error) {
	if s.ofDatabases(p.Dir) != nil {
		return s.in(p)
	}
	own, err := s.host.As(p.User)
	if err != nil {
		return nil, refused("%w", err)
	}
	return own.RealFiles(p.Dir)
}

// original refuses one that is to be stopped, started or asked about where this host's own configuration does not allow it.
func (s *session) original(o host.Original) error {
	if err := s.ofDatabases(o.DataDir); err != nil {
		return err
	}
	if _, err := s.as(o.User); err != nil {
		return err
	}
	if o.Unit != "" {
		if !slices.Contains(s.cfg.Units, o.Unit) {
			return refused("the unit %s is not among the units that host.yaml names: %q", o.Unit, s.cfg.Units)
		}
		return nil
	}
	return s.ofDatabases(o.Log)
}

// serveOriginals answers what is about servers that are not ours.
func (s *session) serveOriginals(mux *http.ServeMux) {
	wire.Link.Serve(mux, withFiles(s, func(l wire.Linked) wire.Place { return l.Place },
		func(f host.Files, l wire.Linked) (wire.Nothing, error) {
			if err := s.place(l.To); err != nil {
				return none, err
			}
			return none, f.Link(l.To, l.Name)
		}))
	wire.Inspect.Serve(mux, func(_ context.Context, in wire.Sought) (host.Original, error) {
		if err := s.ofDatabases(in.Dir); err != nil {
			return host.Original{}, err
		}
		return s.host.Inspect(in.Dir, in.SystemID)
	})
	wire.OriginalRuns.Serve(mux, func(_ context.Context, o host.Original) (bool, error) {
		if err := s.ofDatabases(o.DataDir); err != nil {
			return false, err
		}
		return s.host.OriginalRunning(o)
	})
	// Neither is left half done where the service is lost meanwhile.
	wire.StopOriginal.Serve(mux, func(ctx context.Context, o host.Original) (wire.Nothing, error) {
		if err := s.original(o); err != nil {
			return none, err
		}
		return none, s.host.StopOriginal(context.WithoutCancel(ctx), o)
	})
	wire.StartOriginal.Serve(mux, func(ctx context.Context, o host.Original) (wire.Nothing, error) {
		if err := s.original(o); err != nil {
			return none, err
		}
		return none, s.host.StartOriginal(context.WithoutCancel(ctx), o)
	})
	wire.WorkedIn.Serve(mux, func(_ context.Context, dir string) (bool, error) {
		if err := s.ofDatabases(dir); err != nil {
			return false, err
		}
		return s.host.WorkedIn(dir)
	})
	wire.Control.Serve(mux, func(_ context.Context, p wire.Place) (pg.Control, error) {
		if err := s.place(p.Dir); err != nil {
			return pg.Control{}, err
		}
		return s.host.Control(p.User, p.Dir)
	})
	wire.TablespacesOf.Serve(mux, func(_ context.Context, p wire.Place) (map[uint32]string, error) {
		if err := s.place(p.Dir); err != nil {
			return nil, err
		}
		return s.host.TablespacesOf(p.User, p.Dir)
	})
	s.serveDoors(mux)
	s.servePlaces(mux)
}

// serveDoors answers what is about whom an original admits.
func (s *session) serveDoors(mux *http.ServeMux) {
	allowed := func(d wire.Doors) error {
		if !strings.HasSuffix(filepath.Base(d.HBA), "hba.conf") {
			return refused("%q is no name of a pg_hba.conf", d.HBA)
		}
		if err := s.ofDatabases(d.HBA); err != nil {
			return err
		}
		return s.ofDatabases(d.Original.DataDir)
	}
	wire.HBA.Serve(mux, func(_ context.Context, d wire.Doors) (string, error) {
		if err := allowed(d); err != nil {
			return "", err
		}
		return s.host.HBA(d.Original, d.HBA)
	})
	wire.Refuse.Serve(mux, func(ctx context.Context, d wire.Doors) (wire.Nothing, error) {
		if err := allowed(d); err != nil {
			return none, err
		}
		return none, s.host.Refuse(context.WithoutCancel(ctx), d.Original, d.HBA, d.Content)
	})
	wire.Admit.Serve(mux, func(ctx context.Context, d wire.Doors) (wire.Nothing, error) {
		if err := allowed(d); err != nil {
			return none, err
		}
		return none, s.host.Admit(context.WithoutCancel(ctx), d.Original, d.HBA)
	})
}

// servePlaces answers what is about where directories lie.
func (s *session) servePlaces(mux *http.ServeMux) {
	wire.Spot.Serve(mux, func(_ context.Context, path string) (host.Spot, error) {
		if err := s.place(path); err != nil {
			return host.Spot{}, err
		}
		return s.host.Spot(path)
	})
	wire.Move.Serve(mux, func(_ context.Context, m wire.Moved) (wire.Nothing, error) {
		for _, path := range []string{m.From, m.To} {
			if err := s.ofDatabases(path); err != nil && !s.inCopy(path) {
				return none, err
			}
		}
		return none, s.host.Move(m.From, m.To)
	})
	wire.Bring.Serve(mux, func(ctx context.Context, b wire.Brought) (wire.Nothing, error) {
		if err := s.ofDatabases(b.To); err != nil {
			return none, err
		}
		if !s.inCopy(b.From) {
			return none, refused("%q is not in a copy's directory", b.From)
		}
		return none, s.host.Bring(ctx, b.User, b.From, b.To)
	})
	wire.Asides.Serve(mux, func(_ context.Context, dir string) ([]host.Aside, error) {
		if err := s.ofDatabases(dir); err != nil {
			return nil, err
		}
		return s.host.Asides(dir)
	})
	wire.RemoveAside.Serve(mux, func(_ context.Context, dir string) (wire.Nothing, error) {
		if err := s.ofDatabases(dir); err != nil {
			return none, err
		}
		return none, s.host.RemoveAside(dir)
	})
}
