package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"velvetrewind/engine/readiness"
	"velvetrewind/service/wire"
)

func (a *app) cluster() *cobra.Command {
	c := &cobra.Command{Use: "cluster", Short: "The clusters that are protected"}
	c.AddCommand(a.clusterAdd(), a.clusterList(), a.clusterShow(), a.clusterReady(), a.clusterEdit(), a.clusterRemove())
	return c
}

func (a *app) clusterAdd() *cobra.Command {
	var conn, passwordFile string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Register a cluster, after testing it", Args: cobra.ExactArgs(1),
		Example: "  velvet cluster add ferries --connect 'host=db1 user=velvet dbname=postgres' --password-file secret",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			password, err := readPassword(cmd, passwordFile)
			if err != nil {
				return err
			}
			var added wire.AddedCluster
			in := map[string]string{"name": args[0], "connString": conn, "password": password}
			if err := c.post(cmd.Context(), "/clusters", in, &added); err != nil {
				return err
			}
			return a.show(cmd, added, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s is registered, and its capture begins.\n\n", added.Cluster.Name)
				drawReadiness(w, added.Readiness)
				_, _ = fmt.Fprintf(w, "\nNext: velvet backup take %s\n", added.Cluster.Name)
			})
		},
	}
	cmd.Flags().StringVar(&conn, "connect", "", "connection string, without the password (required)")
	cmd.Flags().StringVar(&passwordFile, "password-file", "", "file with the password; - reads it from the input. Without it you are asked on a terminal")
	_ = cmd.MarkFlagRequired("connect")
	return cmd
}

// readPassword takes the password from a file or asks for it, never from the
// command line, where others could see it.
func readPassword(cmd *cobra.Command, file string) (string, error) {
	switch {
	case file == "-":
		line, err := bufio.NewReader(cmd.InOrStdin()).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		return strings.TrimRight(line, "\r\n"), nil
	case file != "":
		content, err := os.ReadFile(file)
		return strings.TrimRight(string(content), "\r\n"), err
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return "", nil
	}
	_, _ = fmt.Fprint(cmd.ErrOrStderr(), "Password (empty for none): ")
	secret, err := term.ReadPassword(int(in.Fd()))
	_, _ = fmt.Fprintln(cmd.ErrOrStderr())
	return string(secret), err
}

func drawReadiness(w io.Writer, r readiness.Report) {
	f := r.Facts
	facts(w,
		"server", "PostgreSQL "+f.VersionText,
		"system identifier", fmt.Sprint(f.SystemID),
		"timeline", fmt.Sprint(f.Timeline),
		"role", fmt.Sprintf("%s, replication right: %s", f.Role, yes(f.Replication)),
		"wal_level", f.WALLevel,
		"free", fmt.Sprintf("%d WAL senders, %d replication slots", f.FreeSenders, f.FreeSlots),
		"data checksums", map[bool]string{true: "on", false: "off"}[f.Checksums])
	if len(r.Findings) == 0 {
		_, _ = fmt.Fprintln(w, "\nNothing is missing.")
		return
	}
	for _, find := range r.Findings {
		mark := "advice"
		if find.Blocks {
			mark = "needed"
		}
		_, _ = fmt.Fprintf(w, "\n%s: %s\n", mark, find.What)
		for _, q := range find.SQL {
			_, _ = fmt.Fprintf(w, "    %s\n", q)
		}
		if find.Restart {
			_, _ = fmt.Fprintln(w, "    -- then restart the server")
		}
	}
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) clusterList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the clusters", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []wire.Cluster
			if err := c.get(cmd.Context(), "/clusters", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintln(w, "No cluster is protected yet. Register one with: velvet cluster add NAME --connect …")
					return
				}
				for _, k := range list {
					warnIncidents(w, k)
				}
				t := grid(w, "cluster", "capture", "lag>", "reach from", "reach to", "last base", "last proof")
				for _, k := range list {
					from, to := reachEnds(k)
					t.AppendRow([]any{k.Name, k.Capture.State, size(k.Capture.LagBytes), from, to, lastBase(k), lastProof(k)})
				}
				t.Render()
			})
		},
	}
}

// warnIncidents says what needs a person to look.
func warnIncidents(w io.Writer, k wire.Cluster) {
	for _, i := range k.Incidents {
		_, _ = fmt.Fprintf(w, "! %s, %s, tx %d: %s\n", k.Name, when(i.Time), i.XID, strings.Join(i.Reasons, "; "))
	}
	if n := len(k.Incidents); n > 0 {
		_, _ = fmt.Fprintf(w, "  See: velvet moment \"before tx %d\" --cluster %s; it was meant: velvet changes settle %s %d\n\n", k.Incidents[0].XID, k.Name, k.Name, k.Incidents[0].XID)
	}
}

// reachEnds gives the earliest and the latest reachable time.
func reachEnds(k wire.Cluster) (from, to string) {
	if len(k.Reach) == 0 {
		return "nothing yet", ""
	}
	return when(k.Reach[0].FromTime), when(k.Reach[len(k.Reach)-1].ToTime)
}

func lastBase(k wire.Cluster) string {
	if k.LastBackup == nil {
		return "none"
	}
	return when(k.LastBackup.StoppedAt)
}

func lastProof(k wire.Cluster) string {
	if k.LastProof == nil {
		return "none"
	}
	return k.LastProof.Verdict + ", " + when(k.LastProof.FinishedAt)
}

func (a *app) clusterShow() *cobra.Command {
	return &cobra.Command{
		Use: "show CLUSTER", Short: "Show a cluster and how it stands", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var k wire.Cluster
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0]), &k); err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) {
				warnIncidents(w, k)
				facts(w, "cluster", k.Name, "id", k.ID, "connection", k.ConnString, "system identifier", k.SystemID,
					"server version", fmt.Sprintf("%d.%d", k.ServerVersion/10000, k.ServerVersion%10000),
					"data checksums", map[bool]string{true: "on", false: "off"}[k.Checksums], "slot", k.Slot, "last base", lastBase(k), "last proof", lastProof(k))
				_, _ = fmt.Fprintln(w)
				drawCapture(w, k)
				_, _ = fmt.Fprintln(w)
				drawReach(w, k)
			})
		},
	}
}

func (a *app) clusterReady() *cobra.Command {
	return &cobra.Command{
		Use: "ready CLUSTER", Short: "Look at what a cluster is and lacks", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var r readiness.Report
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/readiness", &r); err != nil {
				return err
			}
			return a.show(cmd, r, func(w io.Writer) { drawReadiness(w, r) })
		},
	}
}

func (a *app) clusterRemove() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "remove CLUSTER", Short: "Forget a cluster that has neither backups nor copies", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			err = confirming(cmd, typed, func(name string) error {
				return c.call(cmd.Context(), http.MethodDelete, "/clusters/"+seg(args[0])+"?confirm="+url.QueryEscape(name), nil, nil)
			})
			if err == nil {
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s is no longer protected; its slot was dropped on the server.\n", args[0])
			}
			return err
		},
	}
	confirmFlag(cmd, &typed)
	return cmd
}
