package cli

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) restoreTakeover() *cobra.Command {
	var in api.TakeoverRequest
	var look, detach bool
	var made api.MakeCopyRequest
	cmd := &cobra.Command{
		Use: "takeover COPY | CLUSTER MOMENT", Short: "Put a copy in the place of its original, which is set aside",
		Long: "Put a paused copy in the place of its original: prove it, ask for the word, stop the original, set its directory\n" +
			"aside under a dated name, and start the copy there as the original was started. If anything fails on the way,\n" +
			"everything is put back, and the original serves as before. With CLUSTER and MOMENT the copy is made first." +
			momentHelp,
		Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			name := args[0]
			made.Confirm = in.Confirm
			if len(args) == 2 {
				if name, err = a.copyFirst(cmd, args[0], args[1], &made); err != nil {
					return err
				}
				in.Confirm = made.Confirm
			}
			path := "/copies/" + seg(name) + "/takeover"
			planned := fmt.Sprintf("%s?hostLost=%v&refuseClients=%v", path, in.HostLost, in.Refuse)
			var plan api.Takeover
			if err := c.get(cmd.Context(), planned, &plan); err != nil {
				return err
			}
			if look {
				return a.show(cmd, plan, func(w io.Writer) { drawTakeover(w, plan) })
			}
			if !detach && !in.Quick && plan.Plan.Verdict == "" && len(plan.Plan.Obstacles) == 0 { // the word is for a copy that is proved
				if err := proveFirst(cmd, c, name); err != nil {
					return err
				}
				if err := c.get(cmd.Context(), planned, &plan); err != nil {
					return err
				}
			}
			if in.Quick && plan.Plan.Verdict == "" {
				plan.Plan.Verdict = "only the quick checks, as was asked"
			}
			drawTakeover(cmd.ErrOrStderr(), plan)
			return a.confirmedTask(cmd, c, in.Confirm, detach, func(name string, t *api.Task) error {
				in.Confirm = name
				return c.post(cmd.Context(), path, in, t)
			})
		},
	}
	confirmFlag(cmd, &in.Confirm)
	cmd.Flags().BoolVar(&in.Despite, "despite-proof", false, "also if the proof of the copy does not pass")
	cmd.Flags().BoolVar(&in.Quick, "quick", false, "without a proof: check the boundary and the files, but no pages and rows")
	cmd.Flags().BoolVar(&made.Over, "over-original", false, "with CLUSTER and MOMENT: lay the copy over the original's own files")
	cmd.Flags().StringVar(&made.Host, "host", "", "with CLUSTER and MOMENT: the original's own host, where that has an agent")
	cmd.Flags().BoolVar(&in.HostLost, "host-lost", false, "the original's host is lost for good: the copy serves where it is")
	cmd.Flags().BoolVar(&in.Refuse, "refuse-clients", false, "refuse clients by pg_hba.conf, and end their sessions, from the beginning")
	cmd.Flags().BoolVar(&look, "plan", false, "show what would be done, changing nothing of the original")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	cmd.AddCommand(a.takeoverHistory(), a.takeoverClear())
	return cmd
}

// copyFirst makes the copy that is to take over, and gives its id.
func (a *app) copyFirst(cmd *cobra.Command, cluster, moment string, in *api.MakeCopyRequest) (string, error) {
	var t api.Task
	c, err := a.askCopy(cmd, cluster, moment, in, &t)
	if err != nil {
		return "", err
	}
	t, err = watch(cmd.Context(), c, t, cmd.ErrOrStderr())
	return t.Subject, err
}

// proveFirst has the copy proved that is to take over.
func proveFirst(cmd *cobra.Command, c *client, copy string) error {
	var t api.Task
	if err := c.post(cmd.Context(), "/copies/"+seg(copy)+"/proofs", nil, &t); err != nil {
		return err
	}
	_, err := watch(cmd.Context(), c, t, cmd.ErrOrStderr())
	return err
}

