package service

import (
	"context"
	"encoding/pem"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/go-chi/chi/v5"

	"velvetrewind/console"
	"velvetrewind/core/layout"
	"velvetrewind/core/rehearsal"
	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/private"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/restore/takeover"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/server/survey"
	"velvetrewind/service/auth"
	"velvetrewind/service/automatic"
	"velvetrewind/service/custody"
	"velvetrewind/service/events"
	"velvetrewind/service/fleet"
	"velvetrewind/service/handlers"
	"velvetrewind/service/hosts"
	"velvetrewind/service/logins"
	"velvetrewind/service/metrics"
	"velvetrewind/service/planner"
	"velvetrewind/service/tasks"
	"velvetrewind/service/work"
)

// wiring makes the parts of the service and gives each those that it needs. Nothing but Run knows it.
type wiring struct {
	cfg     Config
	version string
	codec   layout.Codec
	host    *host.Host
	own     *private.Server // of the catalogue; nil if it was given a database
	url     string
	log     *slog.Logger

	catalog   *catalog.Catalog
	custody   *custody.Custody
	logins    logins.Logins
	books     *names.Books
	events    *events.Hub
	captures  *capture.Supervisor
	copies    *copies.Maker
	planner   *planner.Planner
	fleet     *fleet.Reader
	hosts     *hosts.Registry
	agents    net.Listener // for host agents; nil for none
	queue     *tasks.Queue
	worker    *work.Worker
	starter   *automatic.Starter
	scheduler *schedule.Scheduler
	auth      *auth.Auth
}

// connect makes everything, in the order in which one needs the other. Nothing runs yet.
func (w *wiring) connect(ctx context.Context) error {
	w.events = events.New()
	var err error
	w.catalog, err = catalog.Open(ctx, w.cfg.Catalogue)
	forgetEnvironment()
	if err != nil {
		return err
	}
	if w.logins.Key, err = loadKey(ctx, w.cfg, w.catalog); err != nil {
		return err
	}
	w.books = &names.Books{Catalog: w.catalog}
	if err := w.openStore(ctx); err != nil {
		return err
	}
	instance, lease, err := w.catalog.TakeInstance(ctx)
	if err != nil {
		return err
	}
	w.queue, err = tasks.New(ctx, tasks.Config{Catalog: w.catalog, Instance: instance, Lease: lease, AtOnce: w.cfg.TasksAtOnce,
		Limits: catalog.Limits{PerCluster: w.cfg.TasksPerCluster, BackupsPerHost: w.cfg.BackupsPerHost}, Events: w.events, Log: w.log})
	if err != nil {
		lease.Release()
		return err
	}
	w.captures = &capture.Supervisor{
		Catalog: w.catalog, Store: w.custody.Store, Spool: w.cfg.spool(), SpoolLimit: w.cfg.spoolLimit(), Codec: w.codec, Books: w.books,
		Log: w.log, Access: w.logins.Access, Changed: func(id string) { w.events.Publish(events.Cluster, id) }, Instance: instance,
		MachineOf: (&takeover.Taker{Catalog: w.catalog, Copies: w.copies}).MachineOf,
	}
	if w.captures.Former, err = formerInstance(w.cfg.Home, instance); err != nil {
		return err
	}
	w.planner = &planner.Planner{Catalog: w.catalog, Store: w.custody.Store, Spool: w.cfg.spool(), Books: w.books, Codec: w.codec,
		Instance: instance}
	w.fleet = &fleet.Reader{Catalog: w.catalog, Store: w.custody.Store, Spool: w.cfg.spool(), SpoolLimit: w.cfg.spoolLimit(),
		Trouble: w.custody, Now: w.cfg.Now}
	w.connectTasks()
	if err := w.connectAuth(); err != nil {
		return err
	}
	return w.connectHosts(ctx)
}

// close undoes connect, however far that came.
func (w *wiring) close() {
	if w.catalog == nil {
		return
	}
	if w.agents != nil {
		_ = w.agents.Close()
	}
	if w.queue != nil {
		w.queue.Lease.Release()
	}
	w.catalog.Close()
}

