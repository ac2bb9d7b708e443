package cli

import (
	"github.com/spf13/cobra"

	"velvetrewind/api"
)

// completeClusters completes the first argument with names of clusters.
func (a *app) completeClusters(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/clusters", func(k api.Cluster) string { return k.Name + "\t" + k.Capture.State })
}

// completeCopies completes the first argument with names of copies.
func (a *app) completeCopies(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/copies", func(k api.Copy) string { return k.Name + "\t" + k.Cluster + " at " + k.Moment })
}

// completeHosts completes the first argument with names of hosts.
func (a *app) completeHosts(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/hosts", func(h api.Host) string { return h.Name + "\t" + stateOfHost(&h) })
}

// completeTasks completes the first argument with ids of tasks.
func (a *app) completeTasks(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/tasks", func(t api.Task) string { return t.ID + "\t" + t.Kind + ", " + t.State })
}

// completeBackups completes the first argument with ids of base backups, newest first.
func (a *app) completeBackups(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/reports/backups?days=3650", func(b api.BackupLine) string {
		return b.ID + "\t" + b.Cluster + ", " +
			when(b.StoppedAt)
	})
}

// completeEntries completes the first argument with ids of the calendar's entries.
func (a *app) completeEntries(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/calendar", func(e api.Entry) string {
		return e.ID + "\t" + e.Work + " of " + entryOf(e) +
			", " + e.Words
	})
}

// completePolicies completes the first argument with names of policies.
func (a *app) completePolicies(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	return complete(a, cmd, args, "/policies", func(p api.Policy) string { return p.Name })
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