func drawTakeover(w io.Writer, t api.Takeover) {
	o := t.Original
	runs := "as the OS user " + o.User + ", by pg_ctl " + strings.Join(o.Arguments, " ")
	if o.Unit != "" {
		runs = "as the OS user " + o.User + ", by its unit " + o.Unit
	}
	switch {
	case o.Lost:
		runs += "; its directory is lost"
	case !o.Running:
		runs += "; it does not run now"
	}
	way := fmt.Sprintf("if a step fails, everything is put back by itself. Afterwards the old directory stands under its new name,\n"+
		"and what it held can still be reached: velvet restore takeover %s \"MOMENT on timeline N\"", t.Cluster)
	if o.Lost {
		way = "if a step fails, what was placed is taken away again; backups and WAL are not touched"
	}
	list := []string{"cluster", t.Cluster, "copy", t.Copy, "moment", t.Moment}
	if t.Plan != nil {
		verdict := t.Plan.Verdict
		switch {
		case verdict == "":
			verdict = "it is proved first"
		case verdict == "passed" && !o.Running:
			verdict = "passed; the original does not run, and could not be compared with"
		}
		list = append(append(list, boundaryFacts(t.Plan.Boundary)...), "proof", verdict, "connected now", connected(t.Plan, o))
		if len(t.Plan.Standbys) > 0 {
			list = append(list, "standbys", users(t.Plan.Standbys, "standby")+"\nthey are beyond the moment: make them anew afterwards")
		}
	}
	if o.DataDirectory != "" {
		if t.Plan != nil && len(t.Plan.Brought) > 0 {
			list = append(list, "copied first", "to another file system, beside "+strings.Join(t.Plan.Brought, ", "))
		}
		list = append(list, "original", o.DataDirectory, "it runs", runs)
	}
	if len(t.Aside) > 0 {
		list = append(list, "set aside as", strings.Join(t.Aside, "\n"))
	}
	facts(w, list...)
	if t.Plan == nil {
		return
	}
	drawCost(w, t.Plan.Cost)
	for _, p := range t.Plan.Obstacles {
		_, _ = fmt.Fprintf(w, "\nIt cannot be begun: %s. %s\n", p.Detail, p.Next)
	}
	_, _ = fmt.Fprintf(w, "\nThe way back: %s\n", way)
}

// connected says who would be cut off.
func connected(p *api.TakeoverPlan, o api.TakeoverOriginal) string {
	switch {
	case o.DataDirectory != "" && !o.Running:
		return "nobody: it does not run"
	case p.Unknown != "":
		return "not known: " + p.Unknown
	case len(p.Connected) == 0:
		return "nobody"
	}
	return users(p.Connected, "session")
}

// users lists sessions or standbys, one kind to a line.
func users(of []api.TakeoverUsers, what string) string {
	list := make([]string, len(of))
	for i, u := range of {
		list[i] = figures.Of(u.Sessions, what)
		if u.Role != "" {
			list[i] += " of " + u.Role
		}
		if u.Application != "" {
			list[i] += ", " + u.Application
		}
		if u.Address != "" {
			list[i] += ", from " + u.Address
		}
	}
	return strings.Join(list, "\n")
}

func (a *app) takeoverHistory() *cobra.Command {
	return &cobra.Command{
		Use: "history CLUSTER", Short: "List a cluster's takeovers, newest first, and what they set aside", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Takeover
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/takeovers", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) { drawTakeovers(w, list) })
		},
	}
}

func drawTakeovers(w io.Writer, list []api.Takeover) {
	t := grid(w, "takeover", "begun", "took>", "moment", "how it stands", "set aside")
	for _, k := range list {
		took, aside := "", ""
		if k.EndedAt != nil {
			took = lasted(k.EndedAt.Sub(*k.BegunAt).Seconds())
		}
		if k.EndedAt != nil && k.Problem == "" {
			aside = strings.Join(k.Aside, "\n")
		}
		if k.KeptUntil != nil {
			aside += "\nkept until you remove it; offered for that from " + k.KeptUntil.Format(time.DateOnly)
		}
		if k.Removed {
			aside = "removed"
		}
		t.AppendRow([]any{short(k.ID), when(*k.BegunAt), took, k.Moment, strings.TrimSuffix(k.Step+": "+k.Problem, ": "), aside})
	}
	t.Render()
}

func (a *app) takeoverClear() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "clear TAKEOVER", Short: "Remove the directories that a takeover has set aside", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.confirmedTask(cmd, c, typed, false, func(name string, t *api.Task) error {
				return c.call(cmd.Context(), http.MethodDelete, "/takeovers/"+seg(args[0])+"/aside?confirm="+url.QueryEscape(name), nil, t)
			})
		},
	}
	confirmFlag(cmd, &typed)
	return cmd
}
