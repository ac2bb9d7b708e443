package cli

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/keep"
)

func (a *app) keep() *cobra.Command {
	c := &cobra.Command{Use: "keep", Short: "How far back you can go, and what is deleted"}
	c.AddCommand(
		a.perClusterKeep("show CLUSTER", "Show what a cluster keeps, and whether its promise is held"),
		a.keepSet(), a.keepPreview(), a.keepApply(), a.keepUndo(), a.keepPin(), a.keepUnpin())
	return c
}

func (a *app) perClusterKeep(use, short string) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var k api.Keep
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/keep", &k); err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) { drawKeep(w, k) })
		},
	}
}

func drawKeep(w io.Writer, k api.Keep) {
	facts(w, "rule", keep.Rule(k.Rule).String(), "whose", k.From, "promised since", when(k.Promise.Since), "reached since",
		whenOr(k.Promise.HeldFrom, "nothing yet"), "held", yes(k.Promise.Held))
	if !k.Promise.Held && k.Promise.HeldFrom != nil {
		_, _ = fmt.Fprintf(w, "\nThe promise reaches further back than the cluster does. Nothing that it needs is deleted, so that "+
			"it\nis held from %s on.\n", when(k.Promise.HeldFrom.Add(keep.Rule(k.Rule).Span())))
	}
	if k.NextRun != nil {
		_, _ = fmt.Fprintf(w, "\nThe calendar applies the rule next at %s.\n", when(*k.NextRun))
	}
	if d := k.Deleted; d != nil {
		_, _ = fmt.Fprintln(w)
		for _, b := range d.Backups {
			_, _ = fmt.Fprintf(w, "deleted: base %s of %s, permanently deleted after %s\n", short(b.ID), when(b.TakenAt), when(b.Until))
		}
		if d.Segments > 0 {
			_, _ = fmt.Fprintf(w, "deleted: %s, %s, permanently deleted after %s\n", figures.Of(int(d.Segments), "WAL segment"),
				figures.Size(d.Bytes), whenOr(d.WALUntil, "a while"))
		}
		_, _ = fmt.Fprintf(w, "Until then it can be taken back: velvet keep undo %s\n", k.Cluster)
	}
	for _, p := range k.Pins {
		_, _ = fmt.Fprintf(w, "pinned: %s until %s: %s\n", p.Backup, whenOr(p.Until, "it is taken off"), p.Reason)
	}
}

// ruleFlags are the parts of a rule on a command line.
type ruleFlags struct {
	span string
	rule api.KeepRule
}

func (f *ruleFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.span, "span", "", "any moment of so long can be reached, as 31d or 36h")
	cmd.Flags().IntVar(&f.rule.Count, "newest", 0, "keep so many of the newest base backups, and any moment since the oldest of them")
	cmd.Flags().IntVar(&f.rule.Daily, "daily", 0, "keep the first base backup of so many days")
	cmd.Flags().IntVar(&f.rule.Weekly, "weekly", 0, "keep the first base backup of so many weeks")
	cmd.Flags().IntVar(&f.rule.Monthly, "monthly", 0, "keep the first base backup of so many months")
	cmd.Flags().IntVar(&f.rule.Yearly, "yearly", 0, "keep the first base backup of so many years")
	cmd.Flags().StringVar(&f.rule.Zone, "zone", "", "time zone of those days, weeks, months and years, as Europe/Lisbon; UTC if left out")
}

var ruleFlagNames = []string{"span", "newest", "daily", "weekly", "monthly", "yearly", "zone"}

// read gives the rule that the flags say; nil if none was given.
func (f *ruleFlags) read(cmd *cobra.Command) (*api.KeepRule, error) {
	given := false
	for _, name := range ruleFlagNames {
		given = given || cmd.Flags().Changed(name)
	}
	if !given {
		return nil, nil
	}
	r := f.rule
	if f.span != "" {
		hours, err := readHours(f.span)
		if err != nil {
			return nil, err
		}
		r.SpanHours = hours
	}
	return &r, nil
}

// readHours reads a length of time in days or hours.
func readHours(s string) (int, error) {
	for unit, hours := range map[string]int{"d": 24, "h": 1} {
		if digits, ok := strings.CutSuffix(s, unit); ok {
			if n, err := strconv.Atoi(digits); err == nil && n > 0 && n <= 36500 {
				return n * hours, nil
			}
		}
	}
	return 0, fmt.Errorf("%q is no length of time: write it as 31d or 36h", s)
}

