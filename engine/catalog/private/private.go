// Package private runs a PostgreSQL server for the catalogue alone, for a service that was given
// no database: made at the first start, started and stopped with the service.
//
// Invariant: a data directory is either whole or made anew from nothing; one that was ever in use is never removed.
// Only the service's role can log in from elsewhere than the servers' OS user, with a password that its home keeps.
// Its schema is package catalog's.
package private

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host"
)

const (
	// role is the service's role, and the name of its database.
	role = "velvet"
	// admin is the bootstrap superuser, as whom only the servers' OS user gets in, whatever
	// that is called.
	admin = "catalogue_admin"
)

// Server is the catalogue's own server.
type Server struct {
	host     *host.Host
	dir      string
	log      *slog.Logger
	password string
	server   host.Server
}

// Start makes the server below dir if there is none, starts it unless it runs already, and waits
// until it accepts connections.
func Start(ctx context.Context, h *host.Host, dir string, log *slog.Logger) (*Server, error) {
	s := &Server{host: h, dir: dir, log: log, server: host.Server{DataDir: filepath.Join(dir, "data"),
		Log: filepath.Join(dir, "start.log")}}
	// Others may pass through, to the server's own directories, and see nothing.
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return nil, err
	}
	var err error
	if s.password, err = seal.LoadSecret(filepath.Join(dir, "password")); err != nil {
		return nil, err
	}
	if _, err := os.Stat(s.server.DataDir); errors.Is(err, os.ErrNotExist) {
		log.Info("making the catalogue's own server", "directory", dir)
		if err := s.make(ctx); err != nil {
			return nil, failed(err, "the catalogue's own server could not be made",
				"Fix the cause and start again, or give the service a database with --catalogue.")
		}
	}
	if err := s.start(ctx); err != nil {
		return nil, failed(err, "the catalogue's own server could not be started",
			"Its logs are in "+s.path("log")+" and "+s.server.Log+".")
	}
	return s, nil
}

func failed(err error, title, next string) error {
	return problem.Wrap(err, problem.Failed, title, next)
}

func (s *Server) path(name string) string { return filepath.Join(s.dir, name) }

// ConnString is how the service reaches its catalogue. It holds the password.
func (s *Server) ConnString() string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(role, s.password), Path: "/" + role}
	u.RawQuery = url.Values{"host": {s.server.Socket}, "port": {strconv.Itoa(s.server.Port)}, "sslmode": {"disable"}}.Encode()
	return u.String()
}

// Watch starts the server again whenever it has died, until ctx ends.
func (s *Server) Watch(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if s.host.Running(s.server) {
			continue
		}
		s.log.Warn("the catalogue's own server has ended; it is started again")
		if err := s.launch(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("the catalogue's own server could not be started again", "error", err)
		}
	}
}

// Stop ends the server in good order.
func (s *Server) Stop(ctx context.Context) error {
	err := s.host.Stop(ctx, s.server, host.Fast)
	if filepath.Dir(s.server.Socket) != s.dir {
		err = errors.Join(err, s.host.RemoveTree(s.server.Socket))
	}
	return err
}

// make lays a new data directory out aside, and puts it in place when it is whole.
func (s *Server) make(ctx context.Context) (err error) {
	aside := s.server
	aside.DataDir = s.path("data.new")
	if err := s.host.Stop(ctx, host.Server{Major: majorOf(aside.DataDir), DataDir: aside.DataDir}, host.Immediate); err != nil {
		return err
	}
	if err := s.host.RemoveTree(aside.DataDir); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.host.Stop(context.WithoutCancel(ctx), aside, host.Immediate), s.host.RemoveTree(aside.DataDir))
		}
	}()
	if aside.Major, err = s.host.InstalledMajor(); err != nil {
		return err
	}
	if err = s.host.MakeDir(aside.DataDir, 0o700); err != nil {
		return err
	}
	once := seal.Random() // the superuser's password, until nobody needs one
	if err = s.host.InitDB(ctx, aside, host.InitOptions{Superuser: admin, Password: once, Checksums: true, Sync: true}); err != nil {
		return err
	}
	if aside.Port, err = s.host.FreePort(); err != nil {
		return err
	}
	if aside.Socket, err = s.host.SocketDir(s.dir); err != nil {
		return err
	}
	if err = s.configure(aside); err != nil {
		return err
	}
	if err = s.host.StartAndWait(ctx, aside); err != nil {
		return err
	}
	if err = s.makeDatabase(ctx, aside, once); err != nil {
		return err
	}
	if err = s.host.Stop(ctx, aside, host.Fast); err != nil {
		return err
	}
	for name, content := range map[string]string{"pg_hba.conf": logins, "pg_ident.conf": "admins \"" + s.host.User() + "\" " +
		admin + "\n"} {
		if err = s.host.WriteFile(filepath.Join(aside.DataDir, name), []byte(content), 0o600); err != nil {
			return err
		}
	}
	if err = os.Rename(aside.DataDir, s.server.DataDir); err != nil {
		return err
	}
	return host.SyncDir(s.dir)
}

