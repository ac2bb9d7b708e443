// Package events tells those who watch that something has changed.
//
// Invariant: a listener that is slow misses repeats of what it has not read yet, never the last state; one that may no
// longer listen is cut off with the next event. An event only names what changed: who cares reads it anew.
package events

import (
	"fmt"
	"net/http"
	"sync"
	"time"
)

// Names of events. Each says that a thing has changed and gives its id; who cares reads it anew.
const (
	Task    = "task"
	Cluster = "cluster"
	Copy    = "copy"
	Host    = "host"
)

type event struct{ name, id string }

// Hub hands events to everyone who listens. A listener that is slow misses
// repeats of what it has not read yet, never the last state.
type Hub struct {
	// Still tells whether who listens may.
	Still func(*http.Request) (bool, error)

	mu        sync.Mutex
	listeners map[*listener]struct{}
}

type listener struct {
	pending map[event]struct{}
	wake    chan struct{}
	recheck chan struct{} // somebody has signed out
}

// New makes a hub that nobody listens to yet.
func New() *Hub { return &Hub{listeners: make(map[*listener]struct{})} }

// Publish tells every listener that the thing with an id has changed.
func (e *Hub) Publish(name, id string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for l := range e.listeners {
		l.pending[event{name, id}] = struct{}{}
		select {
		case l.wake <- struct{}{}:
		default:
		}
	}
}

func (e *Hub) listen() *listener {
	l := &listener{pending: make(map[event]struct{}), wake: make(chan struct{}, 1), recheck: make(chan struct{}, 1)}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.listeners[l] = struct{}{}
	return l
}

// SignedOut has every listener's right be looked at again.
func (e *Hub) SignedOut() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for l := range e.listeners {
		select {
		case l.recheck <- struct{}{}:
		default:
		}
	}
}

func (e *Hub) leave(l *listener) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.listeners, l)
}

func (e *Hub) takeAll(l *listener) map[event]struct{} {
	e.mu.Lock()
	defer e.mu.Unlock()
	taken := l.pending
	l.pending = make(map[event]struct{})
	return taken
}

const (
	eventPause = 200 * time.Millisecond // at least between two batches
	eventPing  = 15 * time.Second
)

// ServeHTTP streams events as server-sent events.
func (e *Hub) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	out := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	_ = out.SetWriteDeadline(time.Time{})
	l := e.listen()
	defer e.leave(l)
	ping := time.NewTicker(eventPing)
	defer ping.Stop()
	if _, err := fmt.Fprint(w, ": listening\n\n"); err != nil || out.Flush() != nil {
		return
	}
	for {
		select {
		case <-r.Context().Done():
			return
		case <-l.recheck:
			if ok, err := e.Still(r); err == nil && !ok {
				return
			}
		case <-ping.C:
			if ok, err := e.Still(r); err == nil && !ok { // it has expired
				return
			}
			_, _ = fmt.Fprint(w, ": still here\n\n")
		case <-l.wake:
			for ev := range e.takeAll(l) {
				_, _ = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", ev.name, ev.id)
			}
		}
		if out.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-time.After(eventPause):
		}
	}
}
