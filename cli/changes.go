package cli

import (
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/journal"
)

func (a *app) changes() *cobra.Command {
	c := &cobra.Command{Use: "changes", Short: "The change journal: which transaction changed what",
		Long: "The change journal is read from the captured WAL: every transaction, what it did to which table,\nhow many rows, and " +
			"when it committed."}
	c.AddCommand(a.changesList(), a.changesShow(), a.changesBiggest(), a.changesRows(), a.changesExport(), a.changesSettle())
	return c
}

// wanted are the flags that say which transactions are meant.
type wanted struct {
	table, database, kind string
	by                    string
	minRows               int64
	since, until          string
	tx                    uint64
	rolledBack, catalogs  bool
	empty                 bool
}

func (f *wanted) flags(cmd *cobra.Command) {
	s := cmd.Flags()
	s.StringVar(&f.table, "table", "", "only of this table: [[database.]schema.]table")
	s.StringVar(&f.database, "database", "", "only of this database")
	s.StringVar(&f.kind, "kind", "", "only of this kind: "+strings.Join(journal.OperationNames(), ", "))
	s.StringVar(&f.by, "by", "", "only of authors whose role, application or address holds this")
	s.Int64Var(&f.minRows, "min-rows", 0, "only those that changed at least so many rows")
	s.StringVar(&f.since, "since", "", "committed at this time or later: 14:05, 12m ago, 2026-11-23 14:05")
	s.StringVar(&f.until, "until", "", "committed at this time or earlier")
	s.Uint64Var(&f.tx, "tx", 0, "only this transaction id")
	s.BoolVar(&f.rolledBack, "rolled-back", false, "those that were rolled back instead")
	s.BoolVar(&f.catalogs, "catalogs", false, "count changes of the server's own catalogs too")
	s.BoolVar(&f.empty, "empty", false, "those that changed no table too")
	_ = cmd.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions(journal.OperationNames(), cobra.ShellCompDirectiveNoFileComp))
}

// query gives the parameters of the API.
func (f *wanted) query(cmd *cobra.Command) (url.Values, error) {
	q := url.Values{}
	for name, value := range map[string]string{"table": f.table, "database": f.database, "kind": strings.ToLower(f.kind),
		"by": f.by} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if _, ok := journal.ParseOperation(f.kind); f.kind != "" && !ok {
		return nil, fmt.Errorf("--kind %q: choose one of %s", f.kind, strings.Join(journal.OperationNames(), ", "))
	}
	if f.minRows > 0 {
		q.Set("minRows", strconv.FormatInt(f.minRows, 10))
	}
	for name, text := range map[string]string{"from": f.since, "to": f.until} {
		t, err := readTime(cmd, text)
		if err != nil {
			return nil, err
		}
		if !t.IsZero() {
			q.Set(name, t.UTC().Format(time.RFC3339Nano))
		}
	}
	for name, set := range map[string]bool{"rolledBack": f.rolledBack, "catalogs": f.catalogs, "empty": f.empty} {
		if set {
			q.Set(name, "true")
		}
	}
	return q, nil
}

func (a *app) changesList() *cobra.Command {
	var f wanted
	var limit int
	var incidents bool
	cmd := &cobra.Command{
		Use: "list CLUSTER", Short: "List transactions, newest first", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if incidents {
				return a.listIncidents(cmd, c, args[0])
			}
			if f.tx != 0 {
				return a.showChange(cmd, c, args[0], strconv.FormatUint(f.tx, 10))
			}
			q, err := f.query(cmd)
			if err != nil {
				return err
			}
			q.Set("limit", strconv.Itoa(limit))
			return a.listChanges(cmd, c, args[0], q, "")
		},
	}
	f.flags(cmd)
	cmd.Flags().IntVar(&limit, "limit", 20, "how many at most")
	cmd.Flags().BoolVar(&incidents, "incidents", false, "those that the cluster's rule marks, with the reason")
	return cmd
}

