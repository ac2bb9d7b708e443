package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
)

// api is everything below /api/v1 that OpenAPI describes.
func (s *Service) api() http.Handler {
	useProblemDocuments()
	r := chi.NewRouter()
	cfg := huma.DefaultConfig("Velvet Rewind", s.version)
	cfg.Info.Description = "Base backups, captured WAL, and rewound copies of PostgreSQL clusters. Errors are problem documents (RFC " +
		"9457) that say what to do next."
	cfg.Servers = []*huma.Server{{URL: "/api/v1"}}
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath, cfg.CreateHooks = "/openapi", "", "", nil
	cfg.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", huma.DefaultSchemaNamer)
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	cfg.Security = []map[string][]string{{"token": {}}}
	api := humachi.New(r, cfg)
	s.clusterAPI(api)
	s.readinessAPI(api)
	s.backupAPI(api)
	s.copyAPI(api)
	s.momentAPI(api)
	s.changeAPI(api)
	s.storeAPI(api)
	s.keepAPI(api)
	s.calendarAPI(api)
	s.taskAPI(api)
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		writeDoc(w, unreadable(http.StatusNotFound, "the API has no path "+r.URL.Path, nil))
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		writeDoc(w, unreadable(http.StatusMethodNotAllowed, r.Method+" is not for "+r.URL.Path, nil))
	})
	return r
}

// OpenAPI gives the description of the API, as YAML, without a running service.
func OpenAPI(version string) ([]byte, error) {
	s := &Service{version: version}
	w := &recorder{header: http.Header{}}
	r, err := http.NewRequest(http.MethodGet, "/openapi.yaml", nil)
	if err != nil {
		return nil, err
	}
	s.api().ServeHTTP(w, r)
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

// op registers an operation whose errors become problem documents.
func op[I, O any](s *Service, api huma.API, method, path, id, summary string, status int, do func(context.Context, *I) (*O, error)) {
	huma.Register(api, huma.Operation{
		OperationID: id, Method: method, Path: path, Summary: summary, DefaultStatus: status,
	}, func(ctx context.Context, in *I) (*O, error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, apiError(ctx, s.log, err)
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

// newLink makes a link that opens the console once.
func (s *Service) newLink(ctx context.Context, url string) (string, error) {
	code := seal.Random()
	if err := s.catalog.AddSignIn(ctx, catalog.SignInLink, code, time.Now().Add(linkLifetime)); err != nil {
		return "", err
	}
	// Behind the "#" it is never sent to a server, nor written to a log on the way.
	return url + "/#enter=" + code, nil
}