func (a *app) keepSet() *cobra.Command {
	var flags ruleFlags
	var inherit bool
	cmd := &cobra.Command{
		Use: "set CLUSTER", Short: "Set a cluster's keep rule", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		Long: "Set a cluster's keep rule: what is not named is not asked for. Nothing is deleted by that; see what would be\n" +
			"deleted with: velvet keep preview CLUSTER. The rule is applied by velvet keep apply, and by keep runs in the calendar.",
		Example: "  velvet keep set ferries --span 31d --monthly 12 --yearly 7",
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := flags.read(cmd)
			if err != nil {
				return err
			}
			if (r == nil) != inherit {
				return fmt.Errorf("say what is kept, as --span 31d, or --inherit to have the policy's rule or the default apply again")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var k api.Keep
			path := "/clusters/" + seg(args[0]) + "/keep"
			if inherit {
				err = c.call(cmd.Context(), http.MethodDelete, path, nil, &k)
			} else {
				err = c.call(cmd.Context(), http.MethodPut, path, r, &k)
			}
			if err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) {
				drawKeep(w, k)
				_, _ = fmt.Fprintf(w, "\nNothing has been deleted. See what would be deleted: velvet keep preview %s\n", k.Cluster)
			})
		},
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&inherit, "inherit", false, "take the cluster's own rule away")
	return cmd
}

func (a *app) keepPreview() *cobra.Command {
	var flags ruleFlags
	var asOf string
	cmd := &cobra.Command{
		Use: "preview CLUSTER", Short: "Show what would be deleted, and why the rest is kept",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		Example: "  velvet keep preview ferries --as-of 2027-01-31\n  velvet keep preview ferries --span 7d --weekly 4",
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := flags.read(cmd)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			at, err := readDay(asOf)
			if err != nil {
				return err
			}
			var p api.KeepPreview
			if err := c.post(cmd.Context(), "/clusters/"+seg(args[0])+"/keep/preview",
				api.PreviewKeepRequest{Rule: r, AsOf: at, Measure: true}, &p); err != nil {
				return err
			}
			return a.show(cmd, p, func(w io.Writer) { drawPreview(w, p) })
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&asOf, "as-of", "", "a day, as 2027-01-31, or a time with its zone; now if left out")
	return cmd
}

func (a *app) keepUndo() *cobra.Command {
	return &cobra.Command{
		Use: "undo CLUSTER", Short: "Take back what was deleted and is not permanently deleted yet", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeClusters,
		Long: "Take back the base backups and the WAL of a cluster that were deleted, by a keep rule or by velvet backup\n" +
			"drop, and are not permanently deleted yet: the service waits a day unless it was started with another\n" +
			"--delete-after. A keep rule that does not need them deletes them again when it is next applied: change\n" +
			"it, or pin them.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var k api.Keep
			if err := c.post(cmd.Context(), "/clusters/"+seg(args[0])+"/keep/undo", nil, &k); err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "What was deleted of %s is back.\n\n", k.Cluster)
				drawKeep(w, k)
			})
		},
	}
}

// readDay reads a day, which begins at midnight here, or a time with its zone.
func readDay(s string) (*time.Time, error) {
	if s == "" {
		return nil, nil
	}
	if t, err := time.ParseInLocation("2006-01-02", s, time.Local); err == nil {
		return &t, nil
	}
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		return nil, fmt.Errorf("%q is no day: write it as 2027-01-31, or a time as 2027-01-31T18:00:00Z", s)
	}
	return &t, nil
}

