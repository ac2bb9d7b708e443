package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) rescue() *cobra.Command {
	c := &cobra.Command{Use: "rescue", Short: "Bring back what a transaction took, and leave the rest as it is"}
	c.AddCommand(a.rescuePlan(), a.rescueCompare(), a.rescueApply(), a.rescueScript(), a.rescueExport(), a.rescueList(), a.rescueShow())
	return c
}

// rescueFlags are what every form of a rescue is told.
type rescueFlags struct {
	in           api.RescueRequest
	passwordFile string
	whole        bool
	host         string
	transactions []string
}

// which are the flags that say from where rows come.
func (f *rescueFlags) which(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.whole, "whole-copy", false, "make a copy of the whole cluster, if one is made, not of the tables alone")
	cmd.Flags().StringVar(&f.host, "host", "", "host with an agent to make the copy on, if one is made (default: the service's own)")
	cmd.Flags().StringSliceVar(&f.transactions, "transaction", nil,
		"id of the transaction, and after it of others that are undone with it (default: the first one that the copy leaves out)")
}

func (f *rescueFlags) add(cmd *cobra.Command) {
	f.which(cmd)
	cmd.Flags().StringSliceVar(&f.in.Tables, "table", nil, "only this table and what stands below it; may be given several times")
	cmd.Flags().StringArrayVar(&f.in.Settle, "settle", nil,
		"what becomes of rows that live has changed since: keep-live, take-old or stop, after TABLE= or TABLE:KEY= only of these")
	cmd.Flags().BoolVar(&f.in.NoTriggers, "no-triggers", false, "have no trigger and no rule of the live tables run; needs a superuser")
	cmd.Flags().BoolVar(&f.in.TrustCode, "trust-code", false, "let code of the tables' owners run with the rights of a superuser")
	cmd.Flags().StringVar(&f.in.As, "as", "", "write as this role, at best the tables' owner (default: the registered role)")
	cmd.Flags().StringVar(&f.passwordFile, "as-password-file", "",
		"file with that role's password, which is not kept; without it you are asked on a terminal")
}

const copyHelp = "\n\nThe rows are read from a copy that stands just before the transaction: one that is named, or with CLUSTER and\n" +
	"MOMENT one that stands there or is made, which holds only the tables that the transaction touched."

const rescueHelp = copyHelp + " A row that somebody\n" +
	"has changed since the transaction is not overwritten unless --settle says so."

// prepareRescue finds or makes the copy, and reads the password.
func (a *app) prepareRescue(cmd *cobra.Command, args []string, f *rescueFlags) (c *client, path string, err error) {
	if f.in.As != "" {
		if f.in.AsPassword, err = readPassword(cmd, f.passwordFile); err != nil {
			return nil, "", err
		}
	}
	c, path, err = a.prepareCopy(cmd, args, f)
	return c, path + "/rescues", err
}

// prepareCopy finds or makes the copy.
func (a *app) prepareCopy(cmd *cobra.Command, args []string, f *rescueFlags) (c *client, path string, err error) {
	if c, err = a.client(); err != nil {
		return nil, "", err
	}
	if f.in.Transaction, f.in.Also, err = firstAndOthers(f.transactions); err != nil {
		return nil, "", err
	}
	name := args[0]
	if len(args) == 2 {
		if name, err = a.copyJustBefore(cmd, args[0], args[1], f); err != nil {
			return nil, "", err
		}
		f.in.Open = true // nobody else has asked for it
	}
	return c, "/copies/" + seg(name), nil
}

// firstAndOthers divides transaction ids as they are asked for.
func firstAndOthers(list []string) (first uint64, also []uint64, err error) {
	for i, text := range list {
		x, err := strconv.ParseUint(text, 10, 64)
		if err != nil || x == 0 {
			return 0, nil, fmt.Errorf("--transaction %s: a transaction id is a number, as velvet changes list shows it", text)
		}
		if i == 0 {
			first = x
		} else {
			also = append(also, x)
		}
	}
	return first, also, nil
}

// copyJustBefore gives the id of a copy that stands at a moment, made if there is none: of what the transaction touched alone, if
// that will do.
func (a *app) copyJustBefore(cmd *cobra.Command, cluster, text string, f *rescueFlags) (string, error) {
	var m api.Moment
	c, err := a.askMoment(cmd, "/clusters/"+seg(cluster)+"/moment", text, func(s string) any { return api.MomentRequest{Moment: s} }, &m)
	if err != nil {
		return "", err
	}
	var list []api.Copy
	if err := c.get(cmd.Context(), "/copies?cluster="+seg(cluster), &list); err != nil {
		return "", err
	}
	for _, k := range list {
		b := k.Plan.Boundary
		if (k.State == "paused" || k.State == "open") && b.Timeline == m.Boundary.Timeline && b.Stop == m.Boundary.Stop &&
			b.Inclusive == m.Boundary.Inclusive && (k.Partial == nil || k.Partial.Rescue && !f.whole && len(f.in.Also) == 0) {
			return k.ID, nil
		}
	}
	return a.copyFirst(cmd, cluster, m.Boundary.Moment, &api.MakeCopyRequest{Host: f.host, Rescue: !f.whole, Also: f.in.Also})
}

