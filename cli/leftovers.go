package cli

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) hostLeftovers() *cobra.Command {
	return &cobra.Command{
		Use: "leftovers", Short: "List what copies, takeovers and repairs hold on each host, and what may be deleted", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var l api.Leftovers
			if err := c.get(cmd.Context(), "/leftovers", &l); err != nil {
				return err
			}
			return a.show(cmd, l, func(w io.Writer) { drawLeftovers(w, l) })
		},
	}
}

func drawLeftovers(w io.Writer, l api.Leftovers) {
	if len(l.List) == 0 {
		_, _ = fmt.Fprintln(w, "No copy stands anywhere, and nothing is set aside.")
	} else {
		t := grid(w, "host", "cluster", "what", "directory", "size>", "since", "removed with")
		for _, k := range l.List {
			since := ""
			if k.Since != nil {
				since = when(*k.Since)
			}
			t.AppendRow([]any{cmp.Or(k.Host, "the service's own"), k.Cluster, k.What, k.Path, figures.Size(k.Bytes), since, k.How})
		}
		t.Render()
	}
	for _, why := range l.Unseen {
		_, _ = fmt.Fprintf(w, "not looked at: %s\n", why)
	}
}

func (a *app) hostClear() *cobra.Command {
	var typed, on string
	cmd := &cobra.Command{
		Use: "clear PATH", Short: "Remove a directory permanently that is left on a host", Args: cobra.ExactArgs(1),
		Long: "Remove a directory permanently that is left on a host: one in which a repair has kept what stood where it wrote, or one\n" +
			"among the copies that is none. velvet host leftovers lists them.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.confirmedTask(cmd, c, typed, false, func(name string, t *api.Task) error {
				q := url.Values{"host": {on}, "path": {args[0]}, "confirm": {name}}
				return c.call(cmd.Context(), http.MethodDelete, "/leftovers?"+q.Encode(), nil, t)
			})
		},
	}
	cmd.Flags().StringVar(&on, "host", "", "on this host (default: the service's own)")
	confirmFlag(cmd, &typed)
	return cmd
}
