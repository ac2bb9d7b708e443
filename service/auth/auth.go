// Package auth decides who may call the service.
//
// Invariant: nothing is answered but under the service's own host names; nothing that concerns a cluster without the
// owner's token, a session of the console whose origin is ours, or, for the segments of one copy, that copy's token.
// Secrets are compared in constant time and kept only as hashes. A catalogue that does not answer lets nobody in.
package auth

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/go-chi/chi/v5"

	"velvetrewind/api"
	"velvetrewind/core/problem"
	"velvetrewind/core/trail"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/service/problems"
)

// LinkLifetime is how long a link to the console can be used.
const LinkLifetime = 10 * time.Minute

const (
	sessionCookie   = "velvet_session"
	sessionLifetime = 12 * time.Hour
	maxBody         = 1 << 20
	bodyWithin      = 20 * time.Second // how long a caller may take to send one
)

// Auth decides who may call.
type Auth struct {
	Catalog *catalog.Catalog
	Token   string // the owner's
	Log     *slog.Logger
	Key     seal.Key // with which the tokens of copies are made
	Hosts   []string // the names under which we answer
	TLS     bool
	Left    func() // called when somebody has signed out
}

// Guard answers only calls under our own names, with bodies of a sensible size.
func (a *Auth) Guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		if !slices.Contains(a.Hosts, strings.Trim(host, "[]")) {
			hangUp(w)
			problems.Write(w, problem.New(problem.Unauthorized, "Add it with --hosts.", "the call was refused",
				"the host name %q is not allowed", host))
			return
		}
		if strings.ContainsRune(r.URL.Path, 0) {
			hangUp(w)
			problems.WriteDoc(w, problems.Unreadable(http.StatusBadRequest, "the path holds a NUL", nil))
			return
		}
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Cache-Control", "no-store")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors "+
			"'none'; base-uri 'none'; form-action 'self'")
		r.Body = http.MaxBytesReader(w, inTime(w, r), maxBody)
		next.ServeHTTP(w, r)
	})
}

// Require lets a call pass that shows the token or comes from a signed-in browser.
func (a *Auth) Require(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ok, err := a.Allowed(r)
		switch {
		case err != nil: // whose words are not for a stranger
			hangUp(w)
			a.Log.Warn("a call could not be checked", "error", err)
			problems.Write(w, problem.New(problem.Interrupted, "See the service's log; is the catalogue up?", "the call was not checked",
				"who calls is looked up in the catalogue, which does not answer"))
		case !ok:
			hangUp(w)
			problems.Write(w, problem.New(problem.Unauthorized,
				"The command line finds the token in the service's home directory; for the console make a link with: velvet login",
				"the call was refused", "it carries no valid token"))
		default:
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, callerOf(r))))
		}
	})
}

const theConsole = "the console"

// addressOf is where a call comes from, without its port.
func addressOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}

type callerKey struct{}

type caller struct{ who, from string }

// Caller is who makes the call in whose context this is asked, as far as is known, and from which address.
func Caller(ctx context.Context) (who, from string) {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c.who, c.from
}

// callerOf tells the console from the owner's token; with that the command line gives the name of its OS user, which nobody checks.
func callerOf(r *http.Request) caller {
	if r.Header.Get("Authorization") == "" {
		return caller{theConsole, addressOf(r)}
	}
	c := caller{"the owner's token", addressOf(r)}
	name := strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, r.Header.Get(api.UserHeader))
	if name != "" {
		c.who = string([]rune(name)[:min(len([]rune(name)), 64)]) + ", with the owner's token"
	}
	return c
}

// Allowed tells whether a call shows the token, or comes from a browser that is signed in.
func (a *Auth) Allowed(r *http.Request) (bool, error) {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return same(token, a.Token), nil
	}
	c, err := r.Cookie(sessionCookie)
	if err != nil {
		return false, nil
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead && !a.ownOrigin(r) {
		return false, nil
	}
	return a.Catalog.CheckSignIn(r.Context(), catalog.SignInSession, c.Value)
}

// ownOrigin tells whether a browser says that the call comes from our own pages.
func (a *Auth) ownOrigin(r *http.Request) bool {
	origin, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && origin.Host != "" && origin.Host == r.Host && (origin.Scheme == "https" || !a.TLS)
}

// hangUp has the connection close after the answer, without waiting for a body that nobody reads.
func hangUp(w http.ResponseWriter) {
	w.Header().Set("Connection", "close")
	_ = http.NewResponseController(w).SetReadDeadline(time.Now())
}

