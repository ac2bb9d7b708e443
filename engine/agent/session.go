package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
)

// session is what one connection has asked for.
type session struct {
	*Agent
	service string // its base URL

	mu    sync.Mutex
	last  wire.Handle
	files map[wire.Handle]host.File
}

// mostFiles may be open at once, of one connection.
const mostFiles = 512

// close closes what the connection has left open.
func (s *session) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.files {
		_ = f.Close()
	}
}

// refused says what the host does not allow.
func refused(format string, args ...any) error {
	return fmt.Errorf("%w: %w", fmt.Errorf(format, args...), wire.ErrRefused)
}

// within refuses a path that is not a copy's directory or, if so deep, below it. Of a copy's own directory nobody else can make a
// link; what lies in it is opened by its name there, over no link that leads out.
func (a *Agent) within(path string, deep bool) error {
	copyDir := filepath.Clean(path)
	if deep {
		copyDir = filepath.Dir(copyDir)
	}
	if filepath.Clean(path) != path || filepath.Dir(copyDir) != a.cfg.Copies {
		return refused("%q is no copy's place in %s", path, a.cfg.Copies)
	}
	if info, err := os.Lstat(copyDir); err == nil && !info.IsDir() {
		return refused("%q is no directory", copyDir)
	}
	return nil
}

// in opens the directory of a place, which may be that of copies itself.
func (s *session) in(p wire.Place) (host.Files, error) {
	if p.Dir != s.cfg.Copies {
		if err := s.within(p.Dir, false); err != nil {
			return nil, err
		}
	}
	m, err := s.as(p.User)
	if err != nil {
		return nil, err
	}
	return m.Files(p.Dir)
}

func (s *session) as(user string) (host.Machine, error) {
	m, err := s.host.Under(user)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", err, wire.ErrRefused)
	}
	return m, nil
}

// server refuses one whose files are not below the directory of copies.
func (s *session) server(in wire.Server) (host.Machine, host.Server, error) {
	m, err := s.as(in.User)
	if err != nil {
		return nil, in.Server, err
	}
	if err := errors.Join(s.within(in.DataDir, true), s.within(in.Log, true)); err != nil {
		return nil, in.Server, err
	}
	in.Socket = s.host.SocketPath(filepath.Dir(in.DataDir)) // which follows from that
	return m, in.Server, nil
}

// withFiles answers a question about a directory of copies'.
func withFiles[In, Out any](s *session, place func(In) wire.Place, do func(host.Files, In) (Out, error)) func(context.Context, In) (
	Out, error) {
	return withThose(s.in, place, do)
}

// reading answers a question by which nothing is changed, about a directory of copies' or of originals'.
func reading[Out any](s *session, do func(host.Files, wire.Place) (Out, error)) func(context.Context, wire.Place) (Out, error) {
	return withThose(s.inOriginal, at, do)
}

func withThose[In, Out any](open func(wire.Place) (host.Files, error), place func(In) wire.Place,
	do func(host.Files, In) (Out, error)) func(context.Context, In) (Out, error) {
	return func(_ context.Context, in In) (out Out, err error) {
		f, err := open(place(in))
		if err != nil {
			return out, err
		}
		defer func() { _ = f.Close() }()
		return do(f, in)
	}
}

func at(p wire.Place) wire.Place { return p }

var none = wire.Nothing{}

// handler answers what the service asks.
func (s *session) handler() http.Handler {
	mux := http.NewServeMux()
	wire.TellAbout.Serve(mux, func(context.Context, wire.Nothing) (wire.About, error) { return s.about() })
	s.serveNames(mux)
	s.serveFiles(mux)
	s.serveMachine(mux)
	s.serveServers(mux)
	s.serveOriginals(mux)
	wire.LayOut.Serve(mux, s.layOut)
	wire.LayOutPart.Serve(mux, s.layOut)
	wire.Repair.Serve(mux, s.repair)
	mux.HandleFunc(wire.Path(wire.Dial), s.dial)
	return mux
}

// about says what this host is.
func (s *session) about() (wire.About, error) {
	free, err := s.host.FreeSpace(s.cfg.Copies)
	if err != nil {
		return wire.About{}, err
	}
	users := []string{s.host.User()}
	for _, u := range strings.Split(s.cfg.RunAs, ",") {
		if u = strings.TrimSpace(u); u != "" && u != users[0] {
			users = append(users, u)
		}
	}
	a := wire.About{Version: wire.Version, Velvet: s.version, Users: users, Copies: s.cfg.Copies, Databases: s.cfg.Databases,
		Program:    s.program,
		MostCopies: s.cfg.MostCopies, MostBytes: int64(s.cfg.Space) << 30, Free: free, Cores: runtime.NumCPU(), Service: s.service}
	for _, v := range pg.Versions() {
		if s.host.HasPrograms(v.Major) == nil {
			a.Majors = append(a.Majors, v.Major)
		}
	}
	var info unix.Sysinfo_t
	if unix.Sysinfo(&info) == nil {
		a.Memory = int64(info.Totalram) * int64(info.Unit)
	}
	return a, nil
}

