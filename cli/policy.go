package cli

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/keep"
)

func (a *app) policy() *cobra.Command {
	c := &cobra.Command{Use: "policy", Short: "Keep rule, calendar and alerts for all clusters that have a label"}
	c.AddCommand(a.policyList(), a.policySet(), a.policyRemove())
	return c
}

func (a *app) policyList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the policies and the clusters that they apply to", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Policy
			if err := c.get(cmd.Context(), "/policies", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) { drawPolicies(w, list) })
		},
	}
}

func drawPolicies(w io.Writer, list []api.Policy) {
	t := grid(w, "policy", "labels", "keeps", "second store", "capture may stand still", "clusters")
	for _, p := range list {
		rule, second, alert := "", "as each says", ""
		if p.Keep != nil {
			rule = keep.Rule(*p.Keep).String()
		}
		if p.SecondStore != nil {
			second = yes(*p.SecondStore)
		}
		if p.CaptureAlert != nil {
			alert = fmt.Sprintf("%d s", *p.CaptureAlert)
		}
		clusters := strings.Join(p.Clusters[:min(5, len(p.Clusters))], ", ")
		if n := len(p.Clusters) - 5; n > 0 {
			clusters += fmt.Sprintf(" and %d more", n)
		}
		t.AppendRow([]any{p.Name, labelText(p.Labels), rule, second, alert, clusters})
	}
	t.Render()
}

func labelText(labels map[string]string) string {
	var list []string
	for name, value := range labels {
		list = append(list, name+"="+value)
	}
	slices.Sort(list)
	return strings.Join(list, " ")
}

func (a *app) policySet() *cobra.Command {
	var flags ruleFlags
	labels := make(map[string]string)
	var second bool
	var alert int
	cmd := &cobra.Command{
		Use: "set NAME", Short: "Make a policy, or replace it", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completePolicies,
		Long: "Make a policy, or replace what it says. It applies to all clusters that have its labels; where several fit,\n" +
			"the one with most labels. Recurring work for them is added with: velvet calendar add --policy NAME",
		Example: "  velvet policy set outer --label fleet=outer --span 31d --monthly 12",
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := flags.read(cmd)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			in := api.SetPolicyRequest{Labels: labels, Keep: r}
			if cmd.Flags().Changed("second-store") {
				in.SecondStore = &second
			}
			if alert > 0 {
				in.CaptureAlert = &alert
			}
			var p api.Policy
			if err := c.call(cmd.Context(), http.MethodPut, "/policies/"+seg(args[0]), in, &p); err != nil {
				return err
			}
			return a.show(cmd, p, func(w io.Writer) { drawPolicies(w, []api.Policy{p}) })
		},
	}
	flags.add(cmd)
	cmd.Flags().StringToStringVar(&labels, "label", labels, "label that its clusters have, as fleet=outer; may be repeated")
	cmd.Flags().BoolVar(&second, "second-store", true, "its clusters are copied to the second store")
	cmd.Flags().IntVar(&alert, "capture-alert", 0, "a capture that stands still for so many seconds needs attention")
	return cmd
}

func (a *app) policyRemove() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "remove NAME", Short: "Remove a policy and its calendar; no backup is deleted", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completePolicies,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			err = confirming(cmd, typed, func(name string) error {
				return c.call(cmd.Context(), http.MethodDelete, "/policies/"+seg(args[0])+"?confirm="+url.QueryEscape(name), nil, nil)
			})
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "policy %s was removed; the default keep rule applies to its clusters.\n", args[0])
			return err
		},
	}
	confirmFlag(cmd, &typed)
	return cmd
}
