package cli

import (
	"fmt"
	"io"
	"net/http"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) clusterEdit() *cobra.Command {
	var rule api.Rule
	var second bool
	var labels map[string]string
	var login loginFlags
	var copiesUser string
	cmd := &cobra.Command{
		Use: "edit CLUSTER", Short: "Change how it is reached, its labels, which transactions are incidents, and whether it has a " +
			"second store", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		Long: "Show which transactions of a cluster are incidents, or change it for those to come: tables dropped or\n" +
			"truncated, and deletions of many rows or of a large share of a table. Without a flag nothing is changed.",
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
			if flags.Changed("connect") || flags.Changed("password-file") || flags.Changed("replication-user") ||
				flags.Changed("replication-password-file") {
				l, err := login.read(cmd)
				if err != nil {
					return err
				}
				if err := c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(args[0])+"/login", l, nil); err != nil {
					return err
				}
			}
			if changeRule(flags.Changed, rule, &now) {
				if err := c.call(cmd.Context(), http.MethodPut, path, now, &now); err != nil {
					return err
				}
			}
			if flags.Changed("second-store") {
				if err := c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(args[0])+"/second-store",
					api.SecondStoreRequest{Wanted: second}, nil); err != nil {
					return err
				}
			}
			if flags.Changed("copies-user") {
				if err := c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(args[0])+"/copies-user",
					api.CopiesUserRequest{User: copiesUser}, nil); err != nil {
					return err
				}
			}
			if flags.Changed("label") {
				if err := c.call(cmd.Context(), http.MethodPut, "/clusters/"+seg(args[0])+"/labels", labels, nil); err != nil {
					return err
				}
			}
			return a.show(cmd, now, func(w io.Writer) { drawRule(w, now) })
		},
	}
	login.add(cmd)
	cmd.Flags().BoolVar(&rule.Drops, "alert-drops", true, "a table dropped or truncated, or a database dropped, is an incident")
	cmd.Flags().Int64Var(&rule.Rows, "alert-rows", 0, "so many rows deleted from one table are an incident; 0 for no limit")
	cmd.Flags().Float64Var(&rule.Share, "alert-share", 0, "this share of a table's rows deleted, 0 to 1, is an incident; 0 for no limit")
	cmd.Flags().StringVar(&copiesUser, "copies-user", "",
		"OS user of its copies made from now on, one of those that the service was started with (--run-as); '' for the first of them")
	cmd.Flags().StringToStringVar(&labels, "label", nil, "replace its labels, as fleet=outer,site=north")
	cmd.Flags().BoolVar(&second, "second-store", true, "it is copied to the second store, if the service has one")
	return cmd
}

// changeRule takes what flags say into a rule, and tells whether any does.
func changeRule(changed func(flag string) bool, said api.Rule, now *api.Rule) bool {
	drops, rows, share := changed("alert-drops"), changed("alert-rows"), changed("alert-share")
	if drops {
		now.Drops = said.Drops
	}
	if rows {
		now.Rows = said.Rows
	}
	if share {
		now.Share = said.Share
	}
	return drops || rows || share
}

func drawRule(w io.Writer, r api.Rule) {
	drops, rows, share := "no incident", "no limit", "no limit"
	if r.Drops {
		drops = "an incident"
	}
	if r.Rows > 0 {
		rows = figures.Count(r.Rows) + " or more are an incident"
	}
	if r.Share > 0 {
		share = fmt.Sprintf("%g %% or more is an incident", 100*r.Share)
	}
	facts(w, "tables dropped or truncated", drops, "rows deleted from a table", rows, "share of a table's rows deleted", share)
}