// openStore opens the store, and has copies be made from it.
func (w *wiring) openStore(ctx context.Context) error {
	c, where, err := custody.Open(ctx, custody.Config{
		Catalog: w.catalog, First: custody.Where{Name: w.cfg.Store, Keys: w.cfg.StoreKeys, CopiesKeys: w.cfg.CopiesKeys},
		Second: custody.Where{Name: w.cfg.SecondStore, Keys: w.cfg.SecondKeys, CopiesKeys: w.cfg.SecondCopiesKeys},
		Key:    w.cfg.StoreKey, Adopt: w.cfg.AdoptStore, Group: w.host.Group(), Spool: w.cfg.spool(), DeleteAfter: w.cfg.deleteAfter,
		Now: w.cfg.Now, Log: w.log,
	})
	if err != nil {
		return err
	}
	w.custody = c
	program, err := w.host.InstallProgram(w.cfg.programs())
	if err != nil {
		return fmt.Errorf("install the program for recovering servers: %w", err)
	}
	var certificate []byte
	if w.cfg.TLSCert != "" {
		if certificate, err = leafOf(w.cfg.TLSCert); err != nil {
			return err
		}
	}
	w.copies = &copies.Maker{
		Catalog: w.catalog, Store: c.Store, Place: where, Spool: w.cfg.spool(),
		Ground: copies.Ground{Host: w.host, Dir: w.cfg.Copies, Program: program, Service: feedURL(w.url), Certificate: certificate},
		Key:    w.logins.Key, Changed: func(id string) { w.events.Publish(events.Copy, id) },
	}
	return nil
}

// leafOf reads the certificate that the service shows.
func leafOf(file string) ([]byte, error) {
	content, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(content)
	if block == nil || block.Type != "CERTIFICATE" {
		return nil, fmt.Errorf("%s does not begin with a certificate in PEM form", file)
	}
	return block.Bytes, nil
}

// connectTasks says what tasks do, and what begins them by itself.
func (w *wiring) connectTasks() {
	w.worker = &work.Worker{
		Catalog: w.catalog, Custody: w.custody, Logins: w.logins, Planner: w.planner, Copies: w.copies, Host: w.host,
		Captures: w.captures, Books: w.books, Codec: w.codec, Spool: w.cfg.spool(), ThroughSQL: w.cfg.ReadData == "sql",
		Events: w.events, Now: w.cfg.Now, Version: w.version, Log: w.log,
	}
	w.worker.AddTo(w.queue)
	w.custody.Mirror = func(ctx context.Context, cluster string) error {
		_, err := w.queue.Submit(ctx, cluster, "", work.Mirror{})
		return err
	}
	w.starter = &automatic.Starter{Tasks: w.queue, Fleet: w.fleet, Captures: w.captures, Log: w.log,
		Rehearsals: automatic.Rehearsals{Hours: w.cfg.rehearsalHours,
			Limits: rehearsal.Limits{AtOnce: w.cfg.Rehearsals, Bytes: int64(w.cfg.RehearsalSpace) << 30}}}
	w.scheduler = &schedule.Scheduler{Catalog: w.catalog, Now: w.cfg.Now, Every: w.cfg.LookEvery, Log: w.log, Begin: w.starter.Begin}
}

func (w *wiring) connectAuth() error {
	token, err := seal.LoadSecret(filepath.Join(w.cfg.Home, TokenFile))
	w.auth = &auth.Auth{Catalog: w.catalog, Log: w.log, Left: w.events.SignedOut, Token: token, Key: w.logins.Key,
		Hosts: w.cfg.hostNames(), TLS: w.cfg.TLSCert != ""}
	w.events.Still = w.auth.Allowed
	return err
}

// connectHosts makes ready for machines with a host agent.
func (w *wiring) connectHosts(ctx context.Context) (err error) {
	w.hosts = &hosts.Registry{Catalog: w.catalog, Key: w.logins.Key, Log: w.log, Now: w.cfg.Now,
		Changed: func(id string) { w.events.Publish(events.Host, id) }, Met: w.worker.Meet,
		Feed: w.auth.RequireFeed(w.copyHandlers().Feed)}
	if w.cfg.Agents == "" {
		return nil
	}
	if err := w.hosts.Open(ctx, w.cfg.NewKey); err != nil {
		return err
	}
	w.copies.Elsewhere, w.copies.InReach = w.hosts.Ground, w.hosts.InReach
	if w.agents, err = net.Listen("tcp", w.cfg.Agents); err != nil {
		return fmt.Errorf("listen on %s for host agents: %w; choose another address with --agents", w.cfg.Agents, err)
	}
	return nil
}

func (w *wiring) copyHandlers() *handlers.Copies {
	return &handlers.Copies{Catalog: w.catalog, Custody: w.custody, Planner: w.planner, Copies: w.copies, Tasks: w.queue,
		Events: w.events, Host: w.host, Taker: w.worker.Taker(), Now: w.cfg.Now, Log: w.log}
}

// checker looks at clusters from here.
func (w *wiring) checker() *survey.Checker {
	c := &survey.Checker{Host: w.host, Now: w.cfg.Now, StoreFree: -1, StoreSealed: w.custody.Store.Ring() != nil}
	if !strings.Contains(w.cfg.Store, "://") {
		if free, err := w.host.FreeSpace(w.cfg.Store); err == nil {
			c.StoreFree = free
		}
	}
	return c
}

