// Package remote is a machine with a host agent, as the rooms of the engine work on it.
//
// Invariant: what the host answers is passed on, and where it cannot be asked that is an error. Nothing is remembered but which
// files are open there, and of a connection that is lost no file is open any more.
package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/repair"
	"velvetrewind/engine/store/place"
)

// Machine is a host that is asked over a connection.
type Machine struct {
	client wire.Client
	about  wire.About
	user   string
}

// How long a question may take: one that people wait for to see how something stands, one that is answered by a few calls, and one
// that reads or removes very much.
const (
	now    = 5 * time.Second
	soon   = 30 * time.Second
	atLast = 30 * time.Minute
)

// New is the machine at the other end of a connection, which has said of itself what is given.
func New(c wire.Client, about wire.About) *Machine { return &Machine{c, about, about.Users[0]} }

// ask asks a question that takes no longer than it may.
func ask[In, Out any](m *Machine, o wire.Op[In, Out], in In, most time.Duration) (Out, error) {
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	return o.Ask(ctx, m.client, in)
}

func do[In any](m *Machine, o wire.Op[In, wire.Nothing], in In, most time.Duration) error {
	_, err := ask(m, o, in, most)
	return err
}

// Under gives the machine with another of its OS users.
func (m *Machine) Under(user string) (host.Machine, error) {
	if user == "" || user == m.user {
		return m, nil
	}
	if !slices.Contains(m.about.Users, user) {
		return nil, fmt.Errorf("on %s, copies may run as %s, not as %q", m.client.Name, strings.Join(m.about.Users, ", "), user)
	}
	other := *m
	other.user = user
	return &other, nil
}

// User is the OS user that servers run as.
func (m *Machine) User() string { return m.user }

// Files opens a directory: that of a copy, or one in it; or one of an original, for reading.
func (m *Machine) Files(dir string) (host.Files, error) {
	f := files{m, dir, ""}
	if rel, err := filepath.Rel(m.about.Copies, dir); err == nil {
		if first, below, deep := strings.Cut(rel, string(filepath.Separator)); deep && first != ".." {
			f.dir, f.below = filepath.Join(m.about.Copies, first), below
		}
	}
	_, err := f.Look(".")
	return f, err
}

func (m *Machine) place(dir string) wire.Place { return wire.Place{User: m.user, Dir: dir} }

// MakeClosedDir makes a directory that the OS user may enter and not change.
func (m *Machine) MakeClosedDir(path string) error {
	return do(m, wire.MakeClosedDir, m.place(path), soon)
}

// RemoveTree removes a directory.
func (m *Machine) RemoveTree(dir string) error { return do(m, wire.RemoveTree, m.place(dir), atLast) }

// FreeSpace is how many bytes can still be written where copies are.
func (m *Machine) FreeSpace(dir string) (int64, error) {
	return ask(m, wire.FreeSpace, m.place(dir), soon)
}

// FreeMemory is how many bytes of the machine's memory are free.
func (m *Machine) FreeMemory() (int64, error) {
	return ask(m, wire.FreeMemory, wire.Nothing{}, soon)
}

// FreePort finds a loopback port of the machine on which nothing listens.
func (m *Machine) FreePort() (int, error) { return ask(m, wire.FreePort, wire.Nothing{}, soon) }

// Listens tells whether something listens on a loopback port of the machine.
func (m *Machine) Listens(port int) (bool, error) { return ask(m, wire.Listens, port, soon) }

// SocketDir makes the directory of a server's Unix socket.
func (m *Machine) SocketDir(dir string) (string, error) {
	return ask(m, wire.SocketDir, m.place(dir), soon)
}

// DropSocketDir removes it.
func (m *Machine) DropSocketDir(dir string) error {
	return do(m, wire.DropSocketDir, m.place(dir), soon)
}

func (m *Machine) server(s host.Server) wire.Server { return wire.Server{User: m.user, Server: s} }

// Start starts a server.
func (m *Machine) Start(ctx context.Context, s host.Server) error {
	_, err := wire.Start.Ask(ctx, m.client, m.server(s))
	return err
}

// Stop ends a server.
func (m *Machine) Stop(ctx context.Context, s host.Server, mode host.StopMode) error {
	_, err := wire.Stop.Ask(ctx, m.client, wire.Stopped{Server: m.server(s), Mode: mode})
	return err
}

