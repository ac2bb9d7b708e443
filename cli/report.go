package cli

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"html"
	"io"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

// orders are by what a report of base backups can be sorted.
var orders = map[string]func(a, b api.BackupLine) int{
	"time":   func(a, b api.BackupLine) int { return a.StoppedAt.Compare(b.StoppedAt) },
	"read":   func(a, b api.BackupLine) int { return cmp.Compare(b.BytesRead, a.BytesRead) },
	"stored": func(a, b api.BackupLine) int { return cmp.Compare(b.BytesStored, a.BytesStored) },
	"took":   func(a, b api.BackupLine) int { return cmp.Compare(b.Seconds, a.Seconds) },
}

func (a *app) backupReport() *cobra.Command {
	var days int
	var order, asCSV, picture string
	cmd := &cobra.Command{
		Use: "report [CLUSTER]", Short: "Report what base backups read and stored, including those deleted since",
		Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.completeClusters,
		Example: "  velvet backup report ferries --days 90 --sort stored\n  velvet backup report --csv backups.csv --picture backups.svg",
		RunE: func(cmd *cobra.Command, args []string) error {
			by, ok := orders[order]
			if !ok {
				return fmt.Errorf("--sort %q: choose time, read, stored or took", order)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			cluster := ""
			if len(args) > 0 {
				cluster = args[0]
			}
			var list []api.BackupLine
			if err := c.get(cmd.Context(), fmt.Sprintf("/reports/backups?cluster=%s&days=%d", seg(cluster), days), &list); err != nil {
				return err
			}
			if picture != "" {
				if err := writeNew(picture, func(w io.Writer) error { return drawBars(w, list) }); err != nil {
					return err
				}
			}
			slices.SortStableFunc(list, by)
			if asCSV != "" {
				if err := writeNew(asCSV, func(w io.Writer) error { return writeCSV(w, list) }); err != nil {
					return err
				}
			}
			return a.show(cmd, list, func(w io.Writer) { drawReport(w, list) })
		},
	}
	cmd.Flags().IntVar(&days, "days", 31, "of the last so many days")
	cmd.Flags().StringVar(&order, "sort", "time", "time, read, stored or took")
	cmd.Flags().StringVar(&asCSV, "csv", "", "also write the table to this file, as CSV")
	cmd.Flags().StringVar(&picture, "picture", "", "also draw it into this file, as SVG")
	return cmd
}

// writeNew writes a file that is not there yet.
func writeNew(path string, write func(io.Writer) error) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	if err := write(f); err != nil {
		_ = f.Close()
		return err
	}
	return f.Close()
}

func drawReport(w io.Writer, list []api.BackupLine) {
	t := grid(w, "base", "cluster", "kind", "complete", "took>", "holds>", "read>", "stored>", "")
	var read, stored int64
	for _, b := range list {
		note := ""
		if b.Dropped {
			note = "deleted"
		}
		read, stored = read+b.BytesRead, stored+b.BytesStored
		t.AppendRow([]any{short(b.ID), b.Cluster, b.Kind, when(b.StoppedAt), lasted(b.Seconds), figures.Size(b.BytesHeld),
			figures.Size(b.BytesRead), figures.Size(b.BytesStored), note})
	}
	t.Render()
	_, _ = fmt.Fprintf(w, "\n%d base backups: %s read, %s stored\n", len(list), figures.Size(read), figures.Size(stored))
}

// writeCSV writes sizes in bytes and times in UTC, for other programs.
func writeCSV(w io.Writer, list []api.BackupLine) error {
	out := csv.NewWriter(w)
	rows := [][]string{{"backup", "cluster", "kind", "complete_at", "seconds", "bytes_held", "bytes_read", "bytes_stored", "let_go"}}
	for _, b := range list {
		rows = append(rows, []string{
			b.ID, b.Cluster, b.Kind, b.StoppedAt.UTC().Format(time.RFC3339), strconv.FormatFloat(b.Seconds, 'f', 3, 64),
			fmt.Sprint(b.BytesHeld), fmt.Sprint(b.BytesRead), fmt.Sprint(b.BytesStored), fmt.Sprint(b.Dropped),
		})
	}
	return out.WriteAll(rows)
}

// drawBars draws what each base backup read, and within it what it stored, over time.
func drawBars(w io.Writer, list []api.BackupLine) error {
	const width, height, left, base = 1200, 360, 90, 310
	most := int64(1)
	for _, b := range list {
		most = max(most, b.BytesRead, b.BytesStored)
	}
	p := &printer{w: w}
	p.f(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="13" fill="#261c2a">`+"\n",
		width, height)
	p.f(`<rect width="%d" height="%d" fill="#ffffff"/>`+"\n", width, height)
	p.f(`<text x="%d" y="24" font-size="15">Base backups: what each read (light) and stored (dark)</text>`+"\n", left)
	for i := range 5 {
		v := most * int64(i) / 4
		y := float64(base) - 250*float64(i)/4
		p.f(`<line x1="%d" x2="%d" y1="%.1f" y2="%.1f" stroke="#ded5d9"/><text x="%d" y="%.1f" text-anchor="end">%s</text>`+"\n", left,
			width-10, y, y, left-8, y+4, figures.Size(v))
	}
	step := float64(width-left-20) / float64(max(len(list), 1))
	every := max(1, len(list)/10)
	for i, b := range list {
		x := float64(left) + 5 + step*float64(i)
		bar := func(n int64, colour string) {
			h := 250 * float64(n) / float64(most)
			p.f(`<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" fill="%s"><title>%s %s: %s</title></rect>`+"\n", x, float64(base)-h,
				max(step*0.8, 1), h, colour, html.EscapeString(b.Cluster), b.ID, figures.Size(n))
		}
		bar(b.BytesRead, "#c9b3e6")
		bar(b.BytesStored, "#6b3fa8")
		if i%every == 0 {
			p.f(`<text x="%.1f" y="%d">%s</text>`+"\n", x, base+20, b.StoppedAt.Local().Format("01-02 15:04"))
		}
	}
	p.f("</svg>\n")
	return p.err
}

// printer prints until something goes wrong.
type printer struct {
	w   io.Writer
	err error
}

func (p *printer) f(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintf(p.w, format, args...)
	}
}