// handler puts the API, the console and the rest under one roof.
func (w *wiring) handler() http.Handler {
	copies := w.copyHandlers()
	r := chi.NewRouter()
	r.Get("/healthz", func(out http.ResponseWriter, r *http.Request) {
		if err := w.catalog.Ping(r.Context()); err != nil {
			http.Error(out, "the catalogue does not answer", http.StatusServiceUnavailable)
			return
		}
		_, _ = out.Write([]byte("ok\n"))
	})
	r.Group(func(r chi.Router) {
		r.Use(w.auth.Guard)
		r.Post("/api/v1/session", w.auth.SignIn)
		r.Get("/api/v1/copies/{copy}/feed/{name}", w.auth.RequireFeed(copies.Feed))
		r.Group(func(r chi.Router) {
			r.Use(w.auth.Require)
			r.Delete("/api/v1/session", w.auth.SignOut)
			r.Get("/api/v1/events", w.events.ServeHTTP)
			r.Method(http.MethodGet, "/metrics", metrics.New(w.catalog).Handler())
			r.Mount("/api/v1", handlers.API(w.version, w.log, w.catalog, append(w.nouns(), copies)...))
		})
		r.NotFound(console.Handler().ServeHTTP)
	})
	return r
}

// agentsAddress is where host agents come to this instance, "" if nowhere.
func (w *wiring) agentsAddress() string {
	if w.agents == nil {
		return ""
	}
	_, port, _ := net.SplitHostPort(w.agents.Addr().String())
	name, _, _ := net.SplitHostPort(w.cfg.Agents)
	if ip := net.ParseIP(name); name == "" || ip != nil && ip.IsUnspecified() {
		if own, err := os.Hostname(); err == nil {
			name = own
		}
	}
	return net.JoinHostPort(name, port)
}

// nouns are what the API is about, but for copies.
func (w *wiring) nouns() []handlers.Noun {
	return []handlers.Noun{
		&handlers.Clusters{Catalog: w.catalog, Custody: w.custody, Fleet: w.fleet, Logins: w.logins, Checker: w.checker,
			Captures: w.captures, Tasks: w.queue, Events: w.events, Auth: w.auth, Host: w.host, Spool: w.cfg.spool(), Log: w.log},
		&handlers.Readiness{Catalog: w.catalog, Logins: w.logins, Checker: w.checker, Log: w.log},
		&handlers.Backups{Catalog: w.catalog, Custody: w.custody, Books: w.books, Tasks: w.queue, Events: w.events,
			Spool: w.cfg.spool(), Now: w.cfg.Now},
		&handlers.Moments{Catalog: w.catalog, Planner: w.planner, Copies: w.copies},
		&handlers.Changes{
			Catalog:  w.catalog,
			Logins:   w.logins,
			Custody:  w.custody,
			Planner:  w.planner,
			Fleet:    w.fleet,
			Captures: w.captures,
			Events:   w.events,
		},
		&handlers.Proofs{Catalog: w.catalog, Custody: w.custody, Version: w.version, Log: w.log},
		&handlers.Rehearsals{Catalog: w.catalog, Fleet: w.fleet, Planner: w.planner, Tasks: w.queue, Now: w.cfg.Now},
		&handlers.Store{Catalog: w.catalog, Custody: w.custody, Tasks: w.queue, Home: w.cfg.Home, Log: w.log},
		&handlers.Keep{Catalog: w.catalog, Custody: w.custody, Fleet: w.fleet, Tasks: w.queue, Events: w.events, Now: w.cfg.Now},
		&handlers.Calendar{Catalog: w.catalog, Custody: w.custody, Fleet: w.fleet, Events: w.events, Now: w.cfg.Now},
		&handlers.Tasks{Catalog: w.catalog, Queue: w.queue, Now: w.cfg.Now},
		&handlers.Trail{Catalog: w.catalog},
		&handlers.Hosts{Catalog: w.catalog, Registry: w.hosts, Address: w.agentsAddress()},
		&handlers.Takeovers{Catalog: w.catalog, Logins: w.logins, Planner: w.planner, Taker: w.worker.Taker(), Tasks: w.queue,
			Now: w.cfg.Now},
		&handlers.Rescues{Catalog: w.catalog, Worker: w.worker, Tasks: w.queue, Log: w.log},
		&handlers.Files{Planner: w.planner, Custody: w.custody, Spool: w.cfg.spool(), Log: w.log},
		&handlers.Leftovers{Catalog: w.catalog, Finder: w.worker.Leftovers(), Tasks: w.queue},
		&handlers.Repairs{Catalog: w.catalog, Tasks: w.queue},
		&handlers.Segments{Planner: w.planner, Custody: w.custody, Fleet: w.fleet, Log: w.log},
	}
}
