package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"velvetrewind/api"
	"velvetrewind/core/attention"
	"velvetrewind/core/figures"
)

func (a *app) cluster() *cobra.Command {
	c := &cobra.Command{Use: "cluster", Short: "The clusters that are protected"}
	c.AddCommand(a.clusterAdd(), a.clusterList(), a.clusterShow(), a.clusterReady(), a.clusterRole(), a.clusterRegister(), a.clusterEdit(),
		a.clusterRemove())
	return c
}

func (a *app) clusterAdd() *cobra.Command {
	var login loginFlags
	var noBase bool
	var labels map[string]string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Register a cluster, after testing it", Args: cobra.ExactArgs(1),
		Example: "  velvet cluster add ferries --connect 'host=db1 user=velvet dbname=postgres' --password-file secret",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			l, err := login.read(cmd)
			if err != nil {
				return err
			}
			var added api.AddedCluster
			in := api.AddClusterRequest{Name: args[0], ConnString: l.ConnString, Password: l.Password, ReplicationUser: l.ReplicationUser,
				ReplicationPassword: l.ReplicationPassword, NoBase: noBase, Labels: labels}
			if err := c.post(cmd.Context(), "/clusters", in, &added); err != nil {
				return err
			}
			return a.show(cmd, added, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s is registered, and its capture begins.\n\n", added.Cluster.Name)
				drawReadiness(w, added.Readiness)
				if noBase {
					_, _ = fmt.Fprintf(w, "\nNext: velvet backup take %s\n", added.Cluster.Name)
				} else {
					_, _ = fmt.Fprintf(w, "\nIts first base backup is begun: velvet task watch %s\n", added.Task)
				}
			})
		},
	}
	login.add(cmd)
	cmd.Flags().BoolVar(&noBase, "no-base", false, "do not take the first base backup at once")
	cmd.Flags().StringToStringVar(&labels, "label", nil, "label by which policies find it, as fleet=outer; may be repeated")
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

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (a *app) clusterList() *cobra.Command {
	var labels map[string]string
	var attention bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the clusters, and first what needs attention", Args: cobra.NoArgs,
		Example: "  velvet cluster list --label fleet=outer --attention",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Cluster
			if err := c.get(cmd.Context(), "/clusters", &list); err != nil {
				return err
			}
			none := len(list) == 0
			list = slices.DeleteFunc(list, func(k api.Cluster) bool { return attention && len(k.Needs) == 0 || !bears(k, labels) })
			return a.show(cmd, list, func(w io.Writer) {
				switch {
				case none:
					_, _ = fmt.Fprintln(w, "No cluster is protected yet. Register one with: velvet cluster add NAME --connect …")
				case len(list) == 0:
					_, _ = fmt.Fprintln(w, "There is no such cluster.")
				default:
					drawNeeds(w, list)
					drawClusters(w, list)
				}
			})
		},
	}
	cmd.Flags().StringToStringVar(&labels, "label", nil, "only those with this label, as fleet=outer; may be repeated")
	cmd.Flags().BoolVar(&attention, "attention", false, "only those that need attention")
	return cmd
}

// bears tells whether a cluster has all of some labels.
func bears(k api.Cluster, labels map[string]string) bool {
	for name, value := range labels {
		if k.Labels[name] != value {
			return false
		}
	}
	return true
}

func drawClusters(w io.Writer, list []api.Cluster) {
	t := grid(w, "cluster", "capture", "lag>", "reach from", "reach to", "promise", "last base", "last proof")
	for _, k := range list {
		from, to := reachEnds(k)
		promise := "held"
		if !k.Promise.Held {
			promise = "not yet"
		}
		t.AppendRow([]any{k.Name, k.Capture.State, figures.Size(k.Capture.LagBytes), from, to, promise, lastBase(k), lastProof(k)})
	}
	t.Render()
}

// mostNeeds is how many needs are listed before the table.
const mostNeeds = 20

// drawNeeds says first what needs attention, the worst first.
func drawNeeds(w io.Writer, list []api.Cluster) {
	worst := slices.Clone(list)
	slices.SortStableFunc(worst, func(a, b api.Cluster) int { return rank(b) - rank(a) })
	shown := 0
	for _, k := range worst {
		warnIncidents(w, k)
		for _, n := range k.Needs {
			if attention.Concern(n.Kind) == attention.Incident {
				continue // told already, by what they did
			}
			if shown++; shown <= mostNeeds {
				_, _ = fmt.Fprintf(w, "! %s: %s\n    %s\n", k.Name, n.Text, n.Command)
			}
		}
	}
	if shown > mostNeeds {
		_, _ = fmt.Fprintf(w, "  and %d more; see: velvet cluster list --output json\n", shown-mostNeeds)
	}
	if shown > 0 {
		_, _ = fmt.Fprintln(w)
	}
}

// warnIncidents says what needs attention.
func warnIncidents(w io.Writer, k api.Cluster) {
	for _, i := range k.Incidents {
		_, _ = fmt.Fprintf(w, "! %s, %s, tx %d: %s\n", k.Name, when(i.Time), i.XID, strings.Join(i.Reasons, "; "))
	}
	if n := len(k.Incidents); n > 0 {
		_, _ = fmt.Fprintf(w, "  See: velvet moment \"before tx %d\" --cluster %s; if it was intended: velvet changes settle %s %d\n\n",
			k.Incidents[0].XID, k.Name, k.Name, k.Incidents[0].XID)
	}
}

// reachEnds gives the earliest and the latest reachable time.
func reachEnds(k api.Cluster) (from, to string) {
	if len(k.Reach) == 0 {
		return "nothing yet", ""
	}
	return when(k.Reach[0].FromTime), when(k.Reach[len(k.Reach)-1].ToTime)
}

func lastBase(k api.Cluster) string {
	if k.LastBackup == nil {
		return "none"
	}
	return when(k.LastBackup.StoppedAt)
}

func lastProof(k api.Cluster) string {
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
			var k api.Cluster
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0]), &k); err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) {
				drawNeeds(w, []api.Cluster{k})
				facts(w, "cluster", k.Name, "id", k.ID, "connection", k.ConnString, "system identifier", k.SystemID,
					"server version", fmt.Sprintf("%d.%d", k.ServerVersion/10000, k.ServerVersion%10000),
					"data checksums", map[bool]string{true: "on", false: "off"}[k.Checksums], "slot", k.Slot, "last base", lastBase(k),
					"last proof", lastProof(k))
				_, _ = fmt.Fprintln(w)
				drawCapture(w, k)
				_, _ = fmt.Fprintln(w)
				drawReach(w, k)
			})
		},
	}
}

func (a *app) clusterRemove() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "remove CLUSTER", Short: "Remove a cluster that has neither backups nor copies", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeClusters,
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

// rank tells how urgently a cluster needs attention.
func rank(c api.Cluster) int {
	kinds := make([]attention.Concern, len(c.Needs))
	for i, n := range c.Needs {
		kinds[i] = attention.Concern(n.Kind)
	}
	return attention.Rank(kinds...)
}
