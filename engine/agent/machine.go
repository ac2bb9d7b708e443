package agent

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"strconv"

	"velvetrewind/core/partial"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/place"
	"velvetrewind/engine/store/vault"
)

// serveMachine answers what is about the machine.
func (s *session) serveMachine(mux *http.ServeMux) {
	wire.RemoveTree.Serve(mux, func(_ context.Context, p wire.Place) (wire.Nothing, error) {
		if err := s.within(p.Dir, false); err != nil {
			return none, err
		}
		return none, s.host.RemoveTree(p.Dir)
	})
	wire.FreeSpace.Serve(mux, func(context.Context, wire.Place) (int64, error) { return s.host.FreeSpace(s.cfg.Copies) })
	wire.FreeMemory.Serve(mux, func(context.Context, wire.Nothing) (int64, error) { return s.host.FreeMemory() })
	wire.FreePort.Serve(mux, func(context.Context, wire.Nothing) (int, error) { return s.freePort() })
	wire.Listens.Serve(mux, func(_ context.Context, port int) (bool, error) { return s.host.Listens(port) })
	wire.SocketDir.Serve(mux, func(_ context.Context, p wire.Place) (string, error) {
		if err := s.within(p.Dir, false); err != nil {
			return "", err
		}
		m, err := s.as(p.User)
		if err != nil {
			return "", err
		}
		return m.SocketDir(p.Dir)
	})
	wire.DropSocketDir.Serve(mux, func(_ context.Context, p wire.Place) (wire.Nothing, error) {
		if err := s.within(p.Dir, false); err != nil {
			return none, err
		}
		return none, s.host.DropSocketDir(p.Dir)
	})
}

// freePort finds one that a copy may have.
func (s *session) freePort() (int, error) {
	if s.cfg.Ports == "" {
		return s.host.FreePort()
	}
	span := s.cfg.last - s.cfg.first + 1
	for i, at := 0, rand.IntN(span); i < span; i++ {
		if port := s.cfg.first + (at+i)%span; !s.host.PortTaken(port) {
			return port, nil
		}
	}
	return 0, refused("something listens on every one of the ports %s that copies may have here", s.cfg.Ports)
}

// serveServers answers what is about servers.
func (s *session) serveServers(mux *http.ServeMux) {
	wire.Start.Serve(mux, func(ctx context.Context, in wire.Server) (wire.Nothing, error) {
		m, server, err := s.server(in)
		if err != nil {
			return none, err
		}
		if server.Port < s.cfg.first || server.Port > s.cfg.last {
			return none, refused("copies may not have the port %d here, but those of %s", server.Port, cmp.Or(s.cfg.Ports, "1024-65535"))
		}
		return none, m.Start(ctx, server)
	})
	wire.Stop.Serve(mux, func(ctx context.Context, in wire.Stopped) (wire.Nothing, error) {
		m, server, err := s.server(in.Server)
		if err != nil {
			return none, err
		}
		if in.Mode != host.Fast && in.Mode != host.Immediate {
			return none, refused("%q is no way to end a server", in.Mode)
		}
		return none, m.Stop(context.WithoutCancel(ctx), server, in.Mode) // which is not left half done
	})
	wire.AskRuns.Serve(mux, func(_ context.Context, in wire.Server) (r wire.Runs, err error) {
		m, server, err := s.server(in)
		if err != nil {
			return r, err
		}
		r.Running, r.Starting, err = m.Runs(server)
		return r, err
	})
	wire.LogTail.Serve(mux, func(_ context.Context, in wire.Tail) (string, error) {
		m, server, err := s.server(in.Server)
		if err != nil {
			return "", err
		}
		return m.LogTail(server, min(max(in.Size, 0), wire.Piece)), nil
	})
}

// dial joins the connection to the socket of a copy's server.
func (s *session) dial(out http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	port, err := strconv.Atoi(q.Get("port"))
	data := q.Get("data")
	if err == nil {
		err = s.within(data, true)
	}
	if err != nil {
		http.Error(out, err.Error(), http.StatusForbidden)
		return
	}
	server := host.Server{DataDir: data, Port: port, Socket: s.host.SocketPath(filepath.Dir(data))}
	conn, err := s.host.Dial(r.Context(), server)
	if err != nil {
		http.Error(out, err.Error(), http.StatusBadGateway)
		return
	}
	defer func() { _ = conn.Close() }()
	control := http.NewResponseController(out)
	out.WriteHeader(http.StatusOK)
	if control.Flush() != nil {
		return
	}
	go func() {
		_, _ = io.Copy(conn, r.Body)
		_ = conn.Close()
	}()
	buf := make([]byte, 64<<10)
	for {
		n, err := conn.Read(buf)
		if n > 0 {
			if _, e := out.Write(buf[:n]); e != nil || control.Flush() != nil || s.slow(r.Context(), n) != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// layOut lays out a base from the store. What was laid out for a service that is lost meanwhile is removed.
func (s *session) layOut(ctx context.Context, in wire.LayOrder, send func(wire.Laying) error) error {
	if err := s.within(in.Dir, false); err != nil {
		return err
	}
	m, err := s.as(in.User)
	if err != nil {
		return err
	}
	v, err := s.reads(ctx, in)
	if err != nil {
		return fmt.Errorf("%w: %w", err, wire.ErrLacks)
	}
	files, err := m.Files(in.Dir)
	if err != nil {
		return err
	}
	defer func() { _ = files.Close() }()
	report := &sender{send: send}
	trees := copies.TreesIn(files)
	var laid restore.Laid
	switch {
	case in.Lacks != "":
		var lacks partial.Lacks
		if lacks, err = copies.ReadLacks(files, in.Lacks); err == nil {
			laid, err = restore.LayOutPart(ctx, v, in.Cluster, in.Backup, trees, lacks, in.Total, report)
		}
	case in.Over:
		laid, err = restore.LayOver(ctx, v, in.Cluster, in.Backup, trees, in.Total, report)
	default:
		laid, err = restore.LayOut(ctx, v, in.Cluster, in.Backup, trees, in.Total, report)
	}
	if err != nil && ctx.Err() != nil && !in.Over {
		err = errors.Join(err, m.RemoveTree(in.Dir))
	}
	if err != nil {
		return err
	}
	head, err := json.Marshal(laid.Head)
	if err != nil {
		return err
	}
	return report.pass(wire.Laying{Head: head, Kept: laid.Kept})
}

// reads opens the store, and makes sure that it is the one.
func (s *session) reads(ctx context.Context, in wire.LayOrder) (*vault.Vault, error) {
	var p place.Place
	if err := json.Unmarshal(in.Store, &p); err != nil {
		return nil, err
	}
	v, err := p.ToRead(ctx)
	if err != nil {
		return nil, err
	}
	manifest, err := v.Open(ctx, store.ManifestKey(in.Cluster, in.Backup))
	if err != nil {
		return nil, err
	}
	return v, manifest.Close()
}
