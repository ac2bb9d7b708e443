package backup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/layout"
	"velvetrewind/engine/host"
)

// hostSource reads a data directory on a host with an agent.
type hostSource struct {
	dir    string
	root   host.Files
	spaces map[string]host.Files // by their name in the data directory
}

// openAway opens the data directory of the server that conn is connected to on the host where it was last seen, if it is there
// beyond doubt: the same cluster, whose server listens on that port and was started then. It is nil where that cannot be told.
func (t *Taker) openAway(ctx context.Context, conn *pgx.Conn) *hostSource {
	if t.Away == nil {
		return nil
	}
	m, err := t.Away(ctx, t.Cluster)
	if err != nil || m == nil {
		return nil
	}
	var dir string
	var port int
	var started time.Time
	err = conn.QueryRow(ctx, `select pg_catalog.current_setting('data_directory'), pg_catalog.current_setting('port')::int,
		pg_catalog.pg_postmaster_start_time()`).Scan(&dir, &port, &started)
	if err != nil {
		return nil
	}
	o, err := m.Inspect(dir, t.Cluster.SystemID)
	if err != nil || !o.Running {
		return nil
	}
	if m, err = m.Under(o.User); err != nil {
		return nil
	}
	s := &hostSource{dir: dir, spaces: make(map[string]host.Files)}
	if s.root, err = m.Files(dir); err != nil {
		return nil
	}
	lock, err := s.root.ReadFile("postmaster.pid")
	if err != nil || !startedThen(string(lock), port, started) {
		return nil
	}
	spaces, err := tablespaces(ctx, conn)
	if err != nil {
		return nil
	}
	for _, space := range spaces {
		if s.spaces[spaceName(space)], err = m.Files(space.Location); err != nil {
			return nil
		}
	}
	return s
}

// startedThen tells whether a postmaster.pid is that of a server on a port, which says when it was started.
func startedThen(lock string, port int, started time.Time) bool {
	lines := strings.Split(lock, "\n") // process, data directory, start, port, …
	if len(lines) < 4 || strings.TrimSpace(lines[3]) != strconv.Itoa(port) {
		return false
	}
	since, err := strconv.ParseInt(strings.TrimSpace(lines[2]), 10, 64)
	took := started.Sub(time.Unix(since, 0))
	return err == nil && took >= -time.Second && took <= startsWithin
}

func (s *hostSource) about() string { return "from " + s.dir + ", by the host's agent" }

func (s *hostSource) close() error {
	err := s.root.Close()
	for _, f := range s.spaces {
		err = errors.Join(err, f.Close())
	}
	return err
}

// within finds the directory that a name is in, and the name there.
func (s *hostSource) within(name string) (host.Files, string) {
	if parts := strings.SplitN(name, "/", 3); len(parts) > 1 {
		if f, ok := s.spaces[path.Join(parts[:2]...)]; ok {
			return f, path.Join(append([]string{"."}, parts[2:]...)...)
		}
	}
	return s.root, name
}

func (s *hostSource) list(_ context.Context, dir string) ([]layout.File, error) {
	in, at := s.within(dir)
	entries, err := in.Describe(filepath.Clean(at))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []layout.File
	for _, e := range entries {
		name := path.Join(dir, e.Name)
		f := layout.File{Path: name, Mode: uint32(e.Mode), Dir: e.Dir, Modified: e.Modified}
		_, space := s.spaces[name]
		switch {
		case e.Regular:
			f.Size = e.Size
		case e.Link && (emptyDirs[name] || space):
			f.Dir, f.Mode = true, 0o700
		case !f.Dir:
			continue
		}
		list = append(list, f)
	}
	return list, nil
}

func (s *hostSource) open(_ context.Context, name string) (content, error) {
	in, at := s.within(name)
	f, err := in.Open(filepath.Clean(at))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return f, nil
}