// serveNames answers what is about names in directories.
func (s *session) serveNames(mux *http.ServeMux) {
	wire.MakeDir.Serve(mux, withFiles(s, func(m wire.Made) wire.Place { return m.Place },
		func(f host.Files, m wire.Made) (wire.Nothing, error) { return none, f.MakeDir(m.Name, m.Mode) }))
	wire.MakeClosedDir.Serve(mux, func(_ context.Context, p wire.Place) (wire.Nothing, error) {
		if err := s.within(p.Dir, false); err != nil {
			return none, err
		}
		m, err := s.as(p.User)
		if err != nil {
			return none, err
		}
		return none, m.MakeClosedDir(p.Dir)
	})
	wire.ReadFile.Serve(mux, reading(s, func(f host.Files, p wire.Place) ([]byte, error) { return f.ReadFile(p.Name) }))
	wire.WriteFile.Serve(mux, withFiles(s, func(c wire.Content) wire.Place { return c.Place },
		func(f host.Files, c wire.Content) (wire.Nothing, error) {
			return none, f.WriteFile(c.Name, c.Data, c.Mode)
		}))
	wire.Rename.Serve(mux, withFiles(s, func(r wire.Renamed) wire.Place { return r.Place },
		func(f host.Files, r wire.Renamed) (wire.Nothing, error) { return none, f.Rename(r.Name, r.To) }))
	wire.Look.Serve(mux, reading(s, func(f host.Files, p wire.Place) (host.Entry, error) { return f.Look(p.Name) }))
	wire.Remove.Serve(mux, withFiles(s, at, func(f host.Files, p wire.Place) (wire.Nothing, error) { return none, f.Remove(p.Name) }))
	wire.List.Serve(mux, reading(s, func(f host.Files, p wire.Place) ([]host.Entry, error) { return f.List(p.Name) }))
	wire.Describe.Serve(mux, reading(s, func(f host.Files, p wire.Place) ([]host.Entry, error) { return f.Describe(p.Name) }))
	wire.Walk.Serve(mux, s.walk)
	wire.Used.Serve(mux, withFiles(s, at, func(f host.Files, _ wire.Place) (int64, error) { return f.Used() }))
	wire.Sync.Serve(mux, withFiles(s, at, func(f host.Files, _ wire.Place) (wire.Nothing, error) { return none, f.Sync() }))
}

// foundAtOnce is how many files are told of in one message.
const foundAtOnce = 4096

// walk tells of the files below a directory.
func (s *session) walk(_ context.Context, p wire.Place, send func([]wire.Found) error) error {
	f, err := s.in(p)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	var list []wire.Found
	err = f.Walk(p.Name, func(name string, size int64) error {
		if list = append(list, wire.Found{Name: name, Size: size}); len(list) < foundAtOnce {
			return nil
		}
		err := send(list)
		list = nil
		return err
	})
	if err == nil && len(list) > 0 {
		err = send(list)
	}
	return err
}

// serveFiles answers what is about open files.
func (s *session) serveFiles(mux *http.ServeMux) {
	made := func(m wire.Made) wire.Place { return m.Place }
	wire.Create.Serve(mux, withFiles(s, made, func(f host.Files, m wire.Made) (wire.Handle, error) {
		return s.keep(f.Create(m.Name, m.Mode))
	}))
	wire.Reopen.Serve(mux, withFiles(s, made, func(f host.Files, m wire.Made) (wire.Handle, error) {
		return s.keep(f.Reopen(m.Name, m.Mode))
	}))
	wire.Open.Serve(mux, reading(s, func(f host.Files, p wire.Place) (wire.Handle, error) { return s.keep(f.Open(p.Name)) }))
	wire.ReadAt.Serve(mux, func(ctx context.Context, r wire.Read) (got wire.Got, err error) {
		f, err := s.file(r.File)
		if err != nil {
			return got, err
		}
		got.Data = make([]byte, min(max(r.Size, 0), wire.Piece))
		n, err := f.ReadAt(got.Data, r.At)
		got.Data = got.Data[:n]
		if errors.Is(err, io.EOF) {
			got.End, err = true, nil
		}
		return got, errors.Join(err, s.slow(ctx, n))
	})
	wire.WriteAt.Serve(mux, func(ctx context.Context, w wire.Written) (wire.Nothing, error) {
		f, err := s.file(w.File)
		if err != nil {
			return none, err
		}
		_, err = f.WriteAt(w.Data, w.At)
		return none, errors.Join(err, s.slow(ctx, len(w.Data)))
	})
	wire.SyncFile.Serve(mux, func(_ context.Context, h wire.Handle) (wire.Nothing, error) {
		f, err := s.file(h)
		if err != nil {
			return none, err
		}
		return none, f.Sync()
	})
	wire.Truncate.Serve(mux, func(_ context.Context, z wire.Sized) (wire.Nothing, error) {
		f, err := s.file(z.File)
		if err != nil {
			return none, err
		}
		return none, f.Truncate(z.Size)
	})
	wire.Close.Serve(mux, func(_ context.Context, h wire.Handle) (wire.Nothing, error) {
		s.mu.Lock()
		f := s.files[h]
		delete(s.files, h)
		s.mu.Unlock()
		if f == nil {
			return none, fs.ErrClosed
		}
		return none, f.Close()
	})
}

// slow waits so that no more flows than is allowed.
func (s *session) slow(ctx context.Context, bytes int) error {
	if s.limit == nil {
		return nil
	}
	return s.limit.WaitN(ctx, bytes)
}

// keep has a file stay open for the connection.
func (s *session) keep(f host.File, err error) (wire.Handle, error) {
	if err != nil {
		return 0, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.files) >= mostFiles {
		return 0, errors.Join(refused("%d files are open", len(s.files)), f.Close())
	}
	s.last++
	s.files[s.last] = f
	return s.last, nil
}

func (s *session) file(h wire.Handle) (host.File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if f := s.files[h]; f != nil {
		return f, nil
	}
	return nil, os.ErrClosed
}
