package cli

import (
	"encoding/json"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) rescueCompare() *cobra.Command {
	var in api.CompareRequest
	cmd := &cobra.Command{
		Use: "compare COPY", Short: "Hold tables of a copy against the live ones, row by row", Args: cobra.ExactArgs(1),
		Long: "Hold tables of a copy against the live ones, row by row. Both servers add up their rows by shares; only of shares that\n" +
			"differ are rows transferred. Nothing is changed.",
		Example: "  velvet rescue compare ferries-1 --database saltmarsh --table fare\n" +
			"  velvet rescue compare ferries-1 --database saltmarsh --schema crew --with ferries-18",
		ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/copies/"+seg(args[0])+"/comparisons", in, &t); err != nil {
				return err
			}
			if t, err = watch(cmd.Context(), c, t, cmd.ErrOrStderr()); err != nil {
				return err
			}
			encoded, err := json.Marshal(t.Outcome["tables"])
			if err != nil {
				return err
			}
			var list []api.Comparison
			if err := json.Unmarshal(encoded, &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) { drawComparison(w, list) })
		},
	}
	cmd.Flags().StringVar(&in.Database, "database", "", "the database (required)")
	_ = cmd.MarkFlagRequired("database")
	cmd.Flags().StringSliceVar(&in.Tables, "table", nil, "only this table; may be given several times")
	cmd.Flags().StringSliceVar(&in.Schemas, "schema", nil, "all tables of this schema; may be given several times")
	cmd.Flags().StringVar(&in.With, "with", "", "hold them against those of this registered cluster, perhaps of another version")
	_ = cmd.RegisterFlagCompletionFunc("with", a.completeClusters)
	cmd.Flags().StringVar(&in.Where, "where", "", "condition in SQL that rows have to meet on both sides")
	cmd.Flags().IntVar(&in.Shown, "shown", 20, "how many rows that differ are shown of each table; all are counted")
	return cmd
}

func drawComparison(w io.Writer, list []api.Comparison) {
	t := grid(w, "table", "paired by", "copy>", "live>", "missing>", "changed>", "added>")
	for _, c := range list {
		by := c.Key
		if by == "" {
			by = "whole rows"
		}
		t.AppendRow([]any{c.Table, by, figures.Count(c.Copy), figures.Count(c.Live), figures.Count(c.Missing), figures.Count(c.Changed),
			figures.Count(c.Added)})
	}
	t.Render()
	for _, c := range list {
		for _, note := range c.Notes {
			_, _ = fmt.Fprintf(w, "\n%s: %s\n", c.Table, note)
		}
		for i, d := range c.Sample {
			if i == 0 {
				_, _ = fmt.Fprintf(w, "\nof %s:\n", c.Table)
			}
			by := ""
			if d.By != 0 {
				by = fmt.Sprintf("   by tx %d", d.By)
			}
			switch d.How {
			case "changed":
				_, _ = fmt.Fprintf(w, "  changed  %s\n       to  %s%s\n", d.Copy, d.Live, by)
			case "missing":
				_, _ = fmt.Fprintf(w, "  missing  %s%s\n", d.Copy, by)
			default:
				_, _ = fmt.Fprintf(w, "  added    %s%s\n", d.Live, by)
			}
		}
		drawWriters(w, c)
	}
}

// drawWriters lists what has written a table since the copy.
func drawWriters(w io.Writer, c api.Comparison) {
	if len(c.Since) == 0 {
		return
	}
	_, _ = fmt.Fprintf(w, "\n%s was written since the copy by:\n", c.Table)
	t := grid(w, "tx>", "committed", "inserted>", "updated>", "deleted>", "")
	for _, one := range c.Since {
		t.AppendRow([]any{one.XID, when(one.CommittedAt), figures.Count(one.Inserted), figures.Count(one.Updated),
			figures.Count(one.Deleted), map[bool]string{true: "truncated or dropped"}[one.Truncated]})
	}
	t.Render()
	if c.More {
		_, _ = fmt.Fprintln(w, "and by others before these")
	}
}
