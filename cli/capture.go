package cli

import (
	"fmt"
	"io"
	"math"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
	"velvetrewind/core/pg"
)

func (a *app) capture() *cobra.Command {
	c := &cobra.Command{Use: "capture", Short: "Continuous WAL capture"}
	c.AddCommand(
		a.captureCommand("start", "Capture a cluster's WAL"),
		a.captureCommand("stop", "Stop capturing; the server retains its WAL in the slot until it is started again"),
		a.captureStatus())
	return c
}

func (a *app) captureCommand(verb, short string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " CLUSTER", Short: short, Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var k api.Cluster
			if err := c.post(cmd.Context(), "/clusters/"+seg(args[0])+"/capture/"+verb, nil, &k); err != nil {
				return err
			}
			return a.show(cmd, k, func(w io.Writer) {
				if verb == "stop" {
					_, _ = fmt.Fprintf(w, "The capture of %s stops. Its slot %s has the server retain WAL meanwhile: watch that "+
						"server's disk.\n", k.Name, k.Slot)
				} else {
					_, _ = fmt.Fprintf(w, "The capture of %s starts. See: velvet capture status\n", k.Name)
				}
			})
		},
	}
}

func (a *app) captureStatus() *cobra.Command {
	return a.perCluster("status [CLUSTER]", "Show how far capture has got", drawCapture)
}

// perCluster is a command that shows something of one cluster, or of all.
func (a *app) perCluster(use, short string, draw func(io.Writer, api.Cluster)) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.MaximumNArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := clustersOr(cmd, c, args)
			if err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				for i, k := range list {
					if i > 0 {
						_, _ = fmt.Fprintln(w)
					}
					_, _ = fmt.Fprintln(w, k.Name)
					draw(w, k)
				}
			})
		},
	}
}

// clustersOr reads the named cluster, or all of them.
func clustersOr(cmd *cobra.Command, c *client, args []string) ([]api.Cluster, error) {
	if len(args) == 0 {
		var list []api.Cluster
		return list, c.get(cmd.Context(), "/clusters", &list)
	}
	var k api.Cluster
	err := c.get(cmd.Context(), "/clusters/"+seg(args[0]), &k)
	return []api.Cluster{k}, err
}

func drawCapture(w io.Writer, k api.Cluster) {
	s := k.Capture
	facts(w,
		"capture", fmt.Sprintf("%s since %s, timeline %d", s.State, when(s.Since), s.Timeline),
		"problem", s.Problem,
		"safe here to", lsnOr(s.Flushed),
		"in the store to", lsnOr(s.Stored),
		"server is at", fmt.Sprintf("%s, %s ahead", lsnOr(s.Server), figures.Size(s.LagBytes)),
		"complete to", whenOr(s.CompleteTo, "not known yet")+" (server's clock)",
		"waiting for the store", figures.Size(s.Spooled),
		"retained by the slot", retained(s),
		"server's clock", clock(s.ClockAhead),
		"who writes", watching(s))
}

func retained(s api.Capture) string {
	if s.Room < 0 {
		return figures.Size(s.Retained)
	}
	return figures.Size(s.Retained) + ", room for " + figures.Size(s.Room) + " more"
}

// watching says how it stands with who writes.
func watching(s api.Capture) string {
	switch {
	case s.AuthorsProblem != "":
		return "not seen: " + s.AuthorsProblem
	case s.AuthorsLook == 0:
		return ""
	}
	return fmt.Sprintf("is looked at every 0.2 s while there are writers, which takes %.1f ms", 1000*s.AuthorsLook)
}

// clock says how the server's clock stands to the service's.
func clock(ahead float64) string {
	switch {
	case math.Abs(ahead) < 0.05:
		return "the same as the service's"
	case ahead > 0:
		return fmt.Sprintf("%.1f s ahead of the service's", ahead)
	}
	return fmt.Sprintf("%.1f s behind the service's", -ahead)
}

func lsnOr(l pg.LSN) string {
	if l == 0 {
		return "nothing yet"
	}
	return l.String()
}
