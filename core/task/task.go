// Package task is what a piece of work tells of itself while it runs: lines of its log, and how far it is. Whoever runs the
// work keeps them, or shows them.
package task

import "time"

// Report is told of progress and of what is worth a line in the task's log.
// It may be called from several goroutines.
type Report interface {
	// Log writes a line to the task's log.
	Log(format string, args ...any)
	// Warn writes a line that a person should not overlook.
	Warn(format string, args ...any)
	// Progress says how far the work is: done of total units (total 0: not known), and in words.
	Progress(done, total int64, unit Unit, note string)
}

// Waiting words a progress note for a wait: what for, since when, and how long it usually takes.
func Waiting(what string, since time.Time, usually string) string {
	return "waiting for " + what + ", since " + since.UTC().Format("15:04:05 UTC") + "; usually " + usually
}

// Silent is told everything and passes nothing on.
var Silent Report = silent{}

type silent struct{}

func (silent) Log(string, ...any)                  {}
func (silent) Warn(string, ...any)                 {}
func (silent) Progress(int64, int64, Unit, string) {}

// Unit is what progress is counted in.
type Unit string

// The units.
const (
	Bytes  Unit = "bytes"
	Pages  Unit = "pages"
	Steps  Unit = "steps"
	Tables Unit = "tables"
	None   Unit = ""
)
