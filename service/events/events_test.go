package events

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestASlowListenerMissesOnlyRepeats(t *testing.T) {
	e := New()
	l := e.listen()
	for range 1000 {
		e.Publish(Task, "a")
	}
	e.Publish(Copy, "b")
	select {
	case <-l.wake:
	case <-time.After(time.Second):
		t.Fatal("nobody woke the listener")
	}
	assert.Equal(t, map[event]struct{}{{Task, "a"}: {}, {Copy, "b"}: {}}, e.takeAll(l))
	assert.Empty(t, e.takeAll(l))
	e.leave(l)
	e.Publish(Task, "a")
	assert.Empty(t, e.takeAll(l))
}
