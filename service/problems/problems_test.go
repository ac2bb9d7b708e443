package problems

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/moment"
	"velvetrewind/core/problem"
)

func TestEveryErrorIsAProblemDocument(t *testing.T) {
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	document := func(err error) *api.Problem {
		var p *api.Problem
		require.ErrorAs(t, Of(context.Background(), quiet, err), &p)
		return p
	}
	for kind, status := range statusOf {
		p := document(problem.New(kind, "do this", "it failed", "because of %s", "the tide"))
		assert.Equal(t, &api.Problem{Type: api.ProblemType + string(kind), Title: "it failed", Status: status,
			Detail: "because of the tide", Next: "do this"}, p)
		assert.GreaterOrEqual(t, status, 400)
	}
	_, err := moment.Parse("tx twelve", moment.Caller{})
	p := document(err)
	assert.Equal(t, 422, p.Status)
	require.NotNil(t, p.At)
	assert.Equal(t, 3, *p.At)
	assert.Contains(t, p.Next, "before tx 84213")
	assert.Equal(t, 500, document(errors.New("unforeseen")).Status)
	assert.Equal(t, "application/problem+json", p.ContentType(""))
}
