package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
)

// show prints v as JSON, or has draw print it for people.
func (a *app) show(cmd *cobra.Command, v any, draw func(io.Writer)) error {
	if a.output == "json" {
		e := json.NewEncoder(cmd.OutOrStdout())
		e.SetIndent("", "  ")
		return e.Encode(v)
	}
	draw(harmless{cmd.OutOrStdout()})
	return nil
}

// harmless keeps what others have named from steering the terminal: owners of databases choose the names of tables and
// columns, and clients those of applications.
type harmless struct{ to io.Writer }

func (h harmless) Write(p []byte) (int, error) {
	_, err := io.WriteString(h.to, strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' {
			return '·'
		}
		return r
	}, string(p)))
	return len(p), err
}

// grid begins a table. A column whose title ends in ">" is right-aligned.
func grid(w io.Writer, titles ...string) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleDefault
	style.Box = table.BoxStyle{PaddingRight: "  ", MiddleHorizontal: "-", MiddleVertical: ""}
	style.Options = table.Options{}
	style.Format = table.FormatOptions{Header: text.FormatDefault}
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	row := make(table.Row, len(titles))
	var columns []table.ColumnConfig
	for i, title := range titles {
		name, right := strings.CutSuffix(title, ">")
		row[i] = name
		if right {
			columns = append(columns, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
		}
	}
	t.AppendHeader(row)
	t.SetColumnConfigs(columns)
	return t
}

// facts prints names and values one below the other; pairs without a value are left out.
func facts(w io.Writer, pairs ...string) {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, len(pairs[i]))
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			_, _ = fmt.Fprintf(w, "%-*s  %s\n", width, pairs[i], strings.ReplaceAll(pairs[i+1], "\n", "\n"+strings.Repeat(" ", width+2)))
		}
	}
}

// short is the end of an id, which is random and tells it from the others: commands take it.
func short(id string) string { return id[max(0, len(id)-8):] }

// when prints a time in the user's zone, with its offset.
func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05.000 -07:00") }

func whenOr(t *time.Time, otherwise string) string {
	if t == nil {
		return otherwise
	}
	return when(*t)
}

func indent(s string) string {
	return strings.ReplaceAll(strings.TrimRight(s, "\n"), "\n", "\n        ")
}
