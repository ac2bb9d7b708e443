package tasks

import (
	"context"
	"errors"
	"testing"

	"github.com/riverqueue/river/rivertype"
	"github.com/zeebo/assert"

	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
)

func TestHowATaskEnded(t *testing.T) {
	state, p := ending(context.Background(), nil)
	assert.Equal(t, catalog.TaskDone, state)
	assert.Nil(t, p)
	state, p = ending(context.Background(), problem.New(problem.Full, "free space", "no", "full"))
	assert.Equal(t, catalog.TaskFailed, state)
	assert.Equal(t, problem.Full, p.Kind)
	cancelled, cancel := context.WithCancelCause(context.Background())
	cancel(rivertype.ErrJobCancelledRemotely)
	state, _ = ending(cancelled, errors.New("timeout"))
	assert.Equal(t, catalog.TaskCancelled, state)
	stopped, stop := context.WithCancel(context.Background())
	stop()
	state, p = ending(stopped, errors.New("timeout"))
	assert.Equal(t, catalog.TaskFailed, state)
	assert.Equal(t, problem.Interrupted, p.Kind)
}