// rescued has a rescue be carried out, and gives what is recorded of it.
func rescued(ctx context.Context, c *client, path string, in api.RescueRequest, out io.Writer) (r api.Rescue, err error) {
	var t api.Task
	if err := c.post(ctx, path, in, &t); err != nil {
		return r, err
	}
	t, failed := watch(ctx, c, t, out)
	if failed != nil && t.Subject == "" {
		return r, failed
	}
	if err := c.get(ctx, "/rescues/"+seg(t.Subject), &r); err != nil && failed == nil {
		return r, err
	}
	return r, failed
}

func (a *app) rescuePlan() *cobra.Command {
	var f rescueFlags
	cmd := &cobra.Command{
		Use: "plan COPY | CLUSTER MOMENT", Short: "Show what would be brought back, and what stands in the way, changing nothing",
		Long: "Show what would be brought back, and what stands in the way, changing nothing." + rescueHelp,
		Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.completeCopies,
		Example: "  velvet rescue plan ferries \"before delete of booking\"\n  velvet rescue plan ferries-1 --table fare",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, path, err := a.prepareRescue(cmd, args, &f)
			if err != nil {
				return err
			}
			f.in.Mode = "plan"
			r, err := rescued(cmd.Context(), c, path, f.in, cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			return a.show(cmd, r, func(w io.Writer) { drawRescue(w, r) })
		},
	}
	f.add(cmd)
	return cmd
}

func (a *app) rescueApply() *cobra.Command {
	var f rescueFlags
	var typed string
	var dry bool
	var pause time.Duration
	cmd := &cobra.Command{
		Use: "apply COPY | CLUSTER MOMENT", Short: "Bring the rows back, in one transaction that is proved before it is committed",
		Long: "Bring the rows back, in one transaction of the live cluster. It is done once and taken back, to show what it does; then\n" +
			"it asks for the word; then it is done, proved, and committed only if the rows are there and no other was touched." +
			rescueHelp + "\n\nHuge ones are brought back in several transactions, with --at-once and --pause: each is proved and\n" +
			"committed by itself, and what is brought back is noted, so that the same command goes on where it was interrupted.",
		Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, path, err := a.prepareRescue(cmd, args, &f)
			if err != nil {
				return err
			}
			if f.in.Mode = "try"; f.in.AtOnce > 0 && !dry {
				f.in.Mode = "plan" // all at once is what is not wanted
			}
			f.in.Pause = pause.Seconds()
			r, err := rescued(cmd.Context(), c, path, f.in, cmd.ErrOrStderr())
			if err != nil {
				drawRescue(cmd.ErrOrStderr(), r)
				return err
			}
			if dry {
				return a.show(cmd, r, func(w io.Writer) { drawRescue(w, r) })
			}
			drawRescue(cmd.ErrOrStderr(), r)
			f.in.Mode = "apply"
			err = confirming(cmd, typed, func(word string) (err error) {
				f.in.Confirm = word
				r, err = rescued(cmd.Context(), c, path, f.in, cmd.ErrOrStderr())
				return err
			})
			if err != nil {
				return err
			}
			return a.show(cmd, r, func(w io.Writer) { drawRescue(w, r) })
		},
	}
	f.add(cmd)
	confirmFlag(cmd, &typed)
	cmd.Flags().Int64Var(&f.in.AtOnce, "at-once", 0, "bring back at most so many rows in one transaction (default: all)")
	cmd.Flags().DurationVar(&pause, "pause", 0, "write nothing for so long after each of them")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "do everything, take it back, and show what it came to")
	return cmd
}

func (a *app) rescueScript() *cobra.Command {
	var f rescueFlags
	var file string
	cmd := &cobra.Command{
		Use: "script COPY | CLUSTER MOMENT", Short: "Write SQL with the rows that does the same, to be read and run by psql",
		Long: "Write SQL with the rows that does the same, to be read and run by psql. Nothing is changed." + rescueHelp,
		Args: cobra.RangeArgs(1, 2), ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, path, err := a.prepareRescue(cmd, args, &f)
			if err != nil {
				return err
			}
			return intoFile(cmd, file, func(out io.Writer) error { return c.stream(cmd.Context(), path+"/script", f.in, out) })
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&file, "file", "", "new file to write it to (default: the standard output)")
	return cmd
}

// stream posts a request, and copies what is answered.
func (c *client) stream(ctx context.Context, path string, in any, out io.Writer) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	resp, err := c.do(ctx, http.MethodPost, path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	_, err = io.Copy(out, resp.Body)
	return err
}

