// Package handlers answers the calls of the API, one type for each noun.
//
// Invariant: a call only checks, submits and answers; what takes long is a task. What destroys something says what will be
// lost and is done only when the name was typed. Every error becomes a problem document.
package handlers

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"velvetrewind/core/figures"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/problems"
)

// Noun is what handles the calls about one thing.
type Noun interface{ Register(*Surface) }

// Surface is where nouns register their operations.
type Surface struct {
	api   huma.API
	log   *slog.Logger
	trail *catalog.Catalog // where calls that change something are recorded
}

// API is everything below /api/v1 that OpenAPI describes; calls that change something are recorded in the trail.
func API(version string, log *slog.Logger, trail *catalog.Catalog, nouns ...Noun) http.Handler {
	problems.UseDocuments()
	r := chi.NewRouter()
	cfg := huma.DefaultConfig("Velvet Rewind", version)
	cfg.Info.Description = "Base backups, captured WAL, and rewound copies of PostgreSQL clusters. Errors are problem documents (RFC " +
		"9457) that say what to do next."
	cfg.Servers = []*huma.Server{{URL: "/api/v1"}}
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath, cfg.CreateHooks = "/openapi", "", "", nil
	cfg.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", huma.DefaultSchemaNamer)
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	cfg.Security = []map[string][]string{{"token": {}}}
	surface := &Surface{api: humachi.New(r, cfg), log: log, trail: trail}
	for _, n := range nouns {
		n.Register(surface)
	}
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		problems.WriteDoc(w, problems.Unreadable(http.StatusNotFound, "the API has no path "+r.URL.Path, nil))
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		problems.WriteDoc(w, problems.Unreadable(http.StatusMethodNotAllowed, r.Method+" is not for "+r.URL.Path, nil))
	})
	return r
}

// Describe gives the description of the API, as YAML, without a running service.
func Describe(version string) ([]byte, error) {
	w := &recorder{header: http.Header{}}
	r, err := http.NewRequest(http.MethodGet, "/openapi.yaml", nil)
	if err != nil {
		return nil, err
	}
	API(version, nil, nil, &Clusters{}, &Readiness{}, &Backups{}, &Copies{}, &Moments{}, &Segments{}, &Files{}, &Changes{}, &Proofs{},
		&Rehearsals{}, &Store{}, &Keep{}, &Calendar{}, &Tasks{}, &Trail{}, &Takeovers{}, &Hosts{}, &Rescues{}, &Repairs{},
		&Leftovers{}).ServeHTTP(w, r)
	return w.body, nil
}

type recorder struct {
	header http.Header
	body   []byte
}

func (r *recorder) Header() http.Header { return r.header }
func (r *recorder) WriteHeader(int)     {}
func (r *recorder) Write(b []byte) (int, error) {
	r.body = append(r.body, b...)
	return len(b), nil
}

// op registers an operation whose errors become problem documents. Unless it only reads, each call goes into the trail.
func op[I, O any](s *Surface, method, path, id, summary string, status int, do func(context.Context, *I) (*O, error)) {
	if method != http.MethodGet {
		act := do
		do = func(ctx context.Context, in *I) (*O, error) {
			out, err := act(ctx, in)
			s.record(ctx, id, in, out, err)
			return out, err
		}
	}
	register(s, method, path, id, summary, status, do)
}

// question registers an operation that changes nothing, although what it asks comes in a body.
func question[I, O any](s *Surface, path, id, summary string, do func(context.Context, *I) (*O, error)) {
	register(s, http.MethodPost, path, id, summary, 0, do)
}

func register[I, O any](s *Surface, method, path, id, summary string, status int, do func(context.Context, *I) (*O, error)) {
	huma.Register(s.api, huma.Operation{
		OperationID: id, Method: method, Path: path, Summary: summary, DefaultStatus: status,
	}, func(ctx context.Context, in *I) (*O, error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, problems.Of(ctx, s.log, err)
		}
		return out, nil
	})
}

// body wraps what an operation answers with.
type body[T any] struct{ Body T }

func answer[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return &body[T]{v}, nil
}

type empty struct{}

// only is what a list needs that may be of one cluster alone: its id, or "", and the names of all by their ids.
func only(ctx context.Context, c *catalog.Catalog, cluster string) (id string, names map[string]string, err error) {
	if id, err = c.ClusterID(ctx, cluster); err != nil {
		return "", nil, err
	}
	names, err = c.ClusterNames(ctx)
	return id, names, err
}

// confirmed refuses what is destructive unless the name was typed.
func confirmed(typed, name, title, loss string) error {
	return confirmedAs("the cluster's name", typed, name, title, loss)
}

// confirmedAs is confirmed for what is not about one cluster: what says whose name it is.
func confirmedAs(what, typed, name, title, loss string) error {
	if typed == name {
		return nil
	}
	return problem.New(problem.Unconfirmed, "To go on, confirm with "+what+": "+name, title, "%s", loss)
}

// takenBack says for how long what is deleted can be taken back, and how.
func takenBack(within time.Duration, how string) string {
	if within == 0 {
		return "; it is gone at once"
	}
	return fmt.Sprintf("; it can be taken back for %s: %s", figures.Span(within), how)
}
