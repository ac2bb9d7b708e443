package cli

import (
	"fmt"
	"io"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"velvetrewind/service/wire"
)

func (a *app) backup() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Base backups"}
	c.AddCommand(a.backupTake(), a.backupList(), a.backupShow(), a.backupDrop())
	return c
}

func (a *app) backupTake() *cobra.Command {
	var fast, detach bool
	cmd := &cobra.Command{
		Use: "take CLUSTER", Short: "Take a base backup while the cluster stays open", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t wire.Task
			if err := c.post(cmd.Context(), "/clusters/"+seg(args[0])+"/backups", map[string]bool{"fast": fast}, &t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, detach); err != nil || detach {
				return err
			}
			var b wire.Backup
			if err := c.get(cmd.Context(), "/backups/"+seg(t.Subject), &b); err != nil {
				return err
			}
			return a.show(cmd, b, func(w io.Writer) { drawBackup(w, b) })
		},
	}
	cmd.Flags().BoolVar(&fast, "at-once", false, "have the server make its checkpoint at once instead of spreading it out")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

func drawBackup(w io.Writer, b wire.Backup) {
	faults := "every one right"
	if b.PageFaults > 0 {
		faults = count(b.PageFaults) + " damaged; see the task's log"
	}
	facts(w,
		"base", b.ID, "of", b.Cluster, "kind", b.Kind,
		"from", when(b.StartedAt), "to", when(b.StoppedAt),
		"LSN", fmt.Sprintf("%s to %s on timeline %d", b.Start, b.Stop, b.Timeline),
		"read", fmt.Sprintf("%s in %s files", size(b.BytesRead), count(b.Files)),
		"stored", size(b.BytesStored),
		"pages", fmt.Sprintf("%s checked, %s", count(b.Pages), faults),
		"task", b.Task)
	for _, s := range b.Tablespaces {
		_, _ = fmt.Fprintf(w, "tablespace %d at %s\n", s.OID, s.Location)
	}
}

func (a *app) backupList() *cobra.Command {
	return &cobra.Command{
		Use: "list CLUSTER", Short: "List a cluster's base backups", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []wire.Backup
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/backups", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintf(w, "%s has no base backup yet. Take one with: velvet backup take %s\n", args[0], args[0])
					return
				}
				t := grid(w, "base", "kind", "ended", "stop LSN>", "read>", "stored>", "damaged pages>")
				for _, b := range list {
					t.AppendRow([]any{b.ID, b.Kind, when(b.StoppedAt), b.Stop, size(b.BytesRead), size(b.BytesStored), b.PageFaults})
				}
				t.Render()
			})
		},
	}
}

func (a *app) backupShow() *cobra.Command {
	return &cobra.Command{
		Use: "show BASE", Short: "Show a base backup", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var b wire.Backup
			if err := c.get(cmd.Context(), "/backups/"+seg(args[0]), &b); err != nil {
				return err
			}
			return a.show(cmd, b, func(w io.Writer) { drawBackup(w, b) })
		},
	}
}

func (a *app) backupDrop() *cobra.Command {
	var typed string
	cmd := &cobra.Command{
		Use: "drop BASE", Short: "Let a base backup go", Args: cobra.ExactArgs(1),
		Long: "Let a base backup go. Unless confirmed it only says which moments can no longer be reached then,\nand changes nothing. WAL and other base backups are never touched.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t wire.Task
			err = confirming(cmd, typed, func(name string) error {
				return c.call(cmd.Context(), http.MethodDelete, "/backups/"+seg(args[0])+"?confirm="+url.QueryEscape(name), nil, &t)
			})
			if err != nil {
				return err
			}
			_, err = a.finish(cmd, c, t, false)
			return err
		},
	}
	confirmFlag(cmd, &typed)
	return cmd
}