// inTime is the body of a request, which has to come within a time.
func inTime(w http.ResponseWriter, r *http.Request) io.ReadCloser {
	if r.Body == nil || r.Body == http.NoBody {
		return r.Body
	}
	c := http.NewResponseController(w)
	if c.SetReadDeadline(time.Now().Add(bodyWithin)) != nil {
		return r.Body
	}
	return &timedBody{r.Body, func() { _ = c.SetReadDeadline(time.Time{}) }}
}

type timedBody struct {
	io.ReadCloser
	whole func()
}

func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		b.whole()
	}
	return n, err
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// gone tells whether a copy is surely no more, and its token with it. A catalogue that is down must
// not end the replay of those that are.
func (a *Auth) gone(ctx context.Context, copy string) bool {
	k, err := a.Catalog.Copy(ctx, copy)
	var p *problem.Problem
	return errors.As(err, &p) && p.Kind == problem.NotFound || err == nil && k.State == catalog.CopyDiscarded
}

// RequireFeed lets a copy's delivery pass, with the token of that copy.
func (a *Auth) RequireFeed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !same(token, feed.Token(a.Key, chi.URLParam(r, "copy"))) || a.gone(r.Context(), chi.URLParam(r, "copy")) {
			hangUp(w)
			problems.Write(w, problem.New(problem.Unauthorized, "", "the call was refused", "it carries no valid token"))
			return
		}
		next(w, r)
	}
}

// SignIn exchanges the code of a one-time link for a session cookie.
func (a *Auth) SignIn(w http.ResponseWriter, r *http.Request) {
	var body struct {
		Code string `json:"code"`
	}
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil || !a.ownOrigin(r) {
		problems.Write(w, problem.New(problem.Invalid, "Make a new link with: velvet login", "you were not signed in",
			"the request makes no sense"))
		return
	}
	ok, err := a.Catalog.UseSignIn(r.Context(), catalog.SignInLink, body.Code)
	if err != nil {
		a.Log.Warn("nobody could be signed in", "error", err)
		problems.Write(w, problem.New(problem.Interrupted, "See the service's log; is the catalogue up?", "you were not signed in",
			"the catalogue does not answer"))
		return
	}
	if !ok {
		problems.Write(w, problem.New(problem.Unauthorized, "Make a new one with: velvet login", "you were not signed in",
			"the link was used already, or is older than %s", LinkLifetime))
		return
	}
	session := seal.Random()
	if err := a.Catalog.AddSignIn(r.Context(), catalog.SignInSession, session, time.Now().Add(sessionLifetime)); err != nil {
		problems.Write(w, problem.Wrap(err, problem.Failed, "you were not signed in", "Is the catalogue up?"))
		return
	}
	came := trail.Entry{Who: theConsole, From: addressOf(r), Did: "sign in", Outcome: "done"}
	if err := a.Catalog.AddToTrail(r.Context(), came); err != nil {
		a.Log.Error("an act is not in the trail", "did", "sign in", "error", err)
	}
	http.SetCookie(w, &http.Cookie{
		Name: sessionCookie, Value: session, Path: "/", MaxAge: int(sessionLifetime.Seconds()),
		HttpOnly: true, Secure: a.TLS, SameSite: http.SameSiteStrictMode,
	})
	w.WriteHeader(http.StatusNoContent)
}

// SignOut ends the browser's session.
func (a *Auth) SignOut(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(sessionCookie); err == nil {
		if _, err := a.Catalog.UseSignIn(r.Context(), catalog.SignInSession, c.Value); err != nil {
			problems.Write(w, problem.Wrap(err, problem.Failed, "you were not signed out", "Is the catalogue up?"))
			return
		}
	}
	a.Left()
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Path: "/", MaxAge: -1, HttpOnly: true, Secure: a.TLS,
		SameSite: http.SameSiteStrictMode})
	w.WriteHeader(http.StatusNoContent)
}

// NewLink makes a link that opens the console once.
func (a *Auth) NewLink(ctx context.Context, url string) (string, error) {
	code := seal.Random()
	if err := a.Catalog.AddSignIn(ctx, catalog.SignInLink, code, time.Now().Add(LinkLifetime)); err != nil {
		return "", err
	}
	// What follows the "#" is never sent to a server, nor written to a log on the way.
	return url + "/#enter=" + code, nil
}