// Runs tells whether a server runs, or is about to.
func (m *Machine) Runs(s host.Server) (running, starting bool, err error) {
	r, err := ask(m, wire.AskRuns, m.server(s), now)
	return r.Running, r.Starting, err
}

// LogTail is the end of a server's log.
func (m *Machine) LogTail(s host.Server, n int64) string {
	text, err := ask(m, wire.LogTail, wire.Tail{Server: m.server(s), Size: n}, soon)
	if err != nil {
		return err.Error()
	}
	return text
}

// Log opens a server's log for reading.
func (m *Machine) Log(s host.Server) (io.ReadCloser, error) {
	f, err := m.Files(filepath.Dir(s.Log))
	if err != nil {
		return nil, err
	}
	return f.Open(filepath.Base(s.Log))
}

// Dial connects to a server through its Unix socket, by way of the host.
func (m *Machine) Dial(ctx context.Context, s host.Server) (net.Conn, error) {
	query := url.Values{"data": {s.DataDir}, "port": {strconv.Itoa(s.Port)}}
	living, end := context.WithCancel(context.Background())
	undo := context.AfterFunc(ctx, end) // for as long as it is being made
	body, toHost := io.Pipe()
	r, err := http.NewRequestWithContext(living, http.MethodPost, m.client.URL(wire.Dial)+"?"+query.Encode(), body)
	if err != nil {
		end()
		return nil, err
	}
	resp, err := m.client.HTTP.Do(r)
	if !undo() {
		end()
		return nil, errors.Join(err, context.Cause(ctx))
	}
	if err != nil {
		end()
		return nil, fmt.Errorf("the host %s is out of reach: %w: %w", m.client.Name, wire.ErrOutOfReach, err)
	}
	if resp.StatusCode != http.StatusOK {
		const most = 4 << 10
		said, _ := io.ReadAll(io.LimitReader(resp.Body, most))
		end()
		return nil, fmt.Errorf("on %s: %s", m.client.Name, strings.TrimSpace(string(said)))
	}
	ours, theirs := net.Pipe() // which knows deadlines
	go func() {
		_, _ = io.Copy(toHost, theirs)
		end()
	}()
	go func() {
		_, _ = io.Copy(theirs, resp.Body)
		_ = theirs.Close()
		end()
	}()
	return ours, nil
}

// Inspect looks at the server of a data directory.
func (m *Machine) Inspect(dir string, systemID uint64) (host.Original, error) {
	return ask(m, wire.Inspect, wire.Sought{Dir: dir, SystemID: systemID}, soon)
}

// OriginalRunning tells whether a server runs on the original's directory.
func (m *Machine) OriginalRunning(o host.Original) (bool, error) {
	return ask(m, wire.OriginalRuns, o, soon)
}

// StopOriginal ends it, and waits for that.
func (m *Machine) StopOriginal(ctx context.Context, o host.Original) error {
	_, err := wire.StopOriginal.Ask(ctx, m.client, o)
	return err
}

// StartOriginal starts it, if it does not run, and waits until it takes connections.
func (m *Machine) StartOriginal(ctx context.Context, o host.Original) error {
	_, err := wire.StartOriginal.Ask(ctx, m.client, o)
	return err
}

// HBA reads an original's pg_hba.conf.
func (m *Machine) HBA(o host.Original, hba string) (string, error) {
	return ask(m, wire.HBA, wire.Doors{Original: o, HBA: hba}, soon)
}

// Refuse has an original's pg_hba.conf be another.
func (m *Machine) Refuse(_ context.Context, o host.Original, hba, content string) error {
	return do(m, wire.Refuse, wire.Doors{Original: o, HBA: hba, Content: content}, soon)
}

// Admit undoes Refuse.
func (m *Machine) Admit(_ context.Context, o host.Original, hba string) error {
	return do(m, wire.Admit, wire.Doors{Original: o, HBA: hba}, soon)
}

// WorkedIn tells whether a process of a server works in a directory.
func (m *Machine) WorkedIn(dir string) (bool, error) { return ask(m, wire.WorkedIn, dir, soon) }

// Control reads the control file of a data directory.
func (m *Machine) Control(user, dir string) (pg.Control, error) {
	return ask(m, wire.Control, wire.Place{User: user, Dir: dir}, soon)
}

// TablespacesOf reads where the tablespaces of a data directory lie.
func (m *Machine) TablespacesOf(user, dir string) (map[uint32]string, error) {
	return ask(m, wire.TablespacesOf, wire.Place{User: user, Dir: dir}, soon)
}

