package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) reach() *cobra.Command {
	var follow bool
	cmd := a.perCluster("reach [CLUSTER]", "Show to which moments a cluster can be rewound, and what is promised", drawReach)
	once := cmd.RunE
	cmd.Flags().BoolVar(&follow, "follow", false, "keep watching, and print a line whenever the earliest or the latest moment has moved")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !follow {
			return once(cmd, args)
		}
		return a.followReach(cmd, args)
	}
	return cmd
}

// followReach prints how reach moves until it is interrupted.
func (a *app) followReach(cmd *cobra.Command, args []string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	said := make(map[string]string)
	for {
		list, err := clustersOr(cmd, c, args)
		if err != nil {
			return err
		}
		for _, k := range list {
			from, to := reachEnds(k)
			line := fmt.Sprintf("%s: %s to %s", k.Name, from, to)
			if n := len(k.Reach); n > 0 {
				line += fmt.Sprintf(" (%s to %s), %s", k.Reach[0].From, k.Reach[n-1].To, figures.Of(len(k.Holes), "hole"))
			}
			if said[k.ID] != line {
				said[k.ID] = line
				_, _ = fmt.Fprintln(cmd.OutOrStdout(), line)
			}
		}
		select {
		case <-cmd.Context().Done():
			return nil
		case <-time.After(followEvery):
		}
	}
}

const followEvery = 2 * time.Second

func drawReach(w io.Writer, k api.Cluster) {
	if len(k.Reach) == 0 {
		_, _ = fmt.Fprintf(w, "No moment can be reached yet. Take a base backup with: velvet backup take %s\n", k.Name)
	} else {
		t := grid(w, "timeline>", "reach from", "LSN", "to", "LSN", "first base")
		for _, s := range k.Reach {
			t.AppendRow([]any{s.Timeline, when(s.FromTime), s.From, when(s.ToTime), s.To, short(s.Base)})
		}
		t.Render()
	}
	for _, h := range k.Holes {
		until := "later moments cannot be reached until a base backup is taken: velvet backup take " + k.Name
		if h.Until != nil {
			until = "moments can be reached again from " + when(*h.Until)
		}
		_, _ = fmt.Fprintf(w, "hole on timeline %d: %s of WAL from %s to %s are missing: %s; %s\n", h.Timeline,
			figures.Size(int64(h.To-h.From)), h.From, h.To, h.Cause, until)
	}
	drawPromise(w, k.Promise)
}

// drawPromise says what is promised beside what is held.
func drawPromise(w io.Writer, p api.Promise) {
	_, _ = fmt.Fprintf(w, "promised: %s; every moment since %s\n", p.Words, when(p.Since))
	switch {
	case p.Held:
		_, _ = fmt.Fprintln(w, "held: yes")
	case p.HeldFrom != nil:
		_, _ = fmt.Fprintf(w, "held: only since %s\n", when(*p.HeldFrom))
	default:
		_, _ = fmt.Fprintln(w, "held: no, not before a base backup is taken")
	}
}
