package cli

import (
	"fmt"
	"io"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) task() *cobra.Command {
	c := &cobra.Command{Use: "task", Short: "Work under way and done"}
	c.AddCommand(a.taskList(), a.taskShow(), a.taskWatch(), a.taskRetry(), a.taskCancel())
	return c
}

func (a *app) taskList() *cobra.Command {
	var active bool
	var cluster, kind, state string
	var days, limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List tasks, newest first, with how long they took", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			q := url.Values{"active": {fmt.Sprint(active)}, "limit": {fmt.Sprint(limit)}, "days": {fmt.Sprint(days)}}
			for name, value := range map[string]string{"cluster": cluster, "kind": kind, "state": state} {
				if value != "" {
					q.Set(name, value)
				}
			}
			var list []api.Task
			if err := c.get(cmd.Context(), "/tasks?"+q.Encode(), &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) { drawTasks(w, list) })
		},
	}
	cmd.Flags().BoolVar(&active, "active", false, "only those that wait or run")
	cmd.Flags().StringVar(&cluster, "cluster", "", "only of this cluster")
	cmd.Flags().StringVar(&kind, "kind", "", "only of this kind, as backup")
	cmd.Flags().StringVar(&state, "state", "", "only in this state: waiting, running, done, failed, cancelled")
	cmd.Flags().IntVar(&days, "days", 0, "only of the last so many days")
	cmd.Flags().IntVar(&limit, "limit", 50, "at most so many")
	return cmd
}

func drawTasks(w io.Writer, list []api.Task) {
	t := grid(w, "task", "kind", "cluster", "state", "begun", "took>", "what")
	for _, k := range list {
		what, took := k.Subject, ""
		if k.Seconds > 0 {
			took = lasted(k.Seconds)
		}
		if !ended(k) {
			what = amount(k) + pace(k)
		} else if k.Problem != nil {
			what = k.Problem.Detail
		}
		t.AppendRow([]any{short(k.ID), k.Kind, k.Cluster, k.State, when(k.CreatedAt), took, what})
	}
	t.Render()
}

// lasted prints a length of time.
func lasted(seconds float64) string {
	if seconds < 60 {
		return fmt.Sprintf("%.1f s", seconds)
	}
	return (time.Duration(seconds) * time.Second).String()
}

// pace says how fast a running task is, and how long it may still take.
func pace(t api.Task) string {
	s := ""
	if t.Rate > 0 && t.Unit == "bytes" {
		s = ", " + figures.Size(int64(t.Rate)) + "/s"
	}
	if t.Left != nil {
		s += ", some " + lasted(*t.Left) + " left"
	}
	return s
}

func (a *app) taskRetry() *cobra.Command {
	var detach bool
	cmd := &cobra.Command{
		Use: "retry TASK", Short: "Do again what a task that failed or was cancelled was to do", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeTasks,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/tasks/"+seg(args[0])+"/retry", nil, &t); err != nil {
				return err
			}
			_, err = a.finish(cmd, c, t, detach)
			return err
		},
	}
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

func (a *app) taskShow() *cobra.Command {
	return &cobra.Command{
		Use: "show TASK", Short: "Show a task with its log", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeTasks,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.get(cmd.Context(), "/tasks/"+seg(args[0]), &t); err != nil {
				return err
			}
			var log []api.Line
			if err := c.get(cmd.Context(), "/tasks/"+seg(args[0])+"/lines", &log); err != nil {
				return err
			}
			whole := struct {
				Task api.Task   `json:"task"`
				Log  []api.Line `json:"log"`
			}{t, log}
			return a.show(cmd, whole, func(w io.Writer) {
				facts(w, "task", t.ID, "kind", t.Kind, "cluster", t.Cluster, "about", t.Subject, "state", t.State,
					"begun", when(t.CreatedAt), "ended", whenOr(t.FinishedAt, ""), "took", lasted(t.Seconds), "progress", amount(t)+pace(t))
				if t.Problem != nil {
					explain(w, t.Problem)
				}
				_, _ = fmt.Fprintln(w)
				drawLog(w, log)
			})
		},
	}
}

func drawLog(w io.Writer, log []api.Line) {
	for _, l := range log {
		_, _ = fmt.Fprintln(w, logLine(l))
	}
}

func (a *app) taskWatch() *cobra.Command {
	return &cobra.Command{
		Use: "watch TASK", Short: "Follow a task to its end", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeTasks,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			_, err = a.finish(cmd, c, api.Task{ID: args[0]}, false)
			return err
		},
	}
}

func (a *app) taskCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel TASK", Short: "Cancel a task; what it had made is removed", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeTasks,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/tasks/"+seg(args[0])+"/cancel", nil, &t); err != nil {
				return err
			}
			return a.show(cmd, t, func(w io.Writer) { _, _ = fmt.Fprintf(w, "task %s is being cancelled\n", t.ID) })
		},
	}
}