// Spot tells what is at a path.
func (m *Machine) Spot(path string) (host.Spot, error) { return ask(m, wire.Spot, path, soon) }

// Move gives a directory another name.
func (m *Machine) Move(from, to string) error {
	return do(m, wire.Move, wire.Moved{From: from, To: to}, soon)
}

// Bring copies a directory to another file system.
func (m *Machine) Bring(ctx context.Context, user, from, to string) error {
	_, err := wire.Bring.Ask(ctx, m.client, wire.Brought{User: user, From: from, To: to})
	return err
}

// Asides lists what is set aside of a directory.
func (m *Machine) Asides(dir string) ([]host.Aside, error) { return ask(m, wire.Asides, dir, atLast) }

// RemoveAside removes what was set aside, or brought.
func (m *Machine) RemoveAside(dir string) error { return do(m, wire.RemoveAside, dir, atLast) }

// LayOut has the host lay out a base itself.
func (m *Machine) LayOut(ctx context.Context, o copies.LayOrder, report task.Report) (laid restore.Laid, err error) {
	where, err := json.Marshal(o.Store)
	if err != nil {
		return laid, err
	}
	complete := false
	lay := wire.LayOut
	if o.Lacks != "" {
		lay = wire.LayOutPart // an agent that would leave nothing out does not know it
	}
	err = lay.Ask(ctx, m.client, wire.LayOrder{Store: where, Cluster: o.Cluster, Backup: o.Backup, User: o.OSUser, Dir: o.Directory,
		Over: o.Over, Lacks: o.Lacks, Total: o.Total}, passing(report, func(l wire.Laying) {
		complete, laid.Kept = json.Unmarshal(l.Head, &laid.Head) == nil, l.Kept
	}))
	switch {
	case errors.Is(err, wire.ErrLacks):
		return laid, fmt.Errorf("%w: %w", copies.ErrNoStore, err)
	case err == nil && !complete:
		err = fmt.Errorf("the host %s is out of reach: %w: the connection ended before the base was laid out", m.client.Name,
			wire.ErrOutOfReach)
	}
	return laid, err
}

// passing passes on what the host says of its work; end is told of what comes at the end.
func passing(report task.Report, end func(wire.Laying)) func(wire.Laying) {
	return func(l wire.Laying) {
		switch {
		case l.Head != nil:
			end(l)
		case l.Warn:
			report.Warn("%s", l.Line)
		case l.Line != "":
			report.Log("%s", l.Line)
		default:
			report.Progress(l.Done, l.Total, l.Unit, l.Note)
		}
	}
}

// Repair has the host repair a cluster itself. tails are segments that are not in the store yet, by their names.
func (m *Machine) Repair(ctx context.Context, at place.Place, o repair.Order, tails map[string][]byte, report task.Report) (
	done repair.Outcome, err error) {
	where, err := json.Marshal(at)
	if err != nil {
		return done, err
	}
	order, err := json.Marshal(o)
	if err != nil {
		return done, err
	}
	size := len(order)
	for _, t := range tails {
		size += len(t)
	}
	if size > wire.MostBytes-len(where)-1<<20 {
		return done, fmt.Errorf("what the host has to be told is too much: %d bytes; take a base backup, or wait until WAL is stored", size)
	}
	complete := false
	err = wire.Repair.Ask(ctx, m.client, wire.RepairOrder{Store: where, Order: order, Tails: tails}, passing(report, func(l wire.Laying) {
		complete = json.Unmarshal(l.Head, &done) == nil
	}))
	if err == nil && !complete {
		err = fmt.Errorf("the host %s is out of reach: %w: the connection ended before the repair was through", m.client.Name,
			wire.ErrOutOfReach)
	}
	return done, err
}

// files are those of a directory there.
type files struct {
	m     *Machine
	dir   string // a copy's
	below string // in it
}

func (f files) at(name string) wire.Place {
	return wire.Place{User: f.m.user, Dir: f.dir, Name: filepath.Join(f.below, name)}
}

func (f files) made(name string, mode fs.FileMode) wire.Made {
	return wire.Made{Place: f.at(name), Mode: mode}
}

func (f files) In(name string) (host.Files, error) {
	in := files{f.m, f.dir, filepath.Join(f.below, name)}
	_, err := in.Look(".")
	return in, err
}

func (f files) Path(name string) string { return filepath.Join(f.dir, f.below, name) }
func (f files) Close() error            { return nil }