func (a *app) rescueList() *cobra.Command {
	return &cobra.Command{
		Use: "list [CLUSTER]", Short: "List the rescues, newest first", Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Rescue
			if err := c.get(cmd.Context(), "/rescues?cluster="+seg(strings.Join(args, "")), &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				t := grid(w, "rescue", "cluster", "begun", "of tx>", "how it stands", "inserted>", "updated>")
				for _, r := range list {
					var inserts, updates int64
					for _, one := range r.Tables {
						inserts, updates = inserts+one.Inserts, updates+one.Updates
					}
					t.AppendRow([]any{short(r.ID), r.Cluster, when(r.BegunAt), r.Transaction, r.State, figures.Count(inserts),
						figures.Count(updates)})
				}
				t.Render()
			})
		},
	}
}

func (a *app) rescueShow() *cobra.Command {
	return &cobra.Command{
		Use: "show RESCUE", Short: "Show a rescue: what it brought back, and how it was proved", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var r api.Rescue
			if err := c.get(cmd.Context(), "/rescues/"+seg(args[0]), &r); err != nil {
				return err
			}
			return a.show(cmd, r, func(w io.Writer) { drawRescue(w, r) })
		},
	}
}

// stands says in words how far a rescue went.
var stands = map[string]string{"planned": "planned; nothing was changed", "tried": "done and taken back; nothing was changed",
	"applied": "the rows are back", "partly": "a part of the rows is back; the same command goes on",
	"failed": "nothing was changed", "looking": "under way",
	"writing": "being committed, or not known: ask the server for pg_xact_status of its transaction"}

func drawRescue(w io.Writer, r api.Rescue) {
	if r.ID == "" {
		return
	}
	state := stands[r.State]
	switch {
	case len(r.Batches) > 0:
		state += fmt.Sprintf(", by %s up to %d; %d left", figures.Of(len(r.Batches), "transaction"), r.Wrote, r.Left)
	case r.Wrote != 0:
		state += fmt.Sprintf(", by transaction %d", r.Wrote)
	}
	facts(w, "rescue", r.ID, "cluster", r.Cluster, "of transaction", fmt.Sprintf("%s, in database %s", undone(r), r.Database),
		"from the copy", r.Copy+", "+r.Moment, "state", state)
	if len(r.Tables) > 0 {
		_, _ = fmt.Fprintln(w)
		t := grid(w, "table", "what it did", "missing>", "overwritten>", "already right>", "changed since>", "to insert>",
			"to update>", "open>")
		for _, one := range r.Tables {
			t.AppendRow([]any{one.Table, one.Did, figures.Count(one.Missing), figures.Count(one.Overwritten), figures.Count(one.Right),
				figures.Count(one.Changed + one.Gone + one.Orphans + one.Taken), figures.Count(one.Inserts), figures.Count(one.Updates),
				figures.Count(one.Unsettled)})
		}
		t.Render()
	}
	drawConflicts(w, r.Tables)
	for _, one := range r.Tables {
		for _, note := range one.Notes {
			_, _ = fmt.Fprintf(w, "%s: %s\n", one.Table, note)
		}
		if one.Key == "" && !slices.Contains(r.Made, one.Table) {
			_, _ = fmt.Fprintf(w, "%s has no key: its rows are known by where they lie\n", one.Table)
		}
	}
	drawList(w, "Made anew, with all that hung on them", r.Made)
	drawList(w, "Rows cannot undo", r.Unable)
	drawList(w, "As the rows are written, this runs", r.Runs)
	if len(r.Checks) > 0 {
		_, _ = fmt.Fprintln(w)
		t := grid(w, "check", "verdict", "what was seen")
		for _, c := range r.Checks {
			t.AppendRow([]any{c.Name, c.Verdict, c.Summary})
		}
		t.Render()
	}
}

func drawList(w io.Writer, title string, list []string) {
	if len(list) > 0 {
		_, _ = fmt.Fprintf(w, "\n%s:\n  %s\n", title, strings.Join(list, "\n  "))
	}
}

// mostDrawn is how many rows that stand in the way are shown of a table.
const mostDrawn = 10

func drawConflicts(w io.Writer, tables []api.RescueTable) {
	shown := false
	for _, one := range tables {
		for i, c := range one.Conflicts {
			if i == mostDrawn {
				_, _ = fmt.Fprintf(w, "… and more of %s\n", one.Table)
				break
			}
			if !shown {
				_, _ = fmt.Fprintln(w, "\nRows that stand in the way:")
				shown = true
			}
			var columns []string
			for _, d := range c.Columns {
				columns = append(columns, fmt.Sprintf("%s was %s, is %s", d.Name, orNull(d.Old), orNull(d.Live)))
			}
			line := fmt.Sprintf("  %s:%s  %s", one.Table, c.Key, c.How)
			if len(columns) > 0 {
				line += ": " + strings.Join(columns, "; ")
			}
			_, _ = fmt.Fprintf(w, "%s  (%s)\n", line, c.Do)
		}
	}
}

func orNull(s string) string {
	if s == "" {
		return "NULL"
	}
	return s
}

// undone are the ids of the transactions that a rescue undoes.
func undone(r api.Rescue) string {
	text := fmt.Sprint(r.Transaction)
	for _, x := range r.Also {
		text += fmt.Sprintf(", %d", x)
	}
	return text
}
