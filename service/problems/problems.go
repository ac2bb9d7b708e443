// Package problems turns errors into problem documents (RFC 9457), which say what to do next.
//
// Invariant: every answer of the service that is an error is one. What a request held where it could not be read is
// never repeated, and of an error that was not foreseen only the text is told; its place in the log is the service's.
package problems

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"velvetrewind/api"
	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/problem"
	"velvetrewind/core/wal"
)

var statusOf = map[problem.Kind]int{
	problem.Invalid: http.StatusUnprocessableEntity, problem.NotFound: http.StatusNotFound, problem.Conflict: http.StatusConflict,
	problem.OutOfReach: http.StatusUnprocessableEntity, problem.Ambiguous: http.StatusConflict, problem.Unreachable: http.StatusBadGateway,
	problem.NotReady:    http.StatusUnprocessableEntity,
	problem.Unconfirmed: http.StatusPreconditionRequired, problem.Unauthorized: http.StatusUnauthorized,
	problem.Full: http.StatusInsufficientStorage, problem.Interrupted: http.StatusServiceUnavailable,
	problem.Failed: http.StatusInternalServerError,
}

// Doc makes the document of a problem.
func Doc(p *problem.Problem) *api.Problem {
	return &api.Problem{Type: api.ProblemType + string(p.Kind), Title: p.Title, Status: statusOf[p.Kind], Detail: p.Detail, Next: p.Next}
}

// Of turns any error of a handler into a problem document.
func Of(ctx context.Context, log *slog.Logger, err error) error {
	var syntax *moment.SyntaxError
	if errors.As(err, &syntax) {
		at := syntax.At
		return &api.Problem{
			Type: api.ProblemType + string(problem.Invalid), Title: "the moment cannot be read", Status: http.StatusUnprocessableEntity,
			Detail: syntax.Error(), Next: "Write one of: " + moment.Forms, At: &at,
		}
	}
	var doc *api.Problem
	if errors.As(err, &doc) {
		return doc
	}
	var p *problem.Problem
	var damage *wal.Damage
	switch {
	case errors.As(err, &p):
	case errors.As(err, &damage), errors.Is(err, layout.ErrCorrupt):
		p = problem.Wrap(err, problem.Failed, "captured WAL cannot be read",
			"Moments that do not need it can still be reached: velvet reach. Look at the store's disk, and take a base backup: moments "+
				"after that are safe.")
	default:
		if ctx.Err() == nil {
			log.Error("a request failed", "error", err)
		}
		p = problem.Wrap(err, problem.Failed, "something went wrong in the service",
			"Look into the service's log; if it persists, restart the service: captures go on by themselves.")
	}
	return Doc(p)
}

// UseDocuments has the API library give its own errors in the same form: all are of
// requests that it cannot read.
func UseDocuments() {
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		return Unreadable(status, message, errs)
	}
}

// Unreadable says where a request is wrong, and never repeats what it holds there: that
// may be a password.
func Unreadable(status int, message string, errs []error) *api.Problem {
	p := &api.Problem{
		Type: api.ProblemType + string(problem.Invalid), Title: "the request cannot be read", Status: status, Detail: message,
		Next: "Compare it with the API's description, in /api/v1/openapi.yaml.",
	}
	var details []string
	for _, e := range errs {
		var d *huma.ErrorDetail
		switch {
		case !errors.As(e, &d):
			details = append(details, e.Error())
		case d.Location == "":
			details = append(details, d.Message)
		default:
			details = append(details, d.Location+": "+d.Message)
		}
	}
	if len(details) > 0 {
		p.Detail = strings.Join(details, "; ")
	}
	return p
}

// Write answers with a problem.
func Write(w http.ResponseWriter, p *problem.Problem) { WriteDoc(w, Doc(p)) }

// WriteDoc answers with a problem document.
func WriteDoc(w http.ResponseWriter, doc *api.Problem) {
	w.Header().Set("Content-Type", doc.ContentType(""))
	w.WriteHeader(doc.Status)
	_ = json.NewEncoder(w).Encode(doc)
}
