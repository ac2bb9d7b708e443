package service

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"testing"
	"time"

	"github.com/riverqueue/river/rivertype"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/moment"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
)

func TestEveryErrorIsAProblemDocument(t *testing.T) {
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	document := func(err error) *api.Problem {
		var p *api.Problem
		require.ErrorAs(t, apiError(context.Background(), quiet, err), &p)
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

func TestHowATaskEnded(t *testing.T) {
	state, p := taskEnd(context.Background(), nil)
	assert.Equal(t, catalog.TaskDone, state)
	assert.Nil(t, p)
	state, p = taskEnd(context.Background(), problem.New(problem.Full, "free space", "no", "full"))
	assert.Equal(t, catalog.TaskFailed, state)
	assert.Equal(t, problem.Full, p.Kind)
	cancelled, cancel := context.WithCancelCause(context.Background())
	cancel(rivertype.ErrJobCancelledRemotely)
	state, _ = taskEnd(cancelled, errors.New("timeout"))
	assert.Equal(t, catalog.TaskCancelled, state)
	stopped, stop := context.WithCancel(context.Background())
	stop()
	state, p = taskEnd(stopped, errors.New("timeout"))
	assert.Equal(t, catalog.TaskFailed, state)
	assert.Equal(t, problem.Interrupted, p.Kind)
}

func TestASlowListenerMissesOnlyRepeats(t *testing.T) {
	e := newEvents()
	l := e.listen()
	for range 1000 {
		e.publish(eventTask, "a")
	}
	e.publish(eventCopy, "b")
	select {
	case <-l.wake:
	case <-time.After(time.Second):
		t.Fatal("nobody woke the listener")
	}
	assert.Equal(t, map[event]struct{}{{eventTask, "a"}: {}, {eventCopy, "b"}: {}}, e.takeAll(l))
	assert.Empty(t, e.takeAll(l))
	e.leave(l)
	e.publish(eventTask, "a")
	assert.Empty(t, e.takeAll(l))
}

func TestOnlyTLSLeavesTheMachine(t *testing.T) {
	for listen, ok := range map[string]bool{"127.0.0.1:1": true, "localhost:1": true, "[::1]:1": true, "0.0.0.0:1": false, ":1": false,
		"10.0.0.1:1": false, "nonsense": false} {
		c := Config{Home: t.TempDir(), Catalogue: "x", Listen: listen}
		_, err := c.complete()
		assert.Equal(t, ok, err == nil, "%s: %v", listen, err)
	}
	c := Config{Home: t.TempDir(), Catalogue: "x", Listen: "0.0.0.0:1", TLSCert: "c", TLSKey: "k", Hosts: "db1, velvet.saltmarsh.example"}
	_, err := c.complete()
	require.NoError(t, err)
	assert.Subset(t, c.hostNames(), []string{"db1", "velvet.saltmarsh.example", "127.0.0.1"})
	_, err = (&Config{Catalogue: "x"}).complete()
	assert.ErrorContains(t, err, "--home")
	own := Config{Home: t.TempDir()}
	_, err = own.complete()
	require.NoError(t, err, "without a catalogue a server of its own is run")
	assert.Equal(t, own.Home+"/catalogue", own.ownCatalogue())
}

func TestTheDescriptionIsMadeWithoutAService(t *testing.T) {
	text, err := OpenAPI("v1")
	require.NoError(t, err)
	for _, want := range []string{"openapi: 3.1", "/clusters/{cluster}/plan", "application/problem+json", "make-copy"} {
		assert.Contains(t, string(text), want)
	}
}
