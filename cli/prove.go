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
	c.AddCommand(a.proveRun(), a.proveShow())
	return c
}

func (a *app) proveRun() *cobra.Command {
	var detach bool
	cmd := &cobra.Command{
		Use: "run COPY", Short: "Check a copy's boundary, pages and tables (exit code 4 if the proof does not pass)",
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

// drawProof prints the verdict first, then what failed, could not run, passed.
func drawProof(w io.Writer, p api.Proof) {
	_, _ = fmt.Fprintf(w, "%s: copy %s at %s, checked %s\n\n", p.Verdict, p.Copy, p.Moment, when(p.FinishedAt))
	var tables []api.Table
	for _, verdict := range []proof.Verdict{proof.Failed, proof.CouldNotRun, proof.Passed} {
		for _, c := range p.Checks {
			if proof.Verdict(c.Verdict) == verdict {
				_, _ = fmt.Fprintf(w, "%-13s  %-21s  %s\n", c.Verdict, c.Name, c.Summary)
			}
			if proof.Verdict(c.Verdict) == verdict && len(c.Tables) > 0 {
				tables = c.Tables
			}
		}
	}
	if len(tables) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	t := grid(w, "database", "table", "rows in the copy>", "rows live>", "difference>")
	for _, row := range tables {
		live, diff := "not read", ""
		if row.Live != nil {
			live = figures.Count(*row.Live)
			if d := row.Copy - *row.Live; d != 0 {
				diff = fmt.Sprintf("%s%s", map[bool]string{true: "+", false: ""}[d > 0], figures.Count(d))
			}
		}
		rows := figures.Count(row.Copy)
		if row.Problem != "" {
			rows = row.Problem
		}
		t.AppendRow([]any{row.Database, row.Name, rows, live, diff})
	}
	t.Render()
}
