package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

const watchEvery = 250 * time.Millisecond

func ended(t api.Task) bool { return t.State != "waiting" && t.State != "running" }

// watch follows a task to its end, with a bar on a terminal and plain lines
// otherwise, and returns the task's problem as the error.
func watch(ctx context.Context, c *client, t api.Task, out io.Writer) (api.Task, error) {
	var see viewer = &lines{out: out}
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		see = newBar(out)
	}
	seen := 0
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		if err := c.get(ctx, "/tasks/"+seg(t.ID), &t); err != nil {
			return t, err
		}
		var log []api.Line
		if err := c.get(ctx, fmt.Sprintf("/tasks/%s/lines?after=%d", seg(t.ID), seen), &log); err != nil {
			return t, err
		}
		for _, l := range log {
			see.line(l)
			seen = l.Number
		}
		see.progress(t)
		if ended(t) {
			see.end(t)
			if t.Problem != nil {
				return t, t.Problem
			}
			return t, nil
		}
		select {
		case <-ctx.Done():
			return t, ctx.Err()
		case <-tick.C:
		}
	}
}

// viewer shows a task on its way.
type viewer interface {
	line(api.Line)
	progress(api.Task)
	end(api.Task)
}

func logLine(l api.Line) string {
	mark := " "
	if l.Level == "warning" {
		mark = "!"
	}
	return fmt.Sprintf("%s %s %s", l.At.Local().Format("15:04:05"), mark, l.Text)
}

// lines shows a task as plain lines: its log, and its progress now and then.
type lines struct {
	out  io.Writer
	last time.Time
}

const linesEvery = 5 * time.Second

func (v *lines) line(l api.Line) { _, _ = fmt.Fprintln(v.out, logLine(l)) }

func (v *lines) progress(t api.Task) {
	if t.Note == "" || ended(t) || time.Since(v.last) < linesEvery {
		return
	}
	if v.last.IsZero() {
		v.last = time.Now()
		return
	}
	v.last = time.Now()
	_, _ = fmt.Fprintf(v.out, "%s   %s\n", v.last.Format("15:04:05"), amount(t)+pace(t))
}

func (v *lines) end(api.Task) {}

// amount says how far a task is.
func amount(t api.Task) string {
	done := ""
	switch {
	case t.Unit == "bytes" && t.Total > 0:
		done = fmt.Sprintf("%s of %s (%d %%)", figures.Size(t.Done), figures.Size(t.Total), 100*t.Done/t.Total)
	case t.Total > 0:
		done = fmt.Sprintf("%s of %s %s", figures.Count(t.Done), figures.Count(t.Total), t.Unit)
	case t.Done > 0:
		done = fmt.Sprintf("%s %s", figures.Count(t.Done), t.Unit)
	}
	if done != "" && t.Note != "" {
		done += ", "
	}
	return done + t.Note
}

// bar shows a task as a bar below its log.
type bar struct {
	progressBars *mpb.Progress
	bar          *mpb.Bar
	now          api.Task
}

func newBar(out io.Writer) *bar {
	b := &bar{progressBars: mpb.New(mpb.WithOutput(out), mpb.WithWidth(60), mpb.WithRefreshRate(watchEvery))}
	b.bar = b.progressBars.New(0, mpb.BarStyle().Lbound("").Filler("▆").Tip("▆").Padding("·").Rbound(""),
		mpb.BarRemoveOnComplete(),
		mpb.AppendDecorators(decor.Any(func(decor.Statistics) string { return " " + amount(b.now) + pace(b.now) })))
	return b
}

func (b *bar) line(l api.Line) { _, _ = fmt.Fprintln(b.progressBars, logLine(l)) }

func (b *bar) progress(t api.Task) {
	b.now = t
	b.bar.SetTotal(max(t.Total, 1), false)
	b.bar.SetCurrent(min(t.Done, max(t.Total-1, 0)))
}

func (b *bar) end(api.Task) {
	b.bar.Abort(true)
	b.progressBars.Wait()
}

// finish either watches a task to its end or says how to.
func (a *app) finish(cmd *cobra.Command, c *client, t api.Task, detach bool) (api.Task, error) {
	if detach {
		return t, a.show(cmd, t, func(w io.Writer) {
			_, _ = fmt.Fprintf(w, "task %s (%s) was begun. Watch it with: velvet task watch %s\n", t.ID, t.Kind, t.ID)
		})
	}
	out := cmd.OutOrStdout()
	if a.output == "json" {
		out = cmd.ErrOrStderr()
	}
	return watch(cmd.Context(), c, t, out)
}
