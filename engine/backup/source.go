package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
)

// source reads the files of a data directory while its server runs.
type source interface {
	// list visits what a directory, relative to the data directory, holds. One that is
	// gone holds nothing.
	list(ctx context.Context, dir string) ([]layout.File, error)
	// open opens a file; fs.ErrNotExist if it is gone.
	open(ctx context.Context, path string) (content, error)
	// about says for the log how it reads.
	about() string
	close() error
}

// content is an opened file: ReadAt reads less than it is asked for only at the end.
type content interface {
	io.ReaderAt
	io.Closer
}

// localSource reads a data directory on this host. Whoever owns that may put anything there, and we
// may be root: no name leads out of the directory but those of tablespaces, to where the server says
// that they are, and only plain files are read that the directory's owner may read.
type localSource struct {
	dir    string
	root   *os.Root
	spaces map[string]*os.Root // by their name in the data directory
	owner  *syscall.Stat_t
}

// openLocal opens a data directory and its tablespaces.
func openLocal(dir string, spaces []layout.TablespaceEntry) (*localSource, error) {
	s := &localSource{dir: dir, spaces: make(map[string]*os.Root)}
	var err error
	if s.root, err = os.OpenRoot(dir); err != nil {
		return nil, err
	}
	info, err := s.root.Stat(".")
	for _, t := range spaces {
		if err == nil {
			s.spaces[spaceName(t)], err = os.OpenRoot(t.Location)
		}
	}
	if err != nil {
		return nil, errors.Join(err, s.close())
	}
	s.owner = info.Sys().(*syscall.Stat_t)
	return s, nil
}

func spaceName(t layout.TablespaceEntry) string {
	return path.Join("pg_tblspc", strconv.FormatUint(uint64(t.OID), 10))
}

func (s *localSource) close() error {
	err := s.root.Close()
	for _, r := range s.spaces {
		if r != nil {
			err = errors.Join(err, r.Close())
		}
	}
	return err
}

func (s *localSource) about() string { return "from " + s.dir }

// within finds the directory that a name is in, and the name there.
func (s *localSource) within(name string) (*os.Root, string) {
	if parts := strings.SplitN(name, "/", 3); len(parts) > 1 {
		if r, ok := s.spaces[path.Join(parts[:2]...)]; ok {
			return r, path.Join(append([]string{"."}, parts[2:]...)...)
		}
	}
	return s.root, name
}

