package cli

import (
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/rehearsal"
)

func (a *app) rehearse() *cobra.Command {
	c := &cobra.Command{Use: "rehearse", Short: "Rehearse restores: make a copy, prove it, record what that took, discard it"}
	c.AddCommand(a.rehearseNow(), a.rehearseHistory(), a.rehearseReport(), a.rehearseObjective())
	return c
}

func (a *app) rehearseNow() *cobra.Command {
	var pick string
	var detach bool
	cmd := &cobra.Command{
		Use: "now CLUSTER", Short: "Rehearse a restore now (exit code 4 unless the copy is proved)", Args: cobra.ExactArgs(1),
		Example: `  velvet rehearse now ferries
  velvet rehearse now ferries --pick random
  velvet rehearse now ferries --pick "before tx 84190"`,
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/clusters/"+seg(args[0])+"/rehearsals", api.RehearseRequest{Pick: pick}, &t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, detach); err != nil || detach {
				return err
			}
			var list []api.Rehearsal
			if err := c.get(cmd.Context(), "/rehearsals?days=1&cluster="+seg(args[0]), &list); err != nil {
				return err
			}
			for _, r := range list {
				if r.ID != t.ID {
					continue
				}
				if err := a.show(cmd, r, func(w io.Writer) { drawRehearsals(w, []api.Rehearsal{r}) }); err != nil {
					return err
				}
				if r.Outcome != string(rehearsal.Passed) {
					return errProofFailed
				}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&pick, "pick", "latest", "latest, random (within the reach), oldest (that is promised), or a moment")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

func (a *app) rehearseHistory() *cobra.Command {
	var days int
	cmd := &cobra.Command{
		Use: "history [CLUSTER]", Short: "List rehearsals, newest first", Args: cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			cluster := ""
			if len(args) > 0 {
				cluster = args[0]
			}
			var list []api.Rehearsal
			if err := c.get(cmd.Context(), fmt.Sprintf("/rehearsals?days=%d&cluster=%s", days, seg(cluster)), &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintln(w, "There was no rehearsal. Begin one with: velvet rehearse now CLUSTER")
					return
				}
				drawRehearsals(w, list)
			})
		},
	}
	cmd.Flags().IntVar(&days, "days", 30, "of so many days")
	return cmd
}

func drawRehearsals(w io.Writer, list []api.Rehearsal) {
	t := grid(w, "cluster", "ended", "moment", "outcome", "laid out>", "replayed>", "proved>", "in all>", "estimated>", "lost>", "cause")
	for _, r := range list {
		moment := r.Moment
		if moment == "" {
			moment = r.Pick
		}
		t.AppendRow([]any{r.Cluster, whenOr(r.EndedAt, "not yet"), moment, r.Outcome, inSeconds(&r.LaidOut), inSeconds(&r.Replayed),
			inSeconds(&r.Proved), inSeconds(new(r.LaidOut + r.Replayed + r.Proved)), inSeconds(r.Estimate), inSeconds(r.Lost), r.Cause})
	}
	t.Render()
}

// inSeconds writes a length of time, and nothing for none.
func inSeconds(s *float64) string {
	if s == nil || *s == 0 {
		return ""
	}
	return (time.Duration(*s*10) * 100 * time.Millisecond).String()
}

func (a *app) rehearseReport() *cobra.Command {
	var days int
	var format, to string
	cmd := &cobra.Command{
		Use: "report", Short: "Report which clusters could not be brought back today, and what all rehearsals came to", Args: cobra.NoArgs,
		Example: "  velvet rehearse report --days 30\n  velvet rehearse report --days 90 --format html --to quarter.html",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if format != "" {
				return a.saveReport(cmd, c, fmt.Sprintf("/rehearsals/report?days=%d&format=%s", days, seg(format)), to)
			}
			var d api.Digest
			if err := c.get(cmd.Context(), fmt.Sprintf("/rehearsals/digest?days=%d", days), &d); err != nil {
				return err
			}
			return a.show(cmd, d, func(w io.Writer) { drawDigest(w, d) })
		},
	}
	cmd.Flags().IntVar(&days, "days", 30, "of so many days")
	cmd.Flags().StringVar(&format, "format", "", "write a file instead: html, csv or json")
	cmd.Flags().StringVar(&to, "to", "", "file to write; left out, one is named after the day")
	return cmd
}

func drawDigest(w io.Writer, d api.Digest) {
	_, _ = fmt.Fprintf(w, "%s\n\n", d.First)
	if len(d.Lines) == 0 {
		return
	}
	t := grid(w, "cluster", "standing", "last rehearsal", "passed>", "back in>", "worst>", "lost>", "objective", "trend>")
	for _, l := range d.Lines {
		last, objective, drift := "never", rehearsal.Objective{Back: time.Duration(l.Objective.BackWithin) * time.Second,
			Lose: time.Duration(l.Objective.LosingAtMost) * time.Second}.String(), ""
		if l.Last != nil {
			last = whenOr(l.Last.EndedAt, "never")
		}
		if l.Kept != nil && !*l.Kept {
			objective += " (not kept)"
		}
		if l.Trend != 0 {
			drift = fmt.Sprintf("%+.0f %%", 100*l.Trend)
		}
		t.AppendRow([]any{l.Cluster, l.Standing, last, fmt.Sprintf("%d of %d", l.Good, l.Runs), inSeconds(&l.Back), inSeconds(&l.Worst),
			inSeconds(l.Lost), objective, drift})
	}
	t.Render()
	for _, l := range d.Lines {
		if l.Why != "" {
			_, _ = fmt.Fprintf(w, "\n%s: %s\n", l.Cluster, l.Why)
		}
	}
}

func (a *app) rehearseObjective() *cobra.Command {
	var back, lose time.Duration
	cmd := &cobra.Command{
		Use: "objective CLUSTER", Short: "Say within what time a cluster is to be back, and losing how much; rehearsals are measured by it",
		Args: cobra.ExactArgs(1), Example: "  velvet rehearse objective ferries --back-within 2h --losing-at-most 1m",
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			if back < 0 || lose < 0 {
				return fmt.Errorf("an objective is not below nothing; 0 takes it back")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			in := api.Objective{BackWithin: int(back.Seconds()), LosingAtMost: int(lose.Seconds())}
			if err := c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(args[0])+"/objective", in, &in); err != nil {
				return err
			}
			return a.show(cmd, in, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "The objective of %s: %s\n", args[0], rehearsal.Objective{Back: back, Lose: lose})
			})
		},
	}
	cmd.Flags().DurationVar(&back, "back-within", 0, "it is to be back within this; 0: nothing is said")
	cmd.Flags().DurationVar(&lose, "losing-at-most", 0, "losing at most this; 0: nothing is said")
	return cmd
}
