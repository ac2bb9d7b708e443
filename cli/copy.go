package cli

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
)

func (a *app) copy() *cobra.Command {
	c := &cobra.Command{Use: "copy", Short: "Restored clusters that run beside their originals"}
	c.AddCommand(a.copyList(), a.copyShow(), a.copyStep(), a.copyOpen(), a.copyDiscard())
	return c
}

func (a *app) copyList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the copies", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Copy
			if err := c.get(cmd.Context(), "/copies", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintln(w, "There is no copy. Make one with: velvet restore start CLUSTER MOMENT")
					return
				}
				t := grid(w, "copy", "id", "of", "moment", "state", "host", "port>", "replayed to", "proof")
				for _, k := range list {
					verdict := "none"
					if k.Proof != nil {
						verdict = k.Proof.Verdict
					}
					t.AppendRow([]any{k.Name, short(k.ID), k.Cluster, k.Moment, k.State, cmp.Or(k.Host, "own"), k.Port, k.Replayed,
						verdict})
				}
				t.Render()
			})
		},
	}
}

func (a *app) copyShow() *cobra.Command {
	return &cobra.Command{
		Use: "show COPY", Short: "Show a copy", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.showCopy(cmd, c, args[0])
		},
	}
}

func (a *app) showCopy(cmd *cobra.Command, c *client, id string) error {
	var k api.Copy
	if err := c.get(cmd.Context(), "/copies/"+seg(id), &k); err != nil {
		return err
	}
	return a.show(cmd, k, func(w io.Writer) {
		pairs := []string{"copy", k.Name, "id", k.ID, "of", k.Cluster, "state", k.State, "problem", k.Problem, "host", k.Host}
		if k.Partial != nil {
			holds := "the catalogs"
			if len(k.Partial.Tables) > 0 {
				holds = strings.Join(k.Partial.Tables, ", ")
			}
			pairs = append(pairs, "holds only", holds+" of database "+k.Partial.Database+"; a query on another table fails")
		}
		for _, way := range k.WaysIn {
			pairs = append(pairs, "way in", way.Command+"   ("+way.Who+")")
		}
		pairs = append(pairs, "directory", k.Directory, "replayed to", fmt.Sprintf("%s, last transaction %s", lsnOr(k.Replayed),
			whenOr(k.ReplayedTo, "none yet")))
		pairs = append(pairs, planFacts(k.Plan)...)
		if k.Proof != nil {
			pairs = append(pairs, "proof", k.Proof.Verdict+", "+when(k.Proof.FinishedAt))
		}
		facts(w, pairs...)
	})
}

func (a *app) copyStep() *cobra.Command {
	var detach bool
	cmd := &cobra.Command{
		Use: "step COPY MOMENT", Short: "Move a paused copy to another moment, earlier or later", ValidArgsFunction: a.completeCopies,
		Args: cobra.ExactArgs(2),
		Long: "Move a paused copy to another moment, earlier or later. Its server is ended, the base is laid over what\n" +
			"is there, of which only what differs is written, and it replays to the moment on the same port. If a move\n" +
			"fails or is cancelled on its way, the copy is removed; backups and WAL are not touched." + momentHelp,
		RunE: func(cmd *cobra.Command, args []string) error {
			var t api.Task
			c, err := a.askMoment(cmd, "/copies/"+seg(args[0])+"/step", args[1],
				func(moment string) any { return api.StepCopyRequest{Moment: moment} }, &t)
			if err != nil {
				return err
			}
			if _, err = a.finish(cmd, c, t, detach); err != nil || detach {
				return err
			}
			return a.showCopy(cmd, c, args[0])
		},
	}
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

func (a *app) copyOpen() *cobra.Command {
	return &cobra.Command{
		Use: "open COPY", Short: "End a paused copy's recovery and open it for writing", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeCopies,
		Long: "End a paused copy's recovery and open it for writing, on a timeline of its own.\nIt can no longer be moved to another " +
			"moment then. The original is not touched.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/copies/"+seg(args[0])+"/open", nil, &t); err != nil {
				return err
			}
			_, err = a.finish(cmd, c, t, false)
			return err
		},
	}
}

func (a *app) copyDiscard() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "discard COPY", Short: "End a copy's server and remove its files; backups are not touched", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.confirmedTask(cmd, c, typed, false, func(name string, t *api.Task) error {
				return c.call(cmd.Context(), http.MethodDelete, "/copies/"+seg(args[0])+"?confirm="+url.QueryEscape(name), nil, t)
			})
		},
	}
	confirmFlag(cmd, &typed)
	return cmd
}
