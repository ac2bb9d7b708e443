// Package hosts has machines with a host agent join the service, and keeps the connections over which they are asked.
//
// Invariant: a host is known by its certificate alone, which this installation's authority has signed, and one that was removed is
// neither asked nor answered. A word lets one host join, once, within an hour.
package hosts

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"velvetrewind/core/problem"
	"velvetrewind/engine/agent"
	"velvetrewind/engine/agent/remote"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host/identity"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore/copies"
)

// Registry is the hosts of a service.
type Registry struct {
	Catalog *catalog.Catalog
	Key     seal.Key
	Log     *slog.Logger
	Now     func() time.Time
	Changed func(host string)
	// Met is told of a host that is in reach again.
	Met func(ctx context.Context, host string)
	// Feed delivers WAL to copies on hosts.
	Feed http.Handler

	authority *identity.Authority

	mu          sync.Mutex
	certificate *tls.Certificate
	links       map[string]*link
}

// link is a connection to a host.
type link struct {
	client wire.Client
	about  wire.About
	conn   net.Conn
}

const (
	wordLasts  = time.Hour
	seenEvery  = time.Minute
	sealedAs   = "the authority for hosts"
	mostAsked  = 64 << 10
	askTimeout = 30 * time.Second
)

// Open reads the installation's authority, or makes it. One whose key was sealed with a key of the service that is lost is made
// anew where that was said to be so: every host joins anew then.
func (r *Registry) Open(ctx context.Context, keyIsLost bool) error {
	certificate, sealed, err := r.Catalog.Authority(ctx, r.create)
	if err != nil {
		return err
	}
	key, err := r.Key.Open(sealed, sealedAs)
	if err != nil && keyIsLost {
		if err := r.Catalog.DropAuthority(ctx, certificate); err != nil {
			return err
		}
		r.Log.Warn("the authority for hosts is made anew; hosts have to be removed, and join anew")
		return r.Open(ctx, false)
	}
	if err != nil {
		return problem.Wrap(err, problem.Conflict, "hosts cannot be served",
			"Restore HOME/key; or, if it is lost, start once with --new-key: hosts have to join anew then.")
	}
	r.authority, err = identity.OpenAuthority(certificate, []byte(key))
	return err
}

// create makes an authority, with its key sealed.
func (r *Registry) create() (certificate, key []byte, err error) {
	if certificate, key, err = identity.NewAuthority(r.Now()); err != nil {
		return nil, nil, err
	}
	key, err = r.Key.Seal(string(key), sealedAs)
	return certificate, key, err
}

// Invite gives a word with which one host may join under a name.
func (r *Registry) Invite(ctx context.Context, name string) (word string, until time.Time, err error) {
	const bytes = 20
	secret := make([]byte, bytes)
	if _, err := rand.Read(secret); err != nil {
		return "", until, err
	}
	text := strings.ToLower(base32.StdEncoding.EncodeToString(secret))
	until = r.Now().Add(wordLasts)
	if err := r.Catalog.AddHostWord(ctx, hashOf(text), name, until); err != nil {
		return "", until, err
	}
	return text + "." + identity.Fingerprint(r.authority.Certificate), until, nil
}

func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// own is the service's certificate, made anew when half of its time is over.
func (r *Registry) own() (*tls.Certificate, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := r.Now()
	if c := r.certificate; c != nil && now.Before(c.Leaf.NotAfter) && now.Sub(c.Leaf.NotBefore) < c.Leaf.NotAfter.Sub(now) {
		return c, nil
	}
	fresh, err := r.authority.Service(now)
	if err == nil {
		r.certificate = fresh
	}
	return fresh, err
}

