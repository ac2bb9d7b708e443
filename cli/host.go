package cli

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

// host is about other machines. onHost are the commands that are given there.
func (a *app) host(onHost []*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: "host", Short: "Other machines for copies, each with a host agent"}
	c.AddCommand(a.hostAdd(), a.hostList(), a.hostShow(), a.hostRemove(), a.hostLeftovers(), a.hostClear())
	c.AddCommand(onHost...)
	return c
}

func (a *app) hostAdd() *cobra.Command {
	return &cobra.Command{
		Use: "add NAME", Short: "Give a word with which a machine may join as a host, once, within an hour", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var w api.HostWord
			if err := c.post(cmd.Context(), "/hosts", api.AddHostRequest{Name: args[0]}, &w); err != nil {
				return err
			}
			return a.show(cmd, w, func(out io.Writer) {
				facts(out, "host", w.Name, "word", w.Word, "good until", when(w.Until), "then, on that machine",
					"velvet host join "+w.Address, "and, to serve", "velvet host serve")
			})
		},
	}
}

func (a *app) hostList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the hosts", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Host
			if err := c.get(cmd.Context(), "/hosts", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintln(w, "There is no host but the service's own. Add one with: velvet host add NAME")
					return
				}
				t := grid(w, "host", "state", "address", "PostgreSQL", "free>", "clusters", "copies>")
				for i := range list {
					h := &list[i]
					t.AppendRow([]any{h.Name, stateOfHost(h), h.Address, versions(h), freeOn(h), orNone(h.Clusters), len(h.Copies)})
				}
				t.Render()
			})
		},
	}
}

func stateOfHost(h *api.Host) string {
	switch {
	case h.Connected:
		return "connected"
	case h.SeenAt == nil:
		return "never connected"
	}
	return "out of reach since " + when(*h.SeenAt)
}

func versions(h *api.Host) string {
	if len(h.Majors) == 0 {
		return "none"
	}
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(h.Majors), " ", ", "), "[]")
}

func freeOn(h *api.Host) string {
	if h.SeenAt == nil {
		return "not known"
	}
	return figures.Size(h.Free)
}

func (a *app) hostShow() *cobra.Command {
	return &cobra.Command{
		Use: "show HOST", Short: "Show a host, and what stands on it", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeHosts,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var h api.Host
			if err := c.get(cmd.Context(), "/hosts/"+seg(args[0]), &h); err != nil {
				return err
			}
			return a.show(cmd, h, func(w io.Writer) {
				facts(w, hostFacts(&h)...)
			})
		},
	}
}

// hostFacts are a host's names and values.
func hostFacts(h *api.Host) []string {
	pairs := []string{"host", h.Name, "state", stateOfHost(h), "address", h.Address, "joined", when(h.JoinedAt)}
	if h.SeenAt != nil {
		pairs = append(pairs, "agent", "velvet "+h.Velvet, "copies lie in", h.Directory, "and run as", strings.Join(h.Users, ", "),
			"databases lie in", orNone(h.Databases), "PostgreSQL", versions(h), "free", figures.Size(h.Free), "limits", limitsOf(h),
			"machine", fmt.Sprintf("%d cores, %s of memory", h.Cores, figures.Size(h.Memory)))
	}
	return append(pairs, "clusters", orNone(h.Clusters), "copies", orNone(h.Copies))
}

func orNone(list []string) string {
	return cmp.Or(strings.Join(list, ", "), "none")
}

func limitsOf(h *api.Host) string {
	var list []string
	if h.MostCopies > 0 {
		list = append(list, fmt.Sprintf("%d copies at once", h.MostCopies))
	}
	if h.MostBytes > 0 {
		list = append(list, figures.Size(h.MostBytes)+" for them together")
	}
	if list == nil {
		return "none"
	}
	return strings.Join(list, ", ")
}

func (a *app) hostRemove() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "remove HOST", Short: "Have a host be one no longer; nothing on it is removed", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeHosts,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return confirming(cmd, typed, func(name string) error {
				return c.call(cmd.Context(), http.MethodDelete, "/hosts/"+seg(args[0])+"?confirm="+url.QueryEscape(name), nil, nil)
			})
		},
	}
	confirmFlag(cmd, &typed)
	return cmd
}
