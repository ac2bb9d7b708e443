package cli

import (
	"io"
	"net/http"

	"github.com/spf13/cobra"

	"velvetrewind/api"
)

func (a *app) clusterEdit() *cobra.Command {
	var rule alertFlags
	var second bool
	var labels map[string]string
	var login loginFlags
	var copiesUser string
	var who authorFlags
	cmd := &cobra.Command{
		Use: "edit CLUSTER", Short: "Change how it is reached, its labels, which transactions are incidents, and whether it has a " +
			"second store", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		Long: "Show which transactions of a cluster are incidents, or change it for those to come: tables dropped or\n" +
			"truncated, many rows deleted, or a large share of a table deleted or updated. Without a flag nothing is\n" +
			"changed; with --try-since neither: what the rule would have marked is shown.",
		Example: "  velvet cluster edit ferries --alert-table fare=25% --alert-table crew.shift=500 --try-since '30d ago'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			path := "/clusters/" + seg(args[0]) + "/rule"
			var now api.Rule
			if err := c.get(cmd.Context(), path, &now); err != nil {
				return err
			}
			flags := cmd.Flags()
			changed, err := rule.change(flags, &now)
			if err != nil {
				return err
			}
			if rule.since != "" {
				return a.tryRule(cmd, c, path, now, rule.since)
			}
			if err := a.editLogin(cmd, c, args[0], &login); err != nil {
				return err
			}
			if changed {
				if err := c.call(cmd.Context(), http.MethodPut, path, now, &now); err != nil {
					return err
				}
				a.warnOfMany(cmd, c, path, now)
			}
			if err := editSettings(cmd, c, args[0], map[string]any{"second-store": api.SecondStoreRequest{Wanted: second},
				"copies-user": api.CopiesUserRequest{User: copiesUser}, "label": labels}); err != nil {
				return err
			}
			if err := who.edit(cmd, c, args[0]); err != nil {
				return err
			}
			return a.show(cmd, now, func(w io.Writer) { drawRule(w, now) })
		},
	}
	login.add(cmd)
	rule.add(cmd)
	who.add(cmd)
	cmd.Flags().StringVar(&copiesUser, "copies-user", "",
		"OS user of its copies made from now on, one of those that the service was started with (--run-as); '' for the first of them")
	cmd.Flags().StringToStringVar(&labels, "label", nil, "replace its labels, as fleet=outer,site=north")
	cmd.Flags().BoolVar(&second, "second-store", true, "it is copied to the second store, if the service has one")
	return cmd
}

// editLogin changes how a cluster is reached, where flags say so.
func (a *app) editLogin(cmd *cobra.Command, c *client, cluster string, login *loginFlags) error {
	said := func(flag string) bool { return cmd.Flags().Changed(flag) }
	if !said("connect") && !said("password-file") && !said("replication-user") && !said("replication-password-file") {
		return nil
	}
	l, err := login.read(cmd)
	if err != nil {
		return err
	}
	return c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(cluster)+"/login", l, nil)
}

// authorFlags say how it is watched who writes.
type authorFlags struct{ said api.AuthorRule }

func (f *authorFlags) add(cmd *cobra.Command) {
	cmd.Flags().IntVar(&f.said.Days, "authors-days", 0, "for how many days it is kept who wrote what; 0: nobody is watched")
	cmd.Flags().IntVar(&f.said.Statement, "statements", 0,
		"keep the text of their statements, up to so many characters; 0: it is not kept")
}

// edit changes what flags say.
func (f *authorFlags) edit(cmd *cobra.Command, c *client, cluster string) error {
	days, statements := cmd.Flags().Changed("authors-days"), cmd.Flags().Changed("statements")
	if !days && !statements {
		return nil
	}
	path := "/clusters/" + seg(cluster) + "/authors"
	var now api.AuthorRule
	if err := c.get(cmd.Context(), path, &now); err != nil {
		return err
	}
	if days {
		now.Days = f.said.Days
	}
	if statements {
		now.Statement = f.said.Statement
	}
	return c.call(cmd.Context(), http.MethodPut, path, now, nil)
}

// editSettings changes the settings whose flags are given, each to its value.
func editSettings(cmd *cobra.Command, c *client, cluster string, values map[string]any) error {
	for flag, value := range values {
		path := "/" + flag
		if flag == "label" {
			path = "/labels"
		}
		if !cmd.Flags().Changed(flag) {
			continue
		}
		if err := c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(cluster)+path, value, nil); err != nil {
			return err
		}
	}
	return nil
}
