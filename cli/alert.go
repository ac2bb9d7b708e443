package cli

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

// alertFlags say which transactions of a cluster are incidents.
type alertFlags struct {
	said          api.Rule
	tables, again []string
	since         string // it is only tried on what was committed since
}

func (r *alertFlags) add(cmd *cobra.Command) {
	s := cmd.Flags()
	s.BoolVar(&r.said.Drops, "alert-drops", true, "a table or a column dropped, a table truncated, or a database dropped, is\nan incident")
	s.BoolVar(&r.said.Alters, "alert-alters", false, "a table altered in any way is an incident")
	s.Int64Var(&r.said.Rows, "alert-rows", 0, "so many rows deleted from one table are an incident; 0 for no limit")
	s.Float64Var(&r.said.Share, "alert-share", 0, "this share of a table's rows deleted or updated,\n"+
		"0 to 1, is an incident in tables of 1,000 rows and more; 0 for no limit")
	s.StringArrayVar(&r.tables, "alert-table", nil, "limits of its own for a table, however small: TABLE=500, TABLE=25%,\n"+
		"TABLE=500,25%; TABLE= to have the cluster's again")
	s.StringArrayVar(&r.again, "alert-again", nil, "what was declared normal for this table with \"changes settle --like\" is\n"+
		"an incident again")
	s.StringVar(&r.since, "try-since", "", "change nothing: show what would have been an incident since this time")
}

// change takes what flags say into a rule, and tells whether any does.
func (r *alertFlags) change(flags *pflag.FlagSet, now *api.Rule) (changed bool, err error) {
	own := map[string]func(){
		"alert-drops": func() { now.Drops = r.said.Drops }, "alert-alters": func() { now.Alters = r.said.Alters },
		"alert-rows":  func() { now.Rows = r.said.Rows },
		"alert-share": func() { now.Share = r.said.Share }, "alert-table": func() {}, "alert-again": func() {}, "try-since": func() {},
	}
	flags.Visit(func(f *pflag.Flag) {
		take, is := own[f.Name]
		if is {
			take()
			changed = true
		} else if r.since != "" && err == nil && f.Name != "output" && f.Name != "home" {
			err = fmt.Errorf("--try-since changes nothing: leave --%s out, or do without --try-since", f.Name)
		}
	})
	if err == nil {
		err = r.changeTables(now)
	}
	return changed, err
}

// changeTables takes what flags say of single tables into a rule.
func (r *alertFlags) changeTables(now *api.Rule) (err error) {
	for _, text := range r.tables {
		at := strings.LastIndexByte(text, '=')
		if at < 0 {
			return fmt.Errorf("--alert-table %q: write TABLE=500, TABLE=25%% or TABLE=500,25%%", text)
		}
		t := api.TableRule{Table: text[:at]}
		now.Tables = slices.DeleteFunc(now.Tables, func(other api.TableRule) bool { return other.Table == t.Table })
		if text[at+1:] == "" {
			continue
		}
		for part := range strings.SplitSeq(text[at+1:], ",") {
			percent, share := strings.CutSuffix(strings.TrimSpace(part), "%")
			if share {
				t.Share, err = strconv.ParseFloat(percent, 64)
				t.Share /= 100
			} else {
				t.Rows, err = strconv.ParseInt(percent, 10, 64)
			}
			if err != nil {
				return fmt.Errorf("--alert-table %q: %q is neither a number of rows nor a share such as 25%%", text, part)
			}
		}
		now.Tables = append(now.Tables, t)
	}
	for _, table := range r.again {
		kept := slices.DeleteFunc(slices.Clone(now.Normal), func(n api.Normal) bool {
			return n.Table == table || strings.HasSuffix(n.Table, "."+table)
		})
		if len(kept) == len(now.Normal) {
			return fmt.Errorf("--alert-again %s: nothing was declared normal for a table of this name", table)
		}
		now.Normal = kept
	}
	return nil
}

// manyIncidents is how many incidents a day are more than anybody looks at.
const manyIncidents = 20

// warnOfMany tells, as far as it can be known, that a rule marks more than anybody would look at.
func (a *app) warnOfMany(cmd *cobra.Command, c *client, path string, rule api.Rule) {
	var list api.Changes
	err := c.post(
		cmd.Context(),
		path+"/try",
		api.RuleTrial{Rule: rule, Since: time.Now().Add(-24 * time.Hour), Limit: manyIncidents},
		&list,
	)
	if err == nil && list.More {
		_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "Beware: this rule would have marked more than %d transactions of the last day.\n"+
			"Look at them with --try-since '1d ago', and raise its limits.\n", manyIncidents)
	}
}

// tryRule shows what a rule would have marked.
func (a *app) tryRule(cmd *cobra.Command, c *client, path string, rule api.Rule, since string) error {
	from, err := readTime(cmd, since)
	if err != nil {
		return err
	}
	var list api.Changes
	if err := c.post(cmd.Context(), path+"/try", api.RuleTrial{Rule: rule, Since: from.UTC(), Limit: 50}, &list); err != nil {
		return err
	}
	return a.show(cmd, list, func(w io.Writer) {
		drawRule(w, rule)
		_, _ = fmt.Fprintf(w, "\nNothing was changed. Since %s this rule would have marked:\n\n", when(from))
		if len(list.Transactions) == 0 {
			_, _ = fmt.Fprintln(w, "No transaction.")
			return
		}
		t := grid(w, "transaction>", "committed", "why")
		for _, x := range list.Transactions {
			t.AppendRow([]any{x.XID, when(x.Time), strings.Join(x.Incident, "; ")})
		}
		t.Render()
		if list.More {
			_, _ = fmt.Fprintf(w, "There are more: these are the newest %d.\n", len(list.Transactions))
		}
		_, _ = fmt.Fprintln(w, "Shares are of how many rows the tables have now.")
	})
}

func drawRule(w io.Writer, r api.Rule) {
	drops, alters, rows, share := "no incident", "no incident", "no limit", "no limit"
	if r.Drops {
		drops, alters = "an incident", "an incident where a column is dropped"
	}
	if r.Alters {
		alters = "an incident"
	}
	if r.Rows > 0 {
		rows = figures.Count(r.Rows) + " or more are an incident"
	}
	if r.Share > 0 {
		share = fmt.Sprintf("%g %% or more is an incident", 100*r.Share)
	}
	var own, normal []string
	for _, t := range r.Tables {
		limits := []string{}
		if t.Rows > 0 {
			limits = append(limits, figures.Of(int(t.Rows), "row"))
		}
		if t.Share > 0 {
			limits = append(limits, fmt.Sprintf("%g %%", 100*t.Share))
		}
		if len(limits) == 0 {
			limits = append(limits, "no limit")
		}
		own = append(own, t.Table+": "+strings.Join(limits, ", "))
	}
	for _, n := range r.Normal {
		text := n.Kind + " of " + n.Table
		if n.Role != "" {
			text += " by " + n.Role
		}
		normal = append(normal, text)
	}
	facts(w, "tables dropped or truncated", drops, "tables altered", alters, "rows deleted from a table", rows,
		"share of a table deleted or updated", share,
		"limits of single tables", strings.Join(own, "\n"), "normal, and no incident", strings.Join(normal, "\n"))
}
