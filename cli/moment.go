package cli

import (
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/moment"
	"velvetrewind/core/problem"
)

// caller is who writes times on this terminal.
func caller() moment.Caller { return moment.Caller{Now: time.Now(), Zone: time.Local} }

// readMoment reads a moment in this terminal's zone and gives its canonical form. Of
// one that cannot be read it draws where it goes wrong.
func readMoment(cmd *cobra.Command, text string) (string, error) {
	m, err := moment.Parse(text, caller())
	if err != nil {
		return "", badMoment(cmd, err)
	}
	return m.String(), nil
}

// readTime reads a time in this terminal's zone; "" is the zero time.
func readTime(cmd *cobra.Command, text string) (t time.Time, err error) {
	if text == "" {
		return t, nil
	}
	if t, err = moment.ParseTime(text, caller()); err != nil {
		return t, badMoment(cmd, err)
	}
	return t, nil
}

func badMoment(cmd *cobra.Command, err error) error {
	var syntax *moment.SyntaxError
	if !errors.As(err, &syntax) {
		return err
	}
	_, _ = fmt.Fprintln(cmd.ErrOrStderr(), syntax.Pointer())
	return &api.Problem{Type: api.ProblemType + string(problem.Invalid), Title: "the moment cannot be read", Detail: syntax.Error(),
		Next: "Write one of: " + moment.Forms}
}

func (a *app) moment() *cobra.Command {
	var cluster string
	var around int
	cmd := &cobra.Command{
		Use: "moment MOMENT", Short: "Resolve a moment and explain what lies on both sides of it, changing nothing",
		Long: "Resolve a moment: the last transaction in, the first one out, what the transactions around it did,\n" +
			"and what going back there would undo. Nothing is changed." + momentHelp,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var m api.Moment
			if _, err := a.askMoment(cmd, "/clusters/"+seg(cluster)+"/moment", args[0],
				func(moment string) any { return api.MomentRequest{Moment: moment, Around: around} }, &m); err != nil {
				return err
			}
			return a.show(cmd, m, func(w io.Writer) { drawMoment(w, m) })
		},
	}
	a.clusterFlag(cmd, &cluster)
	cmd.Flags().IntVar(&around, "around", 4, "how many transactions to show on each side")
	return cmd
}

// askMoment posts a moment, with what else the path wants, and decodes the answer.
func (a *app) askMoment(cmd *cobra.Command, path, text string, in func(moment string) any, out any) (*client, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	moment, err := readMoment(cmd, text)
	if err != nil {
		return nil, err
	}
	return c, c.post(cmd.Context(), path, in(moment), out)
}

// clusterFlag adds the flag by which a command names its cluster.
func (a *app) clusterFlag(cmd *cobra.Command, to *string) {
	cmd.Flags().StringVar(to, "cluster", "", "the cluster (required)")
	_ = cmd.MarkFlagRequired("cluster")
	_ = cmd.RegisterFlagCompletionFunc("cluster", func(cmd *cobra.Command, _ []string, text string) ([]string, cobra.ShellCompDirective) {
		return a.completeClusters(cmd, nil, text)
	})
}

func drawMoment(w io.Writer, m api.Moment) {
	said := m.Moment
	if m.UTC != nil {
		said += fmt.Sprintf("  (%s UTC)", m.UTC.Format("2006-01-02 15:04:05.999999"))
	}
	pairs := []string{"moment", said}
	if m.Note != "" {
		pairs = append(pairs, "note", m.Note)
	}
	restore := "not possible: " + m.Why + "\n" + m.Next
	if m.Plan != nil {
		restore = fmt.Sprintf("from base %s, replaying %s of WAL from %d segments", m.Plan.Base, figures.Size(m.Plan.Replay), m.Plan.Count)
	}
	facts(w, append(append(pairs, boundaryFacts(m.Boundary)...), "restore", restore)...)
	drawAround(w, m)
	drawCost(w, m.Cost)
}

// drawAround lists the transactions on both sides: kept above the line, undone below.
func drawAround(w io.Writer, m api.Moment) {
	_, _ = fmt.Fprintln(w)
	t := grid(w, "", "transaction>", "committed", "what it did")
	for i, x := range m.Around {
		if i == m.Kept {
			t.AppendRow([]any{"──────", "", "", ""})
		}
		side := "kept"
		if i >= m.Kept {
			side = "undone"
		}
		t.AppendRow([]any{side, x.XID, when(x.Time), whatItDid(x)})
	}
	t.Render()
}

func drawCost(w io.Writer, c api.Cost) {
	if c.Transactions == 0 {
		_, _ = fmt.Fprintln(w, "\nNothing that is known was committed later: going back here undoes nothing.")
		return
	}
	_, _ = fmt.Fprintf(w, "\nGoing back here undoes %s", figures.Of(int(c.Transactions), "transaction"))
	if len(c.Tables) == 0 {
		_, _ = fmt.Fprintln(w, ", none of which changed a table.")
		return
	}
	_, _ = fmt.Fprint(w, ":\n\n")
	t := grid(w, "table", "inserted>", "updated>", "deleted>", "")
	for _, x := range c.Tables {
		t.AppendRow([]any{x.Table, figures.Count(x.Inserted), figures.Count(x.Updated), figures.Count(x.Deleted), operations(x)})
	}
	t.Render()
}