func (a *app) changesBiggest() *cobra.Command {
	var f wanted
	var limit int
	cmd := &cobra.Command{
		Use: "biggest CLUSTER", Short: "List the transactions that changed most rows, the largest first", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			q, err := f.query(cmd)
			if err != nil {
				return err
			}
			q.Set("limit", strconv.Itoa(limit))
			q.Set("order", "biggest")
			return a.listChanges(cmd, c, args[0], q, f.kind)
		},
	}
	f.flags(cmd)
	cmd.Flags().IntVar(&limit, "limit", 10, "how many at most")
	return cmd
}

func (a *app) listChanges(cmd *cobra.Command, c *client, cluster string, q url.Values, kind string) error {
	var list api.Changes
	if err := c.get(cmd.Context(), "/clusters/"+seg(cluster)+"/changes?"+q.Encode(), &list); err != nil {
		return err
	}
	return a.show(cmd, list, func(w io.Writer) {
		drawChanges(w, list)
		if kind != "" && len(list.Transactions) > 0 {
			_, _ = fmt.Fprintf(w, "\nWhat lies around the first, and what going back before it costs:\n  velvet moment \"before tx %d\" "+
				"--cluster %s\n", list.Transactions[0].XID, cluster)
		}
	})
}

func drawChanges(w io.Writer, list api.Changes) {
	if len(list.Transactions) == 0 {
		_, _ = fmt.Fprintln(w, "No transaction in the captured WAL matches.")
		return
	}
	heads := []string{"transaction>", "committed", "database", "what it did"}
	seen := slices.ContainsFunc(list.Transactions, func(x api.Transaction) bool { return x.Author != nil })
	if seen {
		heads = append(heads, "by")
	}
	t := grid(w, heads...)
	for _, x := range list.Transactions {
		row := []any{x.XID, when(x.Time), x.Database, whatItDid(x)}
		if seen {
			row = append(row, author(x.Author))
		}
		t.AppendRow(row)
	}
	t.Render()
	if list.More {
		_, _ = fmt.Fprintln(w, "There are more: ask for more with --limit, or narrow them down.")
	}
}

// author names in a few words who was seen with a transaction's id.
func author(a *api.Author) string {
	if a == nil {
		return ""
	}
	return journal.Author{Role: a.Role, Application: a.Application, Address: a.Address}.String()
}

// whatItDid says in short what a transaction did.
func whatItDid(x api.Transaction) string {
	var parts []string
	for _, t := range x.Tables {
		for _, n := range []struct {
			sign string
			rows int64
		}{{"+", t.Inserted}, {"~", t.Updated}, {"-", t.Deleted}} {
			if n.rows != 0 {
				parts = append(parts, n.sign+figures.Count(n.rows)+" "+t.Table)
			}
		}
		for _, d := range t.Operations {
			parts = append(parts, d+" "+t.Table)
		}
	}
	if x.DroppedDatabases > 0 {
		parts = append(parts, "drop a database")
	}
	if x.NewDatabases > 0 {
		parts = append(parts, "create a database")
	}
	for _, o := range x.DroppedObjects {
		parts = append(parts, "drop "+o)
	}
	if len(parts) == 0 {
		parts = append(parts, "no rows of users' tables")
	}
	const most = 6
	if len(parts) > most {
		parts = append(parts[:most], fmt.Sprintf("and %d more", len(parts)-most))
	}
	s := strings.Join(parts, ", ")
	if !x.Committed {
		s += "  (rolled back)"
	}
	if x.Partial {
		s += "  (at least)"
	}
	if len(x.Incident) > 0 {
		s += "  ! incident"
	}
	return s
}

func operations(t api.TableChange) string { return strings.Join(t.Operations, ", ") }