func (f files) MakeDir(name string, mode fs.FileMode) error {
	return do(f.m, wire.MakeDir, f.made(name, mode), soon)
}

func (f files) Create(name string, mode fs.FileMode) (host.File, error) {
	return f.opened(ask(f.m, wire.Create, f.made(name, mode), soon))
}

func (f files) Reopen(name string, mode fs.FileMode) (host.File, error) {
	return f.opened(ask(f.m, wire.Reopen, f.made(name, mode), soon))
}

func (f files) Open(name string) (host.File, error) {
	return f.opened(ask(f.m, wire.Open, f.at(name), soon))
}

func (f files) opened(h wire.Handle, err error) (host.File, error) {
	if err != nil {
		return nil, err
	}
	return &file{m: f.m, h: h}, nil
}

func (f files) ReadFile(name string) ([]byte, error) {
	return ask(f.m, wire.ReadFile, f.at(name), soon)
}

func (f files) WriteFile(name string, content []byte, mode fs.FileMode) error {
	return do(f.m, wire.WriteFile, wire.Content{Place: f.at(name), Mode: mode, Data: content}, soon)
}

func (f files) Rename(from, to string) error {
	return do(f.m, wire.Rename, wire.Renamed{Place: f.at(from), To: filepath.Join(f.below, to)}, soon)
}

func (f files) Link(path, name string) error {
	return do(f.m, wire.Link, wire.Linked{Place: f.at(name), To: path}, soon)
}

func (f files) Look(name string) (host.Entry, error)   { return ask(f.m, wire.Look, f.at(name), soon) }
func (f files) Remove(name string) error               { return do(f.m, wire.Remove, f.at(name), atLast) }
func (f files) List(name string) ([]host.Entry, error) { return ask(f.m, wire.List, f.at(name), soon) }
func (f files) Describe(name string) ([]host.Entry, error) {
	return ask(f.m, wire.Describe, f.at(name), soon)
}
func (f files) Used() (int64, error) { return ask(f.m, wire.Used, f.at("."), atLast) }
func (f files) Sync() error          { return do(f.m, wire.Sync, f.at("."), atLast) }

func (f files) Walk(name string, visit func(name string, size int64) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), atLast)
	defer cancel()
	var failed error
	err := wire.Walk.Ask(ctx, f.m.client, f.at(name), func(list []wire.Found) {
		for _, l := range list {
			own := l.Name
			if f.below != "" {
				own = strings.TrimPrefix(own, f.below+string(filepath.Separator))
			}
			if failed == nil {
				failed = visit(own, l.Size)
			}
			if errors.Is(failed, fs.ErrNotExist) {
				failed = nil // gone since
			}
		}
	})
	return errors.Join(failed, err)
}

// file is one that is open there.
type file struct {
	m  *Machine
	h  wire.Handle
	at int64 // where reading and writing in order goes on
}

func (f *file) ReadAt(b []byte, at int64) (n int, err error) {
	for n < len(b) {
		got, err := ask(f.m, wire.ReadAt, wire.Read{File: f.h, At: at + int64(n), Size: min(len(b)-n, wire.Piece)}, soon)
		if err != nil {
			return n, err
		}
		n += copy(b[n:], got.Data)
		if got.End && n < len(b) {
			return n, io.EOF
		}
	}
	return n, nil
}

func (f *file) WriteAt(b []byte, at int64) (n int, err error) {
	for some := range slices.Chunk(b, wire.Piece) {
		if err := do(f.m, wire.WriteAt, wire.Written{File: f.h, At: at + int64(n), Data: some}, soon); err != nil {
			return n, err
		}
		n += len(some)
	}
	return n, nil
}

func (f *file) Read(b []byte) (n int, err error) {
	n, err = f.ReadAt(b, f.at)
	f.at += int64(n)
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

func (f *file) Write(b []byte) (n int, err error) {
	n, err = f.WriteAt(b, f.at)
	f.at += int64(n)
	return n, err
}

func (f *file) Truncate(size int64) error {
	return do(f.m, wire.Truncate, wire.Sized{File: f.h, Size: size}, soon)
}
func (f *file) Sync() error  { return do(f.m, wire.SyncFile, f.h, atLast) }
func (f *file) Close() error { return do(f.m, wire.Close, f.h, soon) }

// Begin is left to the host.
func (f *file) Begin(int64, int64) {}
