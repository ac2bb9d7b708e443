// Package agent serves a machine to a Velvet Rewind service that runs elsewhere: it connects outward, and does what the service asks
// within the directory that its own configuration names.
//
// Invariant: whatever the service asks, nothing is read, written, removed or started outside of that directory, and no program but
// PostgreSQL's is. What a connection has opened or begun is closed, or undone, when it is lost.
package agent

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"velvetrewind/engine/host"
	"velvetrewind/engine/host/identity"
	"velvetrewind/engine/host/wire"
)

// Agent is a host agent.
type Agent struct {
	home    string
	cfg     Config
	host    *host.Host
	program string
	version string // of velvet
	log     *slog.Logger
	limit   *rate.Limiter // of bytes; nil for none

	mu  sync.Mutex
	own *identity.Host
}

const (
	firstWait, longestWait = time.Second, 30 * time.Second
	renewEvery             = time.Hour // that is tried where it is due
)

// Open makes ready what a home says.
func Open(home, version string, log *slog.Logger) (*Agent, error) {
	cfg, err := readConfig(home)
	if err != nil {
		return nil, err
	}
	a := &Agent{home: home, cfg: cfg, version: version, log: log}
	if a.own, err = readIdentity(home); err != nil {
		return nil, err
	}
	if a.host, err = host.Local(cfg.RunAs, cfg.Programs); err != nil {
		return nil, err
	}
	if cfg.Bandwidth > 0 {
		a.limit = rate.NewLimiter(rate.Limit(cfg.Bandwidth<<20), max(cfg.Bandwidth<<20, wire.Piece))
	}
	for _, d := range []string{cfg.Copies, filepath.Join(home, programsDir)} {
		if err := os.MkdirAll(d, 0o711); err != nil {
			return nil, err
		}
		if err := os.Chmod(d, 0o711); err != nil { // so that servers reach what is theirs, whatever the umask
			return nil, err
		}
	}
	if err := closed(cfg.Copies); err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(cfg.Copies); err != nil || real != cfg.Copies {
		return nil, errors.Join(err, fmt.Errorf("copies: %s leads elsewhere, over a link; name the directory itself: %s", cfg.Copies, real))
	}
	a.program, err = a.host.InstallProgram(filepath.Join(home, programsDir))
	return a, err
}

// closed refuses a directory of copies in which others may put something in a copy's place.
func closed(dir string) error {
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Geteuid() {
		return fmt.Errorf("copies: %s belongs to another OS user than the agent's; make it the agent's own: chown %d %s", dir,
			os.Geteuid(), dir)
	}
	return nil
}

// Run serves every instance of the service until ctx ends.
func (a *Agent) Run(ctx context.Context) error {
	if ends := a.identity().Ends(); time.Now().After(ends) {
		return fmt.Errorf("the certificate of this host ran out on %s, while it did not run or reach the service; remove %s, have the "+
			"service remove the host, and join anew", ends.Format(time.DateOnly), filepath.Join(a.home, identityFile))
	}
	var wg sync.WaitGroup
	for _, address := range a.cfg.Services {
		wg.Go(func() { a.keepConnected(ctx, address) })
	}
	wg.Go(func() { a.keepRenewed(ctx) })
	wg.Wait()
	return nil
}

func (a *Agent) identity() *identity.Host {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.own
}

// keepConnected connects to an instance of the service, again and again.
func (a *Agent) keepConnected(ctx context.Context, address string) {
	wait := firstWait
	for ctx.Err() == nil {
		lasted, err := a.connect(ctx, address)
		if lasted > longestWait {
			wait = firstWait
		}
		if ctx.Err() != nil {
			return
		}
		a.log.Warn("not connected", "service", address, "error", err, "next_try_in", wait.String())
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = min(2*wait, longestWait)
	}
}

// connect serves an instance over one connection, until that ends.
func (a *Agent) connect(ctx context.Context, address string) (lasted time.Duration, err error) {
	dialing, cancel := context.WithTimeout(ctx, enrolTimeout)
	defer cancel()
	d := tls.Dialer{NetDialer: &net.Dialer{KeepAlive: wire.Silence}, Config: a.identity().TLS(identity.Protocol)}
	conn, err := d.DialContext(dialing, "tcp", address)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	s := &session{Agent: a, service: "https://" + address, files: make(map[wire.Handle]host.File)}
	defer s.close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	a.log.Info("connected", "service", address)
	wire.Answer(ctx, conn, s.handler())
	lasted = time.Since(began)
	if lasted < wire.Silence {
		return lasted, errors.New("the service ended the connection: it may have removed this host, or work with another release")
	}
	return lasted, errors.New("the connection ended")
}

// keepRenewed renews the certificate of the host when that is due.
func (a *Agent) keepRenewed(ctx context.Context) {
	for {
		own := a.identity()
		if time.Now().After(own.Due()) {
			a.renewOnce(ctx, own)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(min(renewEvery, max(firstWait, time.Until(own.Due())))):
		}
	}
}

func (a *Agent) renewOnce(ctx context.Context, own *identity.Host) {
	for _, address := range a.cfg.Services {
		fresh, err := renew(ctx, own, address)
		if err == nil {
			err = keepIdentity(a.home, fresh)
		}
		if err != nil {
			a.log.Warn("the certificate was not renewed", "service", address, "runs_out", own.Ends(), "error", err)
			continue
		}
		a.mu.Lock()
		a.own = fresh
		a.mu.Unlock()
		a.log.Info("the certificate is renewed", "runs_out", fresh.Ends())
		return
	}
}
