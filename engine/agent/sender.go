package agent

import (
	"fmt"
	"sync"
	"time"

	"velvetrewind/core/task"
	"velvetrewind/engine/host/wire"
)

// sender is a task.Report that goes to the service.
type sender struct {
	mu   sync.Mutex
	send func(wire.Laying) error
	last time.Time // that progress was sent
}

// progressEvery is how often progress is worth a message.
const progressEvery = 200 * time.Millisecond

func (s *sender) pass(l wire.Laying) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.send(l)
}

func (s *sender) Log(format string, args ...any) {
	_ = s.pass(wire.Laying{Line: fmt.Sprintf(format, args...)}) // a connection that is lost ends the work by itself
}

func (s *sender) Warn(format string, args ...any) {
	_ = s.pass(wire.Laying{Line: fmt.Sprintf(format, args...), Warn: true})
}

func (s *sender) Progress(done, total int64, unit task.Unit, note string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := time.Now(); now.Sub(s.last) >= progressEvery {
		s.last = now
		_ = s.send(wire.Laying{Note: note, Done: done, Total: total, Unit: unit})
	}
}
