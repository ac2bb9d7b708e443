package service

import (
	"crypto/subtle"
	"encoding/json"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"velvetrewind/engine/catalog"
	"velvetrewind/engine/feed"
	"velvetrewind/engine/problem"
	"velvetrewind/engine/seal"
	"velvetrewind/service/wire"
)

const (
	sessionCookie   = "velvet_session"
	sessionLifetime = 12 * time.Hour
	linkLifetime    = 10 * time.Minute
	maxBody         = 1 << 20
)

// auth decides who may call.
type auth struct {
	catalog *catalog.Catalog
	token   string // the owner's
	key     seal.Key
	hosts   []string
	tls     bool
}

// guard answers only calls under our own names, with bodies of a sensible size.
func (a *auth) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		if !slices.Contains(a.hosts, strings.Trim(host, "[]")) {
			writeProblem(w, problem.New(problem.Unauthorized, "Serve with --hosts to add a name.", "the call was refused", "this service does not go by the name %q", host))
			return
		}
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		r.Body = http.MaxBytesReader(w, r.Body, maxBody)
		next.ServeHTTP(w, r)
	})
}

// require lets a call pass that shows the token or comes from a signed-in browser.
func (a *auth) require(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ok, err := a.allowed(r)
		switch {
		case err != nil:
			writeProblem(w, problem.Wrap(err, problem.Failed, "the call was not checked", "Is the catalogue up?"))
		case !ok:
			writeProblem(w, problem.New(problem.Unauthorized, "The command line finds the token in the service's home directory; for the console make a link with: velvet login",
				"the call was refused", "it carries no valid token"))
		default:
			next.ServeHTTP(w, r)
		}
	})
}

func (a *auth) allowed(r *http.Request) (bool, error) {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return same(token, a.token), nil
	}
	c, err := r.Cookie(sessionCookie)
	if err != nil {
		return false, nil
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead && !a.ownOrigin(r) {
		return false, nil
	}
	return a.catalog.CheckSignIn(r.Context(), catalog.SignInSession, c.Value)
}

// ownOrigin tells whether a browser says that the call comes from our own pages.
func (a *auth) ownOrigin(r *http.Request) bool {
	origin, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && origin.Host != "" && origin.Host == r.Host
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// requireFeed lets a copy's delivery pass, with the token of that copy.
func (a *auth) requireFeed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !same(token, feed.Token(a.key, chi.URLParam(r, "copy"))) {
			writeProblem(w, problem.New(problem.Unauthorized, "", "the call was refused", "it carries no valid token"))
			return
		}
		next(w, r)
	}
}

// signIn exchanges the code of a one-time link for a session cookie.
func (a *auth) signIn(w http.ResponseWriter, r *http.Request) {
	var body struct {
		Code string `json:"code"`
	}
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil || !a.ownOrigin(r) {
		writeProblem(w, problem.New(problem.Invalid, "Make a new link with: velvet login", "you were not signed in", "the request makes no sense"))
		return
	}
	ok, err := a.catalog.UseSignIn(r.Context(), catalog.SignInLink, body.Code)
	if err != nil {
		writeProblem(w, problem.Wrap(err, problem.Failed, "you were not signed in", "Is the catalogue up?"))
		return
	}
	if !ok {
		writeProblem(w, problem.New(problem.Unauthorized, "Make a new one with: velvet login", "you were not signed in", "the link was used already, or is older than %s", linkLifetime))
		return
	}
	session := seal.Random()
	if err := a.catalog.AddSignIn(r.Context(), catalog.SignInSession, session, time.Now().Add(sessionLifetime)); err != nil {
		writeProblem(w, problem.Wrap(err, problem.Failed, "you were not signed in", "Is the catalogue up?"))
		return
	}
	http.SetCookie(w, &http.Cookie{
		Name: sessionCookie, Value: session, Path: "/", MaxAge: int(sessionLifetime.Seconds()),
		HttpOnly: true, Secure: a.tls, SameSite: http.SameSiteStrictMode,
	})
	w.WriteHeader(http.StatusNoContent)
}

// signOut ends the browser's session.
func (a *auth) signOut(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(sessionCookie); err == nil {
		if _, err := a.catalog.UseSignIn(r.Context(), catalog.SignInSession, c.Value); err != nil {
			writeProblem(w, problem.Wrap(err, problem.Failed, "you were not signed out", "Is the catalogue up?"))
			return
		}
	}
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Path: "/", MaxAge: -1, HttpOnly: true, Secure: a.tls, SameSite: http.SameSiteStrictMode})
	w.WriteHeader(http.StatusNoContent)
}

func writeProblem(w http.ResponseWriter, p *problem.Problem) { writeDoc(w, problemDoc(p)) }

func writeDoc(w http.ResponseWriter, doc *wire.Problem) {
	w.Header().Set("Content-Type", doc.ContentType(""))
	w.WriteHeader(doc.Status)
	_ = json.NewEncoder(w).Encode(doc)
}
