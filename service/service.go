package service

import (
	"context"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"velvetrewind/console"
	"velvetrewind/core/layout"
	"velvetrewind/engine/capture"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/private"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/schedule"
	"velvetrewind/engine/server/names"
	"velvetrewind/engine/store/vault"
)

// Service is a running service.
type Service struct {
	cfg      Config
	version  string
	log      *slog.Logger
	key      seal.Key
	codec    layout.Codec
	host     *host.Host
	store    *vault.Vault
	mirrors  mirrors
	measured measured
	catalog  *catalog.Catalog
	own      *private.Server // of the catalogue; nil if it was given a database
	books    *names.Books
	events   *events
	captures *capture.Supervisor
	tasks    *tasks
	keeper   *copies.Maker
	auth     *auth
	metrics  *metrics
}

// Files of the service's home that the command line reads.
const (
	TokenFile   = "token"   // the owner's token
	AddressFile = "address" // the service's base URL
)

// stopTimeout is how long requests and tasks get to end when the service stops.
const stopTimeout = 20 * time.Second

// Run serves until ctx ends. ready is told the base URL and a one-time link to the console.
func Run(ctx context.Context, cfg Config, version string, log *slog.Logger, ready func(url, link string)) (err error) {
	s := &Service{cfg: cfg, version: version, log: log, events: newEvents()}
	if s.codec, err = s.cfg.complete(); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = noRoom(err, s.cfg.Home)
		}
	}()
	if err := s.cfg.makeDirs(); err != nil {
		return fmt.Errorf("make the service's directories: %w", err)
	}
	lock, err := lockHome(s.cfg.Home)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	listener, err := net.Listen("tcp", s.cfg.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; is another velvet serving there? Choose another address with --listen", s.cfg.Listen, err)
	}
	defer func() { _ = listener.Close() }()
	url := s.url(listener)
	if s.host, err = host.Local(s.cfg.RunAs, s.cfg.Programs); err != nil {
		return err
	}
	if s.cfg.Catalogue == "" {
		if s.own, err = private.Start(ctx, s.host, s.cfg.ownCatalogue(), log); err != nil {
			return err
		}
		s.cfg.Catalogue = s.own.ConnString()
		defer func() {
			stop, done := context.WithTimeout(context.WithoutCancel(ctx), stopTimeout)
			defer done()
			err = errors.Join(err, s.own.Stop(stop))
		}()
	}
	if err := s.open(ctx, url); err != nil {
		return err
	}
	defer s.catalog.Close()
	if err := s.begin(ctx); err != nil {
		return err
	}
	defer func() { s.tasks.lease.Release() }()
	address := filepath.Join(s.cfg.Home, AddressFile)
	if err := os.WriteFile(address, []byte(url+"\n"), 0o600); err != nil {
		return err
	}
	link, err := s.newLink(ctx, url)
	if err != nil {
		return err
	}
	return s.serve(ctx, listener, func() { ready(url, link) })
}

func (s *Service) url(l net.Listener) string {
	scheme := "http"
	if s.cfg.TLSCert != "" {
		scheme = "https"
	}
	return scheme + "://" + l.Addr().String()
}

