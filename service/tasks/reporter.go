package tasks

import (
	"context"
	"fmt"
	"sync"
	"time"

	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/service/events"
)

// progressEvery is how often progress is saved.
const progressEvery = 250 * time.Millisecond

// reporter writes what a task tells into the catalogue and passes it on to who watches.
type reporter struct {
	queue *Queue
	id    string
	ctx   context.Context

	mu    sync.Mutex
	state catalog.Task
	saved time.Time
	later *time.Timer // saves what came too soon after the last time
}

func (r *reporter) Log(format string, args ...any)  { r.line("info", format, args...) }
func (r *reporter) Warn(format string, args ...any) { r.line("warning", format, args...) }

func (r *reporter) line(level, format string, args ...any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.queue.Catalog.AddTaskLine(r.ctx, r.id, level, fmt.Sprintf(format, args...)); err != nil {
		r.queue.Log.Warn("a line of a task's log was lost", "task", r.id, "error", err)
	}
	r.queue.Events.Publish(events.Task, r.id)
}

func (r *reporter) Progress(done, total int64, unit task.Unit, note string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.state = catalog.Task{ID: r.id, Done: done, Total: total, Unit: string(unit), Note: note}
	// What comes too soon is saved a little later, not never: it may be the last for long.
	if wait := progressEvery - time.Since(r.saved); wait <= 0 {
		r.save()
	} else if r.later == nil {
		r.later = time.AfterFunc(wait, r.saveLater)
	}
}

func (r *reporter) saveLater() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.later != nil {
		r.save()
	}
}

func (r *reporter) settle() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.state.ID != "" {
		r.save()
	}
}

func (r *reporter) save() {
	if r.later != nil {
		r.later.Stop()
		r.later = nil
	}
	r.saved = time.Now()
	if err := r.queue.Catalog.SaveProgress(r.ctx, r.state); err != nil {
		r.queue.Log.Warn("a task's progress was not saved", "task", r.id, "error", err)
	}
	r.queue.Events.Publish(events.Task, r.id)
}