// makeDatabase makes the role and its database.
func (s *Server) makeDatabase(ctx context.Context, at host.Server, password string) error {
	c, err := pgx.ParseConfig("sslmode=disable connect_timeout=10")
	if err != nil {
		return err
	}
	c.Host, c.Port, c.User, c.Password, c.Database, c.Fallbacks = at.Socket, uint16(at.Port), admin, password, "postgres", nil
	conn, err := pgx.ConnectConfig(ctx, c)
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	for _, q := range []string{
		`set password_encryption = 'scram-sha-256'`,
		`set log_min_error_statement = panic`,                          // a statement that fails must not show the password
		`create role ` + role + ` login password '` + s.password + `'`, // of letters and digits alone
		`create database ` + role + ` owner ` + role,
		`revoke all on database ` + role + ` from public`,
	} {
		if _, err := conn.Exec(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// logins is the server's pg_hba.conf.
const logins = "# Written by Velvet Rewind. The servers' OS user gets in as the superuser.\n" +
	"local all " + admin + " peer map=admins\n" +
	"local " + role + " " + role + " scram-sha-256\n" +
	"host " + role + " " + role + " 127.0.0.1/32 scram-sha-256\n"

// configure writes the server's whole configuration, anew at each start.
func (s *Server) configure(at host.Server) error {
	if err := s.host.MakeDir(s.path("log"), 0o700); err != nil {
		return err
	}
	quote := func(v string) string { return "'" + strings.ReplaceAll(v, "'", "''") + "'" }
	lines := []string{
		"# Written by Velvet Rewind at each start of the service: what is changed here is lost.",
		"cluster_name = 'velvet catalogue'",
		"listen_addresses = '127.0.0.1'",
		"unix_socket_permissions = 0700",
		"max_connections = 60",
		"fsync = on",
		"full_page_writes = on",
		"synchronous_commit = on",
		"wal_level = minimal",
		"max_wal_senders = 0",
		"shared_buffers = '32MB'",
		"huge_pages = off",
		"max_wal_size = '256MB'",
		"jit = off",
		"max_worker_processes = 2",
		"max_parallel_workers = 0",
		"max_logical_replication_workers = 0",
		"",
		"# A week of logs.",
		"logging_collector = on",
		"log_directory = " + quote(s.path("log")),
		"log_filename = 'catalogue-%a.log'",
		"log_truncate_on_rotation = on",
		"log_rotation_age = '1d'",
		"log_rotation_size = 0",
		"log_line_prefix = '%m [%p] '",
		"log_min_messages = warning",
		"log_statement = 'none'",
		"lc_messages = 'C'",
		"",
	}
	return s.host.WriteFile(filepath.Join(at.DataDir, "postgresql.conf"), []byte(strings.Join(lines, "\n")), 0o600)
}

// start starts the server, or finds the one that a service before left running.
func (s *Server) start(ctx context.Context) error {
	s.server.Major = majorOf(s.server.DataDir)
	if s.host.Running(s.server) {
		at, err := s.host.Listening(s.server)
		if err == nil {
			s.server.Port, s.server.Socket = at.Port, at.Socket
			return s.host.WaitReady(ctx, s.server)
		}
		s.log.Warn("the catalogue's own server runs in an unknown way; it is started again", "error", err)
		if err := s.host.Stop(ctx, s.server, host.Fast); err != nil {
			return err
		}
	}
	if err := s.host.HasPrograms(s.server.Major); err != nil {
		return s.otherVersion(err)
	}
	return s.launch(ctx)
}

// startTries is how often a start is tried: what is left of a server that was killed holds its
// memory for a moment.
const startTries = 20

// launch starts the server: where it was, if it was started before, for that is where the
// service reaches it.
func (s *Server) launch(ctx context.Context) (err error) {
	if err := s.configure(s.server); err != nil {
		return err
	}
	again := s.server.Socket != ""
	if !again {
		if s.server.Socket, err = s.host.SocketDir(s.dir); err != nil {
			return err
		}
	}
	for range startTries {
		if !again {
			if s.server.Port, err = s.host.FreePort(); err != nil {
				return err
			}
		}
		if err = s.host.StartAndWait(ctx, s.server); err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(500 * time.Millisecond):
		}
	}
	return err
}

// otherVersion tells the way out when the server's programs are no longer installed.
func (s *Server) otherVersion(err error) error {
	next := fmt.Sprintf("Install them again: apt-get install postgresql-%d. Or go on with the installed version: move %s away, start "+
		"the service with --adopt-store, and run: velvet store rebuild", s.server.Major, s.server.DataDir)
	return problem.Wrap(err, problem.Conflict, fmt.Sprintf("the catalogue's own server is of PostgreSQL %d", s.server.Major), next)
}

// majorOf reads the major version of a data directory; 0 if it says none.
func majorOf(data string) int {
	content, err := os.ReadFile(filepath.Join(data, "PG_VERSION"))
	if err != nil {
		return 0
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(content)))
	return n
}