func (s *localSource) list(_ context.Context, dir string) ([]layout.File, error) {
	root, below := s.within(dir)
	d, err := root.OpenFile(below, os.O_RDONLY|unix.O_DIRECTORY, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	entries, err := d.Readdirnames(-1) // names alone: there may be very many
	if err = errors.Join(err, d.Close()); err != nil {
		return nil, err
	}
	list := make([]layout.File, 0, len(entries))
	for _, e := range entries {
		name := path.Join(dir, e)
		in, at := s.within(name)
		info, err := in.Lstat(at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		f := layout.File{Path: name, Mode: uint32(info.Mode().Perm()), Dir: info.IsDir(), Modified: info.ModTime().UTC()}
		switch {
		case info.Mode().IsRegular():
			f.Size = info.Size()
		case info.Mode()&fs.ModeSymlink != 0 && emptyDirs[name]:
			f.Dir, f.Mode = true, 0o700 // pg_wal may lie elsewhere; nothing below it is read
		case !f.Dir:
			continue // a link or a pipe, which the server leaves out of its own backups, too
		}
		list = append(list, f)
	}
	return list, nil
}

func (s *localSource) open(_ context.Context, name string) (content, error) {
	root, at := s.within(name)
	f, err := root.OpenFile(at, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if !s.mayRead(info) {
		return nil, errors.Join(fmt.Errorf("%s is no plain file that the owner of the data directory may read; remove it, or let the "+
			"owner read it", path.Join(s.dir, name)), f.Close())
	}
	return f, nil
}

// mayRead tells whether the owner of the data directory may read a file: a name there can be that of
// somebody else's.
func (s *localSource) mayRead(info fs.FileInfo) bool {
	st, mode := info.Sys().(*syscall.Stat_t), info.Mode()
	return mode.IsRegular() && (st.Uid == s.owner.Uid || st.Gid == s.owner.Gid && mode&0o040 != 0 || mode&0o004 != 0)
}

// sqlSource reads a data directory through the server.
type sqlSource struct{ conn *pgx.Conn }

func (s sqlSource) about() string { return "through SQL" }

func (s sqlSource) close() error { return nil }

func (s sqlSource) list(ctx context.Context, dir string) ([]layout.File, error) {
	rows, err := s.conn.Query(ctx, `select f, size, modification, isdir
		from pg_catalog.pg_ls_dir($1, true, false) f, pg_catalog.pg_stat_file($1 operator(pg_catalog.||) '/' operator(pg_catalog.||) f,
		true) where size is not null`, dir)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (f layout.File, err error) {
		var name string
		if err = row.Scan(&name, &f.Size, &f.Modified, &f.Dir); err != nil {
			return f, err
		}
		f.Path, f.Modified, f.Mode = path.Join(dir, name), f.Modified.UTC(), 0o600
		if f.Dir {
			f.Size, f.Mode = 0, 0o700
		}
		return f, nil
	})
}

func (s sqlSource) open(ctx context.Context, name string) (content, error) {
	return &sqlContent{ctx: ctx, conn: s.conn, path: name}, nil
}

type sqlContent struct {
	ctx  context.Context
	conn *pgx.Conn
	path string
}

func (c *sqlContent) ReadAt(p []byte, offset int64) (int, error) {
	part, err := readThrough(c.ctx, c.conn, c.path, offset, int64(len(p)))
	if err != nil {
		return 0, err
	}
	if n := copy(p, part); n < len(p) {
		return n, io.EOF
	}
	return len(p), nil
}

func (c *sqlContent) Close() error { return nil }

// readThrough reads a part of a file through the server; fs.ErrNotExist if it is gone.
func readThrough(ctx context.Context, conn *pgx.Conn, name string, offset, length int64) (part []byte, err error) {
	err = conn.QueryRow(ctx, `select pg_catalog.pg_read_binary_file($1, $2, $3, true)`, name, offset, length).Scan(&part)
	if err == nil && part == nil {
		err = fmt.Errorf("%s: %w", name, fs.ErrNotExist)
	}
	return part, err
}

// openSource finds the quickest way to the data directory of the server that conn is connected to:
// on this host if it is here beyond doubt, else through SQL.
func (t *Taker) openSource(ctx context.Context, conn *pgx.Conn) (source, error) {
	if !t.ThroughSQL {
		if root := localRoot(ctx, conn, t.Cluster.SystemID); root != "" {
			if spaces, err := tablespaces(ctx, conn); err != nil {
				return nil, err
			} else if s, err := openLocal(root, spaces); err == nil {
				return s, nil
			}
		}
	}
	if s := t.openAway(ctx, conn); s != nil && !t.ThroughSQL {
		return s, nil
	}
	s := sqlSource{conn}
	if _, err := s.list(ctx, "global"); err != nil {
		return nil, mayNotRead(err, t.Cluster.Version())
	}
	if _, err := readThrough(ctx, conn, "global/pg_control", 0, pg.ControlFileSize); err != nil {
		return nil, mayNotRead(err, t.Cluster.Version())
	}
	return s, nil
}

// mayNotRead says which rights are missing.
func mayNotRead(err error, v *pg.Version) error {
	return fmt.Errorf("the data directory is not on this host, and may not be read through SQL (%w); as a superuser: GRANT "+
		"pg_read_server_files TO role; GRANT EXECUTE ON FUNCTION pg_ls_dir(text, boolean, boolean), pg_stat_file(text, boolean), "+
		"pg_read_binary_file(text, bigint, bigint, boolean), %s, %s TO role", err, v.StartBackupSignature, v.StopBackupSignature)
}

// startsWithin is how long a server may take from writing its pid file until it says that
// it has started.
const startsWithin = time.Minute

// localRoot finds the server's data directory on this host: it must hold the same
// cluster, and its server must be the very one that conn talks to: it has the port, it
// started then, and the session's process is its child.
func localRoot(ctx context.Context, conn *pgx.Conn, systemID uint64) string {
	var root string
	var port, session int
	var started time.Time
	err := conn.QueryRow(ctx, `select pg_catalog.current_setting('data_directory'), pg_catalog.current_setting('port')::int,
		pg_catalog.pg_postmaster_start_time(), pg_catalog.pg_backend_pid()`).Scan(&root, &port, &started, &session)
	if err != nil || root == "" {
		return ""
	}
	dir, err := os.OpenRoot(root)
	if err != nil {
		return ""
	}
	defer func() { _ = dir.Close() }()
	control, err := readPlain(dir, controlFile)
	if err != nil {
		return ""
	}
	c, err := pg.ParseControl(control)
	if err != nil || c.SystemID != systemID {
		return ""
	}
	content, err := readPlain(dir, "postmaster.pid")
	if err != nil {
		return ""
	}
	if !startedThen(string(content), port, started) {
		return ""
	}
	first, _, _ := strings.Cut(string(content), "\n")
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", session))
	if err != nil || !strings.Contains(string(status), "\nPPid:\t"+strings.TrimSpace(first)+"\n") {
		return ""
	}
	return root
}

// readPlain reads a small regular file; it does not wait at a pipe.
func readPlain(dir *os.Root, name string) ([]byte, error) {
	f, err := dir.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fmt.Errorf("%s is no regular file", name))
	}
	return io.ReadAll(io.LimitReader(f, 4*pg.ControlFileSize))
}