// feedURL is where the copies of this host reach the service.
func feedURL(url string) string {
	for _, all := range []string{"//0.0.0.0:", "//[::]:"} {
		url = strings.Replace(url, all, "//127.0.0.1:", 1)
	}
	return url
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

// open prepares everything that does not run by itself.
func (s *Service) open(ctx context.Context, url string) (err error) {
	token, err := seal.LoadSecret(filepath.Join(s.cfg.Home, TokenFile))
	if err != nil {
		return err
	}
	program, err := s.host.InstallProgram(s.cfg.programs())
	if err != nil {
		return fmt.Errorf("install the program for recovering servers: %w", err)
	}
	s.catalog, err = catalog.Open(ctx, s.cfg.Catalogue)
	forgetEnvironment()
	if err != nil {
		return err
	}
	if err := s.loadKey(ctx); err != nil {
		return err
	}
	where, err := s.openStore(ctx)
	if err != nil {
		return err
	}
	s.books = &names.Books{Catalog: s.catalog}
	var certificate []byte
	if s.cfg.TLSCert != "" {
		if certificate, err = leafOf(s.cfg.TLSCert); err != nil {
			return err
		}
	}
	s.keeper = &copies.Maker{
		Catalog: s.catalog, Store: s.store, Place: where, Host: s.host, Dir: s.cfg.Copies, Spool: s.cfg.spool(), Program: program,
		Service: feedURL(url), Certificate: certificate, Key: s.key, Changed: func(id string) { s.events.publish(eventCopy, id) },
	}
	s.captures = &capture.Supervisor{
		Catalog: s.catalog, Store: s.store, Spool: s.cfg.spool(), SpoolLimit: s.cfg.spoolLimit(), Codec: s.codec, Books: s.books,
		Log: s.log, Access: s.access,
		Changed: func(id string) { s.events.publish(eventCluster, id) },
	}
	s.auth = &auth{catalog: s.catalog, log: s.log, left: s.events.signedOut, token: token, key: s.key, hosts: s.cfg.hostNames(),
		tls: s.cfg.TLSCert != ""}
	s.events.still = s.auth.allowed
	s.metrics = newMetrics(s.catalog)
	return nil
}

// begin takes this instance's number and prepares its tasks.
func (s *Service) begin(ctx context.Context) error {
	instance, lease, err := s.catalog.TakeInstance(ctx)
	if err != nil {
		return err
	}
	if s.tasks, err = newTasks(ctx, s.catalog, instance, lease, s.cfg, s.events, s.log); err != nil {
		lease.Release()
		return err
	}
	s.tasks.kinds = s.kinds()
	s.captures.Instance = instance
	s.captures.Former, err = formerInstance(s.cfg.Home, instance)
	return err
}

// serve runs captures, tasks and HTTP until ctx ends, then stops them in turn.
func (s *Service) serve(ctx context.Context, l net.Listener, ready func()) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var wg sync.WaitGroup
	if s.own != nil {
		wg.Go(func() { s.own.Watch(ctx) })
	}
	wg.Go(func() { s.captures.Run(ctx) })
	wg.Go(func() { s.lookAfterStore(ctx) })
	wg.Go(func() { s.keepLocked(ctx) })
	calendar := &schedule.Scheduler{Catalog: s.catalog, Now: s.cfg.Now, Every: s.cfg.LookEvery, Log: s.log, Begin: s.beginDue}
	wg.Go(func() { calendar.Run(ctx) })
	wg.Go(func() { s.heal(ctx) })
	// The queue lives on its own context, so that tasks are told to stop in order.
	if err := s.tasks.queue.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	wg.Go(func() { s.tasks.recover(ctx) })
	server := &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	failed := make(chan error, 1)
	go func() {
		if s.cfg.TLSCert != "" {
			failed <- server.ServeTLS(l, s.cfg.TLSCert, s.cfg.TLSKey)
		} else {
			failed <- server.Serve(l)
		}
	}()
	s.log.Info("serving", "address", l.Addr().String(), "store", s.store.String(), "copies_run_as", s.host.User())
	ready()
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	s.log.Info("stopping")
	cancel()
	stop, done := context.WithTimeout(context.WithoutCancel(ctx), stopTimeout)
	defer done()
	err = errors.Join(err, server.Shutdown(stop), s.tasks.queue.StopAndCancel(stop))
	wg.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// handler puts the API, the console and the rest under one roof.
func (s *Service) handler() http.Handler {
	r := chi.NewRouter()
	r.Get("/healthz", func(w http.ResponseWriter, r *http.Request) {
		if err := s.catalog.Ping(r.Context()); err != nil {
			http.Error(w, "the catalogue does not answer", http.StatusServiceUnavailable)
			return
		}
		_, _ = w.Write([]byte("ok\n"))
	})
	r.Group(func(r chi.Router) {
		r.Use(s.auth.guard)
		r.Post("/api/v1/session", s.auth.signIn)
		r.Get("/api/v1/copies/{copy}/feed/{name}", s.auth.requireFeed(s.feed))
		r.Group(func(r chi.Router) {
			r.Use(s.auth.require)
			r.Delete("/api/v1/session", s.auth.signOut)
			r.Get("/api/v1/events", s.events.ServeHTTP)
			r.Method(http.MethodGet, "/metrics", s.metrics.handler())
			r.Mount("/api/v1", s.api())
		})
		r.NotFound(console.Handler().ServeHTTP)
	})
	return r
}
