package cli

import (
	"cmp"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/moment"
)

func (a *app) restore() *cobra.Command {
	c := &cobra.Command{Use: "restore", Short: "Plan a restore, begin it as a side copy, and have one take over"}
	c.AddCommand(a.restorePlan(), a.restoreStart(), a.restoreFiles(), a.restoreTakeover(), a.restoreRepair())
	return c
}

var momentHelp = "\n\nMOMENT is one of:\n\n    " + strings.ReplaceAll(moment.Forms, " · ", "\n    ")

func (a *app) restorePlan() *cobra.Command {
	var host string
	cmd := &cobra.Command{
		Use: "plan CLUSTER MOMENT", Short: "Resolve a moment and show what a restore would do, changing nothing",
		Long: "Resolve a moment and show what a restore would do, changing nothing." + momentHelp,
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			var p api.Restore
			if _, err := a.askMoment(cmd, "/clusters/"+seg(args[0])+"/plan", args[1],
				func(moment string) any { return api.PlanRequest{Moment: moment, Host: host} }, &p); err != nil {
				return err
			}
			return a.show(cmd, p, func(w io.Writer) { drawPlan(w, p) })
		},
	}
	cmd.Flags().StringVar(&host, "host", "", "host with an agent to plan it for (default: the service's own)")
	return cmd
}

func drawPlan(w io.Writer, p api.Restore) {
	facts(w, append(append(planFacts(p), siteFacts(p.Site)...), "time", expected(p.Estimate))...)
	if p.Site == nil {
		return
	}
	for _, o := range p.Site.Obstacles {
		_, _ = fmt.Fprintf(w, "\nIt cannot be made now: %s. %s\n", cmp.Or(o.Detail, o.Title), o.Next)
	}
}

// siteFacts are the names and values of where a copy would stand.
func siteFacts(s *api.Site) []string {
	if s == nil {
		return nil
	}
	here := fmt.Sprintf("%d in the store", s.Stored)
	if s.Spooled > 0 {
		here += fmt.Sprintf(", %d in the spool", s.Spooled)
	}
	if n := len(s.Missing); n > 0 {
		here += fmt.Sprintf(", %d missing", n)
	}
	pairs := []string{"segments", here, "host", s.Host}
	if s.Directory != "" {
		pairs = append(pairs, "laid out", fmt.Sprintf("%s in %s, as %s; %s are free", figures.Size(s.Bytes), s.Directory, s.User,
			figures.Size(s.Free)), "memory", fmt.Sprintf("%s for pages; %s are free", figures.Size(s.Buffers), figures.Size(s.Memory)),
			"settings", "nothing leaves it or runs in it by itself; it is not flushed to disk until it is opened")
	}
	return pairs
}

// planFacts are a plan's names and values.
func planFacts(p api.Restore) []string {
	return append(append([]string{"moment", p.Boundary.Moment}, boundaryFacts(p.Boundary)...),
		"base", p.Base,
		"WAL", fmt.Sprintf("%d segments, %s to %s; %s to replay", p.Count, p.First, p.Last, figures.Size(p.Replay)),
	)
}

// boundaryFacts are a boundary's names and values.
func boundaryFacts(b api.Boundary) []string {
	stop := "before the record at " + b.Stop.String()
	if b.Inclusive {
		stop = "after the record at " + b.Stop.String()
	}
	return []string{
		"last in", commit(b.LastIn, "no transaction that is known"),
		"first out", commit(b.FirstOut, "nothing that is known yet"),
		"replay stops", fmt.Sprintf("%s, on timeline %d", stop, b.Timeline),
	}
}

func commit(c *api.Commit, none string) string {
	if c == nil {
		return none
	}
	return fmt.Sprintf("tx %d, committed %s", c.XID, c.Time.Local().Format("2006-01-02 15:04:05.000000 -07:00"))
}

func (a *app) restoreStart() *cobra.Command {
	var in api.MakeCopyRequest
	var detach bool
	cmd := &cobra.Command{
		Use: "start CLUSTER MOMENT", Short: "Make a side copy of a cluster as it was at a moment",
		Long: "Make a side copy: the cluster as it was at a moment, in a directory and on a port of its own,\n" +
			"paused and read-only. The original is not touched, unless the copy is to be laid over its own files.\n" +
			"With --only it is partial: it holds these tables and the catalogs, its cost follows the tables and not the\n" +
			"cluster, and a query on another table fails; it is neither opened nor taken over." + momentHelp,
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("port") && in.Port < 1 {
				return fmt.Errorf("--port %d: choose one from 1024 to 65535, or leave it out", in.Port)
			}
			var t api.Task
			c, err := a.askCopy(cmd, args[0], args[1], &in, &t)
			if err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, detach); err != nil || detach {
				return err
			}
			return a.showCopy(cmd, c, t.Subject)
		},
	}
	cmd.Flags().StringVar(&in.Host, "host", "", "host with an agent to make it on (default: the service's own)")
	cmd.Flags().StringSliceVar(&in.Only, "only", nil, "have it hold only this table and what stands below it; may be given several times")
	cmd.Flags().StringVar(&in.Database, "database", "", "of those tables, where several databases have one of the name")
	cmd.Flags().BoolVar(&in.Over, "over-original", false,
		"stop the original, and lay the copy over its own files: no room for both is needed")
	confirmFlag(cmd, &in.Confirm)
	cmd.Flags().StringVar(&in.Name, "name", "", "short name of the copy (default: the cluster's, with a number)")
	cmd.Flags().IntVar(&in.Port, "port", 0, "port of the copy on 127.0.0.1 (a free one is chosen)")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

// askCopy has a copy be made, and asks for the word where it is to be laid over the original's own files.
func (a *app) askCopy(cmd *cobra.Command, cluster, moment string, in *api.MakeCopyRequest, t *api.Task) (c *client, err error) {
	err = confirming(cmd, in.Confirm, func(word string) error {
		in.Confirm = word
		body := func(m string) any { in.Moment = m; return *in }
		c, err = a.askMoment(cmd, "/clusters/"+seg(cluster)+"/copies", moment, body, t)
		return err
	})
	return c, err
}

// expected says how long a restore should take.
func expected(e *api.Estimate) string {
	if e == nil {
		return "not known: nothing was rehearsed yet (velvet rehearse now CLUSTER)"
	}
	return fmt.Sprintf("some %s to lay out, %s to replay, %s to prove, by its rehearsals", inSeconds(&e.LayOut), inSeconds(&e.Replay),
		inSeconds(&e.Proof))
}
