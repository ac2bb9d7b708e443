package cli

import (
	"fmt"
	"io"
	"net/url"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) trail() *cobra.Command {
	var cluster string
	var before int64
	var limit int
	cmd := &cobra.Command{
		Use: "trail", Short: "Who did what, newest first, in a chain in which a change shows", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			q := url.Values{"limit": {fmt.Sprint(limit)}, "before": {fmt.Sprint(before)}}
			if cluster != "" {
				q.Set("cluster", cluster)
			}
			var list []api.TrailEntry
			if err := c.get(cmd.Context(), "/trail?"+q.Encode(), &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) { drawTrail(w, list) })
		},
	}
	cmd.Flags().StringVar(&cluster, "cluster", "", "only of this cluster")
	cmd.Flags().Int64Var(&before, "before", 0, "only entries with a lower number")
	cmd.Flags().IntVar(&limit, "limit", 50, "at most so many")
	cmd.AddCommand(a.trailCheck())
	return cmd
}

func drawTrail(w io.Writer, list []api.TrailEntry) {
	t := grid(w, "number>", "when", "who", "did", "cluster", "what to", "outcome")
	for _, e := range list {
		who := e.Who
		if e.From != "" {
			who += " (" + e.From + ")"
		}
		t.AppendRow([]any{e.Number, when(e.At), who, e.Did, e.Cluster, e.Subject, e.Outcome})
	}
	t.Render()
	if len(list) > 0 {
		_, _ = fmt.Fprintf(w, "\nHash of entry %d: %s. Note it elsewhere: velvet trail check HASH\n", list[0].Number, list[0].Hash)
	}
}

func (a *app) trailCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check [HASH]", Short: "Hold every entry of the trail against its hash, and look for one that was noted",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			path := "/trail/check"
			if len(args) > 0 {
				path += "?hash=" + url.QueryEscape(args[0])
			}
			var found api.TrailCheck
			if err := c.get(cmd.Context(), path, &found); err != nil {
				return err
			}
			err = a.show(cmd, found, func(w io.Writer) { drawTrailCheck(w, found) })
			if err == nil && found.Broken != "" {
				err = fmt.Errorf("the trail is not what was written: %s", found.Broken)
			}
			return err
		},
	}
}

func drawTrailCheck(w io.Writer, found api.TrailCheck) {
	_, _ = fmt.Fprintf(w, "Entries as they were written: %s", figures.Count(found.Entries))
	if found.Last != "" {
		_, _ = fmt.Fprintf(w, "; the last has the hash %s", found.Last)
	}
	_, _ = fmt.Fprintln(w)
	if found.Noted > 0 {
		_, _ = fmt.Fprintf(w, "The hash that was noted is that of entry %d.\n", found.Noted)
	}
}