// Serve has hosts come over a listener until ctx ends.
func (r *Registry) Serve(ctx context.Context, l net.Listener) error {
	routes := chi.NewRouter()
	routes.Post(agent.JoinPath, r.answer(r.join))
	routes.Post(agent.RenewPath, r.answer(r.renew))
	routes.Method(http.MethodGet, "/api/v1/copies/{copy}/feed/{name}", r.Feed)
	server := &http.Server{
		Handler: routes, ReadHeaderTimeout: askTimeout, ErrorLog: slog.NewLogLogger(r.Log.Handler(), slog.LevelDebug),
		BaseContext: func(net.Listener) context.Context { return ctx },
		TLSNextProto: map[string]func(*http.Server, *tls.Conn, http.Handler){
			identity.Protocol: func(_ *http.Server, conn *tls.Conn, _ http.Handler) { r.meet(ctx, conn) },
		},
	}
	stop := context.AfterFunc(ctx, func() { _ = server.Close(); r.cutAll() })
	defer stop()
	if err := server.Serve(tls.NewListener(l, r.authority.ServiceTLS(r.own))); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// answer answers a host that joins or renews its certificate.
func (r *Registry) answer(do func(*http.Request, agent.Enrolment) (agent.Enrolled, error)) http.HandlerFunc {
	return func(out http.ResponseWriter, q *http.Request) {
		var in agent.Enrolment
		err := json.NewDecoder(http.MaxBytesReader(out, q.Body, mostAsked)).Decode(&in)
		if err != nil {
			http.Error(out, "that is no request of a host", http.StatusBadRequest)
			return
		}
		got, err := do(q, in)
		if err != nil {
			r.Log.Warn("a host was turned away", "address", q.RemoteAddr, "error", err)
			http.Error(out, err.Error(), http.StatusForbidden)
			return
		}
		out.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(out).Encode(got)
	}
}

func (r *Registry) join(q *http.Request, in agent.Enrolment) (agent.Enrolled, error) {
	id := catalog.NewID()
	certificate, err := r.authority.SignHost(in.Request, id, r.Now())
	if err != nil {
		return agent.Enrolled{}, err
	}
	h, err := r.Catalog.JoinHost(q.Context(), hashOf(in.Word), catalog.Host{ID: id, Address: addressOf(q.RemoteAddr)})
	if err != nil {
		return agent.Enrolled{}, err
	}
	r.Log.Info("a host joined", "host", h.Name, "address", h.Address)
	r.Changed(id)
	return agent.Enrolled{Name: h.Name, Certificate: certificate, Authority: r.authority.Certificate.Raw}, nil
}

func (r *Registry) renew(q *http.Request, in agent.Enrolment) (agent.Enrolled, error) {
	h, err := r.Catalog.Host(q.Context(), idOf(identity.HostOf(q.TLS)))
	if err != nil {
		return agent.Enrolled{}, err
	}
	certificate, err := r.authority.SignHost(in.Request, h.ID, r.Now())
	return agent.Enrolled{Name: h.Name, Certificate: certificate, Authority: r.authority.Certificate.Raw}, err
}

// idOf keeps an empty id from being taken for a name.
func idOf(id string) string {
	if id == "" {
		return "nobody"
	}
	return id
}

func addressOf(remote string) string {
	if a, _, err := net.SplitHostPort(remote); err == nil {
		return a
	}
	return remote
}

// meet asks the host at the other end of a connection who it is, and keeps the connection until it is lost.
func (r *Registry) meet(ctx context.Context, conn *tls.Conn) {
	defer func() { _ = conn.Close() }()
	state := conn.ConnectionState()
	h, err := r.Catalog.Host(ctx, idOf(identity.HostOf(&state)))
	if err != nil {
		r.Log.Warn("a host was turned away", "address", conn.RemoteAddr().String(), "error", err)
		return
	}
	client, gone, err := wire.NewClient(ctx, h.Name, conn)
	if err != nil {
		r.Log.Warn("a host cannot be asked", "host", h.Name, "error", err)
		return
	}
	l := &link{client: client, conn: conn}
	if err := r.greet(ctx, &h, l); err != nil {
		r.Log.Warn("a host was turned away", "host", h.Name, "error", err)
		return
	}
	r.keep(h.ID, l)
	defer r.drop(h.ID, l)
	go r.Met(ctx, h.ID)
	r.Log.Info("a host is connected", "host", h.Name, "address", conn.RemoteAddr().String())
	for {
		select {
		case <-gone:
			r.Log.Warn("a host is no longer connected", "host", h.Name)
			return
		case <-ctx.Done():
			return
		case <-time.After(seenEvery):
		}
		if err := r.greet(ctx, &h, l); err != nil {
			r.Log.Warn("a host does not answer", "host", h.Name, "error", err)
			return
		}
	}
}

// greet hears what the host says of itself, and records that it is there.
func (r *Registry) greet(ctx context.Context, h *catalog.Host, l *link) error {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	about, err := wire.TellAbout.Ask(ctx, l.client, wire.Nothing{})
	if err != nil {
		return err
	}
	if !wire.Fits(about.Version) || len(about.Users) == 0 {
		return fmt.Errorf("its agent is of another release, %s, and does not work with this service; bring the older of the two up to date",
			about.Velvet)
	}
	encoded, err := json.Marshal(about)
	if err != nil {
		return err
	}
	ok, err := r.Catalog.SeeHost(ctx, h.ID, encoded, addressOf(l.conn.RemoteAddr().String()))
	if err != nil {
		return err
	}
	if !ok {
		return errors.New("it was removed")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	l.about = about
	return nil
}

// keep has a host be asked over a connection; one that was there before is lost, or the host would not have come again.
func (r *Registry) keep(id string, l *link) {
	r.mu.Lock()
	before := r.links[id]
	if r.links == nil {
		r.links = make(map[string]*link)
	}
	r.links[id] = l
	r.mu.Unlock()
	if before != nil {
		_ = before.conn.Close()
	}
	r.Changed(id)
}

func (r *Registry) drop(id string, l *link) {
	r.mu.Lock()
	if r.links[id] == l {
		delete(r.links, id)
	}
	r.mu.Unlock()
	r.Changed(id)
}

// Cut ends the connection to a host, if there is one.
func (r *Registry) Cut(id string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if l := r.links[id]; l != nil {
		_ = l.conn.Close()
	}
}

func (r *Registry) cutAll() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, l := range r.links {
		_ = l.conn.Close()
	}
}

// Connected tells whether a host can be asked now, and what it says of itself.
func (r *Registry) Connected(id string) (about wire.About, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.links[id]
	if l == nil {
		return about, false
	}
	return l.about, true
}

// InReach lists the hosts that can be asked now, by their ids.
func (r *Registry) InReach() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Sorted(maps.Keys(r.links))
}

// Ground is where copies stand on a host, which must be connected.
func (r *Registry) Ground(id string) (g copies.Ground, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.links[id]
	if l == nil {
		return g, problem.Wrap(wire.ErrOutOfReach, problem.Unreachable, "the host is out of reach",
			"See that its agent runs (velvet host serve) and reaches the service: velvet host list")
	}
	m := remote.New(l.client, l.about)
	return copies.Ground{Host: m, Dir: l.about.Copies, Program: l.about.Program, Service: l.about.Service,
		Authority: r.authority.Certificate.Raw, MostCopies: l.about.MostCopies, MostBytes: l.about.MostBytes, Majors: l.about.Majors,
		LayOut: m.LayOut}, nil
}
