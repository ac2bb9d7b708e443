package cli

import (
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
)

func (a *app) changesRows() *cobra.Command {
	var table string
	var limit int
	cmd := &cobra.Command{
		Use: "rows CLUSTER TRANSACTION --table TABLE", Short: "Show the rows that a transaction changed",
		Long: "Show the rows that a transaction changed in a table, what they were and what they became, as far as the\n" +
			"WAL holds them: new rows always, old ones where their page was written whole not long before. Of the\n" +
			"others it tells where they lay, and how to see them in a copy.",
		Args: cobra.ExactArgs(2), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, err := strconv.ParseUint(args[1], 10, 64); err != nil {
				return fmt.Errorf("%q is not a transaction id; that is a decimal number, for example 84213", args[1])
			}
			if limit < 1 || limit > 1000 {
				return fmt.Errorf("--limit %d: choose 1 to 1000", limit)
			}
			q := url.Values{"table": {table}, "limit": {strconv.Itoa(limit)}}
			var v api.Rows
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/changes/"+seg(args[1])+"/rows?"+q.Encode(), &v); err != nil {
				return err
			}
			return a.show(cmd, v, func(w io.Writer) { drawRows(w, args[0], v) })
		},
	}
	cmd.Flags().StringVar(&table, "table", "", "the table: [[database.]schema.]table")
	cmd.Flags().IntVar(&limit, "limit", 20, "how many at most")
	_ = cmd.MarkFlagRequired("table")
	return cmd
}

const (
	mostColumns  = 8  // of a table that is drawn as one
	longestValue = 48 // in it
)

func drawRows(w io.Writer, cluster string, v api.Rows) {
	if len(v.Rows) == 0 {
		_, _ = fmt.Fprintln(w, "No row of it is in the WAL.")
	}
	for i := 0; i < len(v.Rows); {
		n := i + 1
		for n < len(v.Rows) && columnsOf(v.Rows[n]) == columnsOf(v.Rows[i]) && v.Rows[n].Table == v.Rows[i].Table {
			n++
		}
		if i > 0 {
			_, _ = fmt.Fprintln(w)
		}
		if strings.Count(columnsOf(v.Rows[i]), "\n") <= mostColumns {
			drawRowsAsTable(w, v.Rows[i:n])
		} else {
			drawRowsAsLists(w, v.Rows[i:n])
		}
		i = n
	}
	if v.More {
		_, _ = fmt.Fprintln(w, "There are more: ask for more with --limit, or look at a copy.")
	}
	for i, l := range v.Look {
		if i == 0 {
			_, _ = fmt.Fprintln(w, "\nThe rest can be seen in a copy:")
		}
		if i == 0 || l.Moment != v.Look[i-1].Moment {
			_, _ = fmt.Fprintf(w, "  velvet restore start %s \"%s\"\n", cluster, l.Moment)
		}
		_, _ = fmt.Fprintf(w, "    %s;\n", l.Query)
	}
}

// columnsOf names the columns that are known of a row, one to a line.
func columnsOf(r api.Row) string {
	cells := r.Before
	if cells == nil {
		cells = r.After
	}
	var s strings.Builder
	for _, c := range cells {
		s.WriteString(c.Column + "\n")
	}
	return s.String()
}

// drawRowsAsTable draws rows of the same columns.
func drawRowsAsTable(w io.Writer, list []api.Row) {
	heads := []string{"", "place"}
	for name := range strings.Lines(columnsOf(list[0])) {
		heads = append(heads, cut(strings.TrimSuffix(name, "\n"), longestValue))
	}
	why := false
	for _, r := range list {
		why = why || r.Why != ""
	}
	if why {
		heads = append(heads, "not known")
	}
	_, _ = fmt.Fprintln(w, list[0].Table)
	t := grid(w, heads...)
	for _, r := range list {
		row := []any{r.Operation, r.Place}
		for _, text := range values(r) {
			row = append(row, cut(text, longestValue))
		}
		for len(row) < len(heads)-1 || len(row) < len(heads) && !why {
			row = append(row, "")
		}
		if why {
			row = append(row, r.Why)
		}
		t.AppendRow(row)
	}
	t.Render()
}

// drawRowsAsLists draws rows of many columns, one column to a line.
func drawRowsAsLists(w io.Writer, list []api.Row) {
	for i, r := range list {
		if i > 0 {
			_, _ = fmt.Fprintln(w)
		}
		_, _ = fmt.Fprintf(w, "%s %s of %s\n", r.Operation, r.Place, r.Table)
		var pairs []string
		names := strings.Split(columnsOf(r), "\n")
		for i, text := range values(r) {
			pairs = append(pairs, "  "+names[i], cut(text, 2*longestValue))
		}
		facts(w, append(pairs, "  not known", r.Why)...)
	}
}

// values writes a row, of one that was changed what it became where that differs.
func values(r api.Row) []string {
	cells := r.Before
	if cells == nil {
		cells = r.After
	}
	list := make([]string, len(cells))
	for i, c := range cells {
		list[i] = valueText(c)
		if r.Before != nil && i < len(r.After) && valueText(r.After[i]) != list[i] {
			list[i] += " → " + valueText(r.After[i])
		}
	}
	return list
}

func valueText(c api.Cell) string {
	switch {
	case c.Value != nil:
		return *c.Value
	case c.Why != "":
		return "? " + c.Why
	}
	return "NULL"
}

// cut shortens a text to so many characters, on one line.
func cut(s string, most int) string {
	s = strings.ReplaceAll(s, "\n", "·")
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return s
}
