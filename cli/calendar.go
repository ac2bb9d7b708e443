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
)

func (a *app) calendar() *cobra.Command {
	c := &cobra.Command{Use: "calendar", Short: "Schedule recurring work: base backups, keep runs, audits of the store, rehearsals"}
	c.AddCommand(a.calendarList(), a.calendarAdd(), a.calendarPause("pause ENTRY", "Pause an entry of the calendar", true),
		a.calendarPause("resume ENTRY", "Resume a paused entry; what was due meanwhile is not caught up", false), a.calendarRemove())
	return c
}

func (a *app) calendarList() *cobra.Command {
	var cluster string
	cmd := &cobra.Command{
		Use: "list", Short: "List recurring work, with its next run", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Entry
			if err := c.get(cmd.Context(), "/calendar?cluster="+seg(cluster), &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintln(w, "Nothing is scheduled yet. Schedule a base backup for every night with: velvet calendar add "+
						"backup --cluster NAME --at 02:30")
					return
				}
				drawEntries(w, list)
			})
		},
	}
	cmd.Flags().StringVar(&cluster, "cluster", "", "only what is about this cluster")
	return cmd
}

func drawEntries(w io.Writer, list []api.Entry) {
	t := grid(w, "entry", "work", "of", "when", "next", "last begun", "")
	for _, e := range list {
		next, last, note := "", "", ""
		if len(e.Next) > 0 {
			next = when(e.Next[0].At)
		}
		if e.Paused {
			next = "paused"
		}
		if e.Last != nil {
			last, note = when(e.Last.At), e.Last.Problem
		}
		t.AppendRow([]any{short(e.ID), strings.TrimSpace(e.Work + " " + e.Detail), entryOf(e), e.Words, next, last, note})
	}
	t.Render()
}

// entryOf says what an entry is about.
func entryOf(e api.Entry) string {
	switch {
	case e.Cluster != "":
		return e.Cluster
	case e.Policy != "":
		return fmt.Sprintf("policy %s (%d clusters)", e.Policy, e.Clusters)
	}
	return "the store"
}

// scheduleFlags are a schedule on a command line.
type scheduleFlags struct {
	plan  api.CalendarSchedule
	quiet []string
}

func (f *scheduleFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.plan.At, "at", "", "time of day, as 02:30")
	cmd.Flags().StringSliceVar(&f.plan.Weekdays, "on", nil, "with --at: weekdays, as mon,wed,fri; every day if left out")
	cmd.Flags().IntVar(&f.plan.EveryHours, "every-hours", 0, "every so many hours, counted from midnight UTC")
	cmd.Flags().StringVar(&f.plan.Cron, "cron", "", "a cron expression of five fields")
	cmd.Flags().StringVar(&f.plan.Zone, "zone", "", "time zone, as Europe/Lisbon; UTC if left out")
	cmd.Flags().IntVar(&f.plan.Jitter, "jitter", 0, "spread clusters: each begins up to so many minutes later, always by the same")
	cmd.Flags().StringSliceVar(&f.quiet, "quiet", nil, "nothing begins then, but when it ends: FROM-TO, as 08:00-18:00, or mon:08:00-18:00")
}

func (f *scheduleFlags) read() (api.CalendarSchedule, error) {
	plan := f.plan
	for _, q := range f.quiet {
		day, span, ok := strings.Cut(q, ":")
		w := api.CalendarWindow{}
		if ok && len(day) == 3 && day[0] > '9' {
			w.Weekdays = []string{day}
		} else {
			span = q
		}
		if w.From, w.To, ok = strings.Cut(span, "-"); !ok {
			return plan, fmt.Errorf("--quiet %q: write it as 08:00-18:00 or mon:08:00-18:00", q)
		}
		plan.Quiet = append(plan.Quiet, w)
	}
	return plan, nil
}

func (a *app) calendarAdd() *cobra.Command {
	var flags scheduleFlags
	var cluster, policy, kind string
	var previewOnly bool
	cmd := &cobra.Command{
		Use: "add backup|keep|audit|rehearsal", Short: "Schedule recurring work, and show its next ten runs", Args: cobra.ExactArgs(1),
		ValidArgs: []string{"backup", "keep", "audit", "rehearsal"},
		Example: "  velvet calendar add backup --cluster ferries --at 02:30 --zone Europe/Lisbon\n" +
			"  velvet calendar add keep --policy outer --at 05:00 --jitter 60\n" +
			"  velvet calendar add audit --cron '0 4 * * sun' --kind full --preview",
		RunE: func(cmd *cobra.Command, args []string) error {
			plan, err := flags.read()
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var next api.Upcoming
			if err := c.post(cmd.Context(), "/calendar/preview", api.PreviewScheduleRequest{Schedule: plan}, &next); err != nil {
				return err
			}
			if previewOnly {
				return a.show(cmd, next, func(w io.Writer) { drawUpcoming(w, next, plan.Zone) })
			}
			var e api.Entry
			in := api.AddEntryRequest{Cluster: cluster, Policy: policy, Work: args[0], Detail: kind, Schedule: plan}
			if err := c.post(cmd.Context(), "/calendar", in, &e); err != nil {
				return err
			}
			return a.show(cmd, e, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s of %s, %s: entry %s\n\n", e.Work, entryOf(e), e.Words, e.ID)
				drawUpcoming(w, next, plan.Zone)
			})
		},
	}
	flags.add(cmd)
	cmd.Flags().StringVar(&cluster, "cluster", "", "the cluster it is about")
	cmd.Flags().StringVar(&policy, "policy", "", "the policy whose clusters it is about")
	cmd.Flags().StringVar(&kind, "kind", "",
		"of base backup: full, incremental, auto; of audit: quick, full; of rehearsal: latest, random, oldest")
	cmd.Flags().BoolVar(&previewOnly, "preview", false, "show the next ten runs and save nothing")
	return cmd
}

// drawUpcoming shows runs in the schedule's own zone, and in the user's.
func drawUpcoming(w io.Writer, u api.Upcoming, zone string) {
	if zone == "" {
		zone = "UTC"
	}
	z, err := time.LoadLocation(zone)
	if err != nil {
		z = time.UTC
	}
	_, _ = fmt.Fprintf(w, "next runs, %s:\n", u.Words)
	t := grid(w, "in "+zone, "here", "")
	for _, r := range u.Runs {
		t.AppendRow([]any{r.At.In(z).Format("Mon 2006-01-02 15:04:05 -07:00"), when(r.At), r.Note})
	}
	t.Render()
}

func (a *app) calendarPause(use, short string, paused bool) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var e api.Entry
			if err := c.call(cmd.Context(), http.MethodPut, "/calendar/"+seg(args[0])+"/paused", api.PauseEntryRequest{Paused: paused},
				&e); err != nil {
				return err
			}
			return a.show(cmd, e, func(w io.Writer) { drawEntries(w, []api.Entry{e}) })
		},
	}
}

func (a *app) calendarRemove() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "remove ENTRY", Short: "Take an entry out of the calendar", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeEntries,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			err = confirming(cmd, typed, func(name string) error {
				return c.call(cmd.Context(), http.MethodDelete, "/calendar/"+seg(args[0])+"?confirm="+url.QueryEscape(name), nil, nil)
			})
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "entry %s was removed from the calendar; work under way continues.\n", args[0])
			return err
		},
	}
	confirmFlag(cmd, &typed)
	return cmd
}
