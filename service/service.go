package service

import (
	"context"
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

	"velvetrewind/engine/catalog/private"
	"velvetrewind/engine/host"
	"velvetrewind/service/handlers"
)

// Files of the service's home that the command line reads.
const (
	TokenFile   = "token"   // the owner's token
	AddressFile = "address" // the service's base URL
)

// stopTimeout is how long requests and tasks get to end when the service stops.
const stopTimeout = 20 * time.Second

// Run serves until ctx ends. ready is told the base URL and a one-time link to the console.
func Run(ctx context.Context, cfg Config, version string, log *slog.Logger, ready func(url, link string)) (err error) {
	codec, err := cfg.complete()
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = noRoom(err, cfg.Home)
		}
	}()
	if err := cfg.makeDirs(); err != nil {
		return fmt.Errorf("make the service's directories: %w", err)
	}
	lock, err := lockHome(cfg.Home)
	if err != nil {
		return err
	}
	defer func() { _ = lock.Close() }()
	listener, err := net.Listen("tcp", cfg.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w; is another velvet serving there? Choose another address with --listen", cfg.Listen, err)
	}
	defer func() { _ = listener.Close() }()
	local, err := host.Local(cfg.RunAs, cfg.Programs)
	if err != nil {
		return err
	}
	var own *private.Server // of the catalogue; nil if it was given a database
	if cfg.Catalogue == "" {
		if own, err = private.Start(ctx, local, cfg.ownCatalogue(), log); err != nil {
			return err
		}
		cfg.Catalogue = own.ConnString()
		defer func() {
			stop, done := context.WithTimeout(context.WithoutCancel(ctx), stopTimeout)
			defer done()
			err = errors.Join(err, own.Stop(stop))
		}()
	}
	w := &wiring{cfg: cfg, version: version, codec: codec, host: local, own: own, url: baseURL(cfg, listener), log: log}
	defer w.close()
	if err := w.connect(ctx); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(cfg.Home, AddressFile), []byte(w.url+"\n"), 0o600); err != nil {
		return err
	}
	link, err := w.auth.NewLink(ctx, w.url)
	if err != nil {
		return err
	}
	return w.serve(ctx, listener, func() { ready(w.url, link) })
}

func baseURL(cfg Config, l net.Listener) string {
	scheme := "http"
	if cfg.TLSCert != "" {
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

// serve runs captures, tasks and HTTP until ctx ends, then stops them in turn.
func (w *wiring) serve(ctx context.Context, l net.Listener, ready func()) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var wg sync.WaitGroup
	if w.own != nil {
		wg.Go(func() { w.own.Watch(ctx) })
	}
	for _, run := range []func(context.Context){w.captures.Run, w.custody.Run, w.custody.KeepLocked, w.scheduler.Run, w.starter.Heal,
		w.starter.Rehearse} {
		wg.Go(func() { run(ctx) })
	}
	if w.agents != nil {
		w.log.Info("listening for host agents", "address", w.agents.Addr().String())
		wg.Go(func() {
			if err := w.hosts.Serve(ctx, w.agents); err != nil {
				w.log.Error("host agents are no longer listened for", "error", err)
			}
		})
	}
	// The queue lives on its own context, so that tasks are told to stop in order.
	if err := w.queue.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	wg.Go(func() { w.queue.Recover(ctx) })
	wg.Go(func() { w.worker.Meet(ctx, "") })
	server := &http.Server{Handler: w.handler(), ReadHeaderTimeout: 10 * time.Second,
		BaseContext: func(net.Listener) context.Context { return ctx }}
	failed := make(chan error, 1)
	go func() {
		if w.cfg.TLSCert != "" {
			failed <- server.ServeTLS(l, w.cfg.TLSCert, w.cfg.TLSKey)
		} else {
			failed <- server.Serve(l)
		}
	}()
	w.log.Info("serving", "address", l.Addr().String(), "store", w.custody.Store.String(), "copies_run_as", w.host.User())
	ready()
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	w.log.Info("stopping")
	cancel()
	stop, done := context.WithTimeout(context.WithoutCancel(ctx), stopTimeout)
	defer done()
	err = errors.Join(err, server.Shutdown(stop), w.queue.Stop(stop))
	wg.Wait()
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// OpenAPI gives the description of the API, as YAML, without a running service.
func OpenAPI(version string) ([]byte, error) { return handlers.Describe(version) }
