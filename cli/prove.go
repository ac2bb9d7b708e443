package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/proof"
)

func (a *app) prove() *cobra.Command {
	c := &cobra.Command{Use: "prove", Short: "Prove that a copy is right"}
	c.AddCommand(a.proveRun(), a.proveShow(), a.proveReport(), a.proveChecks())
	return c
}

func (a *app) proveRun() *cobra.Command {
	var detach bool
	cmd := &cobra.Command{
		Use: "run COPY", Short: "Check a copy's boundary, bytes, structure and content (exit code 4 if the proof does not pass)",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/copies/"+seg(args[0])+"/proofs", nil, &t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, detach); err != nil || detach {
				return err
			}
			id, _ := t.Outcome["proof"].(string)
			return a.showProof(cmd, c, id)
		},
	}
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

func (a *app) proveShow() *cobra.Command {
	return &cobra.Command{
		Use: "show PROOF|COPY", Short: "Show a proof, or the newest one of a copy", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.showProof(cmd, c, args[0])
		},
	}
}

func (a *app) proveReport() *cobra.Command {
	var format, to string
	cmd := &cobra.Command{
		Use: "report PROOF|COPY", Short: "Write a proof down as one HTML page, JSON, CSV or JUnit XML", Args: cobra.ExactArgs(1),
		Example: `  velvet prove report ferries-3 --to ferries.html
  velvet prove report ferries-3 --format junit --to proof.xml`,
		ValidArgsFunction: a.completeCopies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.saveReport(cmd, c, "/proofs/"+seg(args[0])+"/report?format="+seg(format), to)
		},
	}
	cmd.Flags().StringVar(&format, "format", "html", "html, json, csv or junit")
	cmd.Flags().StringVar(&to, "to", "", "file to write; left out, one is named after the cluster and the proof")
	return cmd
}

// saveReport asks for a report and writes it to a file, or to one named after it.
func (a *app) saveReport(cmd *cobra.Command, c *client, path, to string) error {
	var r api.Report
	if err := c.get(cmd.Context(), path, &r); err != nil {
		return err
	}
	if to == "" {
		to = r.Name
	}
	err := writeNew(to, func(w io.Writer) error {
		_, err := io.WriteString(w, r.Content)
		return err
	})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s written, SHA-256 %s\n", to, r.SHA256)
	return err
}

func (a *app) showProof(cmd *cobra.Command, c *client, id string) error {
	var p api.Proof
	if err := c.get(cmd.Context(), "/proofs/"+seg(id), &p); err != nil {
		return err
	}
	if err := a.show(cmd, p, func(w io.Writer) { drawProof(w, p) }); err != nil {
		return err
	}
	if p.Verdict != string(proof.Passed) {
		return errProofFailed
	}
	return nil
}

// drawProof prints the verdict first, then what failed, could not run, passed, and the tables that differ.
func drawProof(w io.Writer, p api.Proof) {
	_, _ = fmt.Fprintf(w, "%s: copy %s at %s, checked %s\n\n", p.Verdict, p.Copy, p.Moment, when(p.FinishedAt))
	var tables []api.Table
	for _, verdict := range proof.Verdicts {
		for _, c := range p.Checks {
			if proof.Verdict(c.Verdict) != verdict {
				continue
			}
			_, _ = fmt.Fprintf(w, "%-13s  %-21s  %s\n", c.Verdict, c.Name, c.Summary)
			drawFindings(w, c)
			tables = append(tables, c.Tables...)
		}
	}
	if p.ReportHash != "" {
		_, _ = fmt.Fprintf(w, "\nReport: velvet prove report %s, SHA-256 %s\n", short(p.ID), p.ReportHash)
	}
	if len(tables) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	t := grid(w, "database", "table", "rows in the copy>", "rows live>", "why they differ")
	for _, row := range tables {
		live := "not read"
		if row.Live != nil {
			live = figures.Count(*row.Live)
		}
		rows := figures.Count(row.Copy)
		if row.Problem != "" {
			rows, live = "not read", ""
		}
		t.AppendRow([]any{row.Database, row.Name, rows, live, row.Cause + row.Problem})
	}
	t.Render()
}

// drawFindings prints what is below a check's sentence, which has the first of it already.
func drawFindings(w io.Writer, c api.Check) {
	const margin = "                                        "
	for _, list := range [][]api.Finding{c.Wrong, c.LeftOut} {
		for _, f := range list[min(len(list), 1):] {
			_, _ = fmt.Fprintf(w, "%s%s: %s\n", margin, f.Where, f.What)
		}
	}
	if proof.Verdict(c.Verdict) == proof.Passed {
		return
	}
	for _, n := range c.Notes {
		_, _ = fmt.Fprintf(w, "%s%s\n", margin, n)
	}
	if c.Next != "" {
		_, _ = fmt.Fprintf(w, "%sDo: %s\n", margin, c.Next)
	}
}
