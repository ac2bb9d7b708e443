package cli

import (
	"github.com/spf13/cobra"

	"velvetrewind/service/wire"
)

// completeClusters completes the first argument with names of clusters.
func (a *app) completeClusters(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/clusters", func(k wire.Cluster) string { return k.Name + "\t" + k.Capture.State })
}

// completeCopies completes the first argument with ids of copies.
func (a *app) completeCopies(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/copies", func(k wire.Copy) string { return k.ID + "\t" + k.Cluster + " at " + k.Moment })
}

// completeTasks completes the first argument with ids of tasks.
func (a *app) completeTasks(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/tasks", func(t wire.Task) string { return t.ID + "\t" + t.Kind + ", " + t.State })
}

func complete[T any](a *app, cmd *cobra.Command, args []string, path string, name func(T) string) ([]string, cobra.ShellCompDirective) {
	c, err := a.client()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var list []T
	if err := c.get(cmd.Context(), path, &list); err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names := make([]string, len(list))
	for i, v := range list {
		names[i] = name(v)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}