// What a base backup leaves out, as the server's own does (basebackup.c).
var (
	emptyDirs = map[string]bool{
		"pg_stat_tmp": true, "pg_replslot": true, "pg_dynshmem": true, "pg_notify": true, "pg_serial": true,
		"pg_snapshots": true, "pg_subtrans": true, "pg_wal": true,
	}
	leftOut = map[string]bool{
		"postmaster.pid": true, "postmaster.opts": true, "backup_label": true, "tablespace_map": true, "backup_manifest": true,
		"postgresql.auto.conf.tmp": true, "current_logfiles.tmp": true, "backup_label.old": true, "tablespace_map.old": true,
	}
	temporaryRelation = regexp.MustCompile(`^t\d+_\d+(_(fsm|vm))?(\.\d+)?$`)
	initFork          = regexp.MustCompile(`^(\d+)_init$`)
	relationName      = regexp.MustCompile(`^(\d+)(_(fsm|vm))?(\.\d+)?$`)
)

// controlFile is read last.
const controlFile = "global/pg_control"

// walk visits every file and directory that belongs into a base backup, but pg_control.
func walk(ctx context.Context, s source, server *pg.Version, spaces []layout.TablespaceEntry, visit func(layout.File) error) error {
	known, own := make(map[string]bool), server.TablespaceDirectory() // an upgraded tablespace holds others too
	for _, t := range spaces {
		known[spaceName(t)] = true
	}
	var down func(dir string) error
	down = func(dir string) error {
		list, err := s.list(ctx, dir)
		if err != nil {
			return fmt.Errorf("list %s: %w", dir, err)
		}
		slices.SortFunc(list, func(a, b layout.File) int { return strings.Compare(a.Path, b.Path) })
		unlogged := unloggedOf(list)
		for _, f := range list {
			if err := ctx.Err(); err != nil {
				return context.Cause(ctx)
			}
			name := path.Base(f.Path)
			space := dir == "pg_tblspc"
			if skip(f, dir, name, unlogged) || space && !known[f.Path] || known[dir] && name != own {
				continue
			}
			if !space { // a tablespace's own directory is made where it is laid out
				if err := visit(f); err != nil {
					return err
				}
			}
			if !f.Dir {
				continue
			}
			if emptyDirs[f.Path] {
				if f.Path == "pg_wal" {
					if err := visit(layout.File{Path: "pg_wal/archive_status", Mode: f.Mode, Dir: true, Modified: f.Modified}); err != nil {
						return err
					}
				}
				continue
			}
			if err := down(f.Path); err != nil {
				return err
			}
		}
		return nil
	}
	return down(".")
}

// unloggedOf lists the relations of a directory whose content is not in the WAL.
func unloggedOf(list []layout.File) map[string]bool {
	unlogged := make(map[string]bool)
	for _, f := range list {
		if m := initFork.FindStringSubmatch(path.Base(f.Path)); m != nil {
			unlogged[m[1]] = true
		}
	}
	return unlogged
}

func skip(f layout.File, dir, name string, unlogged map[string]bool) bool {
	if strings.HasPrefix(name, "pgsql_tmp") || strings.HasPrefix(name, "pg_internal.init") || f.Path == controlFile {
		return true
	}
	if dir == "." && leftOut[name] {
		return true
	}
	if m := relationName.FindStringSubmatch(name); m != nil && unlogged[m[1]] {
		return true
	}
	return !f.Dir && temporaryRelation.MatchString(name)
}
