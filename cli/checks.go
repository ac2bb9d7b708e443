package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
)

func (a *app) proveChecks() *cobra.Command {
	c := &cobra.Command{Use: "checks", Short: "Keep checks of your own, which every proof of a cluster's copies makes"}
	c.AddCommand(a.checksList(), a.checksShow(), a.checksSet(), a.checksRemove())
	return c
}

func (a *app) checksList() *cobra.Command {
	return &cobra.Command{
		Use: "list CLUSTER", Short: "List a cluster's own checks", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.OwnCheck
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/checks", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintf(w, "no checks; add one with: velvet prove checks set %s NAME --file QUERY.sql\n", args[0])
					return
				}
				t := grid(w, "check", "version>", "database", "role", "expects", "may take>", "query")
				for _, k := range list {
					limit := time.Duration(k.Seconds) * time.Second
					t.AppendRow([]any{k.Name, k.Version, k.Database, k.Role, k.Expects, limit, oneLine(k.SQL)})
				}
				t.Render()
			})
		},
	}
}

// oneLine shortens a query to what fits beside its name.
func oneLine(sql string) string {
	const most = 60
	text := []rune(strings.Join(strings.Fields(sql), " "))
	if len(text) > most {
		return string(text[:most-1]) + "…"
	}
	return string(text)
}

func (a *app) checksShow() *cobra.Command {
	return &cobra.Command{
		Use: "show CLUSTER CHECK", Short: "Show every version of a check, newest first", Args: cobra.ExactArgs(2),
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.OwnCheck
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/checks/"+seg(args[1]), &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				for _, k := range list {
					removed := ""
					if k.Removed {
						removed = ", removed since"
					}
					_, _ = fmt.Fprintf(w, "version %d, %s%s: expects %s, as %s in %s, within %s\n%s\n", k.Version, when(k.AddedAt), removed,
						k.Expects, k.Role, k.Database, time.Duration(k.Seconds)*time.Second, indent(k.SQL))
				}
			})
		},
	}
}

func (a *app) checksSet() *cobra.Command {
	var file string
	var limit time.Duration
	var in api.SetOwnCheckRequest
	cmd := &cobra.Command{
		Use: "set CLUSTER CHECK", Short: "Add a check, or a new version of one", Args: cobra.ExactArgs(2),
		Example: `  velvet prove checks set ferries open-bookings --file open.sql --database saltmarsh --role purser --expects "some rows"
  velvet prove checks set ferries takings --file takings.sql --database saltmarsh --role purser --expects "value 100000.."`,
		Long: "Add a query that every proof of a copy of the cluster runs on it, read-only, as a role of the cluster that is no " +
			"superuser, " +
			"and for a limited time. It expects one of: no rows, some rows, value 100..200 (of the first column of the first row), " +
			"same as live, same as last time. A change is a new version; earlier ones are kept.",
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			content, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			in.SQL, in.Seconds = string(content), int(limit/time.Second)
			c, err := a.client()
			if err != nil {
				return err
			}
			var k api.OwnCheck
			if err := c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(args[0])+"/checks/"+seg(args[1]), in, &k); err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "%s is version %d; the next proof makes it\n", k.Name, k.Version)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&file, "file", "", "file with the query")
	f.StringVar(&in.Database, "database", "", "database that it is run in")
	f.StringVar(&in.Role, "role", "", "role that it is run as; no superuser")
	f.StringVar(&in.Expects, "expects", "", `"no rows", "some rows", "value 100..200", "same as live" or "same as last time"`)
	f.DurationVar(&limit, "limit", time.Minute, "how long it may take")
	for _, name := range []string{"file", "database", "role", "expects"} {
		_ = cmd.MarkFlagRequired(name)
	}
	return cmd
}

func (a *app) checksRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove CLUSTER CHECK", Short: "Have a check be made no more; its versions are kept", Args: cobra.ExactArgs(2),
		ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.call(cmd.Context(), http.MethodDelete, "/clusters/"+seg(args[0])+"/checks/"+seg(args[1]), nil, nil); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s is made no more\n", args[1])
			return err
		},
	}
}