func (a *app) changesShow() *cobra.Command {
	return &cobra.Command{
		Use: "show CLUSTER TRANSACTION", Short: "Show everything that a transaction did", Args: cobra.ExactArgs(2),
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if _, err := strconv.ParseUint(args[1], 10, 64); err != nil {
				return fmt.Errorf("%q is not a transaction id; that is a decimal number, for example 84213", args[1])
			}
			return a.showChange(cmd, c, args[0], args[1])
		},
	}
}

func (a *app) showChange(cmd *cobra.Command, c *client, cluster, xid string) error {
	var list api.Changes
	if err := c.get(cmd.Context(), "/clusters/"+seg(cluster)+"/changes/"+seg(xid), &list); err != nil {
		return err
	}
	return a.show(cmd, list, func(w io.Writer) {
		for i, x := range list.Transactions {
			if i > 0 {
				_, _ = fmt.Fprintln(w)
			}
			drawTransaction(w, x)
		}
	})
}

func drawTransaction(w io.Writer, x api.Transaction) {
	end := "committed"
	if !x.Committed {
		end = "rolled back"
	}
	begun := x.First.String()
	if x.Partial {
		begun += ", or earlier: it may have begun before the captured WAL, and did at least this"
	}
	subs := ""
	if x.Subtransactions > 0 {
		subs = figures.Count(int64(x.Subtransactions))
	}
	by, statement := "not seen: it was shorter than a look, or nobody looked then", ""
	if x.Author != nil {
		by, statement = author(x.Author), x.Author.Statement
	}
	facts(w, "transaction", fmt.Sprint(uint64(x.XID)), end, when(x.Time), "by", by, "statement seen last", statement,
		"database", x.Database, "first record", begun, "last record", x.LSN.String(), "altered", strings.Join(x.Alterations, "\n"),
		"dropped", strings.Join(x.DroppedObjects, "\n"),
		"two-phase", x.GID, "sub-transactions", subs, "WAL", figures.Size(x.Bytes), "incident", strings.Join(x.Incident, "\n"))
	if len(x.Tables) == 0 {
		_, _ = fmt.Fprintln(w, "It changed no table.")
		return
	}
	_, _ = fmt.Fprintln(w)
	t := grid(w, "table", "inserted>", "updated>", "deleted>", "")
	for _, c := range x.Tables {
		t.AppendRow([]any{c.Table, figures.Count(c.Inserted), figures.Count(c.Updated), figures.Count(c.Deleted), operations(c)})
	}
	t.Render()
}

func (a *app) listIncidents(cmd *cobra.Command, c *client, cluster string) error {
	var list []api.Incident
	if err := c.get(cmd.Context(), "/incidents?cluster="+url.QueryEscape(cluster), &list); err != nil {
		return err
	}
	return a.show(cmd, list, func(w io.Writer) { drawIncidents(w, list) })
}

func drawIncidents(w io.Writer, list []api.Incident) {
	if len(list) == 0 {
		_, _ = fmt.Fprintln(w, "No incidents.")
		return
	}
	t := grid(w, "transaction>", "committed", "why", "by", "settled")
	for _, i := range list {
		t.AppendRow([]any{i.XID, when(i.Time), strings.Join(i.Reasons, "; "), i.Author, whenOr(i.Settled, "no")})
	}
	t.Render()
}

func (a *app) changesSettle() *cobra.Command {
	var like bool
	cmd := &cobra.Command{
		Use: "settle CLUSTER TRANSACTION", Short: "Note that an incident was looked at", Args: cobra.ExactArgs(2),
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.post(cmd.Context(), "/clusters/"+seg(args[0])+"/incidents/"+seg(args[1])+"/settle",
				api.Settlement{Like: like}, nil); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "The incident of transaction %s is settled.\n", args[1])
			if like && err == nil {
				_, err = fmt.Fprintf(
					cmd.OutOrStdout(),
					"The same is normal from now on; see what is with: velvet cluster edit %s\n",
					args[0],
				)
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&like, "like", false, "and declare the same normal for these tables: no incident from now on")
	return cmd
}