func drawPreview(w io.Writer, p api.KeepPreview) {
	facts(w, "rule", p.Words, "as of", when(p.AsOf), "promised since", when(p.Promised), "held", yes(p.Held))
	_, _ = fmt.Fprintln(w)
	t := grid(w, "base", "taken", "verdict", "why")
	for _, b := range p.Bases {
		t.AppendRow([]any{short(b.ID), when(b.StopTime), verdict(b.Needed), reasons(b.Reasons)})
	}
	t.Render()
	_, _ = fmt.Fprintln(w)
	t = grid(w, "timeline>", "WAL from", "to", "segments>", "verdict", "why")
	for _, l := range p.WAL {
		t.AppendRow([]any{l.Timeline, l.From, l.To, figures.Count(int64(l.Last - l.First + 1)), verdict(l.Needed), reasons(l.Reasons)})
	}
	t.Render()
	_, _ = fmt.Fprintln(w)
	for _, side := range []struct {
		name  string
		spans []spanEnds
	}{{"reach now", endsOf(p, false)}, {"reach after", endsOf(p, true)}} {
		for i, s := range side.spans {
			name := side.name
			if i > 0 {
				name = ""
			}
			_, _ = fmt.Fprintf(w, "%-12s %s to %s\n", name, when(s.from), when(s.to))
		}
	}
	bases, wal := releasable(p)
	if bases+wal == 0 {
		_, _ = fmt.Fprintln(w, "\nEverything is still needed: nothing would be deleted.")
		return
	}
	frees := "an unknown amount"
	if p.FreesBackups != nil {
		frees = figures.Size(*p.FreesBackups)
	}
	_, _ = fmt.Fprintf(w, "\n%s and %s of WAL would be deleted: %s of packs and %s of WAL.\n", figures.Of(bases, "base backup"),
		figures.Of(wal, "stretch"), frees, figures.Size(p.FreesWAL))
}

// releasable counts the base backups and the stretches of WAL that would be deleted.
func releasable(p api.KeepPreview) (bases, stretches int) {
	for _, b := range p.Bases {
		if !b.Needed {
			bases++
		}
	}
	for _, w := range p.WAL {
		if !w.Needed {
			stretches++
		}
	}
	return bases, stretches
}

type spanEnds struct{ from, to time.Time }

func endsOf(p api.KeepPreview, after bool) (list []spanEnds) {
	spans := p.Before
	if after {
		spans = p.After
	}
	for _, s := range spans {
		list = append(list, spanEnds{s.FromTime, s.ToTime})
	}
	return list
}

func verdict(needed bool) string {
	if needed {
		return "needed"
	}
	return "releasable"
}

func reasons(list []api.KeepReason) string {
	texts := make([]string, len(list))
	for i, r := range list {
		texts[i] = r.Text
	}
	return strings.Join(texts, "; ")
}

func (a *app) keepApply() *cobra.Command {
	var typed string
	var detach bool
	cmd := &cobra.Command{
		Use: "apply CLUSTER", Short: "Delete what the keep rule does not need", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeClusters,
		Long: "Show what the keep rule does not need, and, confirmed, delete just that; if something else would be deleted by then,\n" +
			"nothing does.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			path := "/clusters/" + seg(args[0]) + "/keep/"
			var p api.KeepPreview
			if err := c.post(cmd.Context(), path+"preview", api.PreviewKeepRequest{Measure: true}, &p); err != nil {
				return err
			}
			bases, wal := releasable(p)
			if a.output == "table" {
				drawPreview(cmd.OutOrStdout(), p)
			}
			if bases+wal == 0 {
				return nil
			}
			return a.confirmedTask(cmd, c, typed, detach, func(name string, t *api.Task) error {
				return c.post(cmd.Context(), path+"apply", api.ApplyKeepRequest{Token: p.Token, Confirm: name}, t)
			})
		},
	}
	confirmFlag(cmd, &typed)
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

func (a *app) keepPin() *cobra.Command {
	var reason, until string
	cmd := &cobra.Command{
		Use: "pin BASE", Short: "Keep a base backup whatever the rule says", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeBackups,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			at, err := readDay(until)
			if err != nil {
				return err
			}
			var k api.Keep
			if err := c.call(cmd.Context(), http.MethodPut, "/backups/"+seg(args[0])+"/pin", api.PinRequest{Reason: reason, Until: at},
				&k); err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) { drawKeep(w, k) })
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for those who ask later (required)")
	cmd.Flags().StringVar(&until, "until", "", "a day on which the pin expires, as 2027-01-31; left out, it holds until it is taken off")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func (a *app) keepUnpin() *cobra.Command {
	return &cobra.Command{
		Use: "unpin BASE", Short: "Take the pin off a base backup", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeBackups,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.call(cmd.Context(), http.MethodDelete, "/backups/"+url.PathEscape(args[0])+"/pin", nil, nil); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "base %s is no longer pinned.\n", args[0])
			return err
		},
	}
}
