package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"velvetrewind/service/wire"
)

func (a *app) task() *cobra.Command {
	c := &cobra.Command{Use: "task", Short: "Work under way and done"}
	c.AddCommand(a.taskList(), a.taskShow(), a.taskWatch(), a.taskCancel())
	return c
}

func (a *app) taskList() *cobra.Command {
	var active bool
	cmd := &cobra.Command{
		Use: "list", Short: "List tasks, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []wire.Task
			if err := c.get(cmd.Context(), fmt.Sprintf("/tasks?active=%t", active), &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				t := grid(w, "task", "kind", "cluster", "state", "begun", "what")
				for _, k := range list {
					what := k.Subject
					if !ended(k) {
						what = amount(k)
					} else if k.Problem != nil {
						what = k.Problem.Detail
					}
					t.AppendRow([]any{k.ID, k.Kind, k.Cluster, k.State, when(k.CreatedAt), what})
				}
				t.Render()
			})
		},
	}
	cmd.Flags().BoolVar(&active, "active", false, "only those that wait or run")
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
			var t wire.Task
			if err := c.get(cmd.Context(), "/tasks/"+seg(args[0]), &t); err != nil {
				return err
			}
			var log []wire.Line
			if err := c.get(cmd.Context(), "/tasks/"+seg(args[0])+"/lines", &log); err != nil {
				return err
			}
			whole := struct {
				Task wire.Task   `json:"task"`
				Log  []wire.Line `json:"log"`
			}{t, log}
			return a.show(cmd, whole, func(w io.Writer) {
				facts(w, "task", t.ID, "kind", t.Kind, "cluster", t.Cluster, "about", t.Subject, "state", t.State,
					"begun", when(t.CreatedAt), "ended", whenOr(t.FinishedAt, ""), "progress", amount(t))
				if t.Problem != nil {
					explain(w, t.Problem)
				}
				_, _ = fmt.Fprintln(w)
				for _, l := range log {
					_, _ = fmt.Fprintln(w, logLine(l))
				}
			})
		},
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
			_, err = a.finish(cmd, c, wire.Task{ID: args[0]}, false)
			return err
		},
	}
}

func (a *app) taskCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel TASK", Short: "Cancel a task; what it had made is removed", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeTasks,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t wire.Task
			if err := c.post(cmd.Context(), "/tasks/"+seg(args[0])+"/cancel", nil, &t); err != nil {
				return err
			}
			return a.show(cmd, t, func(w io.Writer) { _, _ = fmt.Fprintf(w, "task %s is told to end\n", t.ID) })
		},
	}
}
