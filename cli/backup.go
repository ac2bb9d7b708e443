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

func (a *app) backup() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Base backups"}
	c.AddCommand(a.backupTake(), a.backupList(), a.backupShow(), a.backupReport(), a.backupDrop())
	return c
}

func (a *app) backupTake() *cobra.Command {
	var detach bool
	var kind, checkpoint string
	cmd := &cobra.Command{
		Use: "take CLUSTER", Short: "Take a base backup while the cluster stays open", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeClusters,
		Long: "Take a base backup while the cluster stays open. An incremental one reads only what has changed since the\n" +
			"newest backup, as the WAL tells, a full one everything; each is complete in itself and shares with older\n" +
			"ones what is the same. Where an incremental one would not surely be right, a full one is taken, and the\n" +
			"log says why.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/clusters/"+seg(args[0])+"/backups", api.TakeBackupRequest{Kind: kind, Checkpoint: checkpoint},
				&t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, detach); err != nil || detach {
				return err
			}
			var b api.Backup
			if err := c.get(cmd.Context(), "/backups/"+seg(t.Subject), &b); err != nil {
				return err
			}
			return a.show(cmd, b, func(w io.Writer) { drawBackup(w, b) })
		},
	}
	cmd.Flags().StringVar(&kind, "kind", "auto", "full, incremental, or auto")
	cmd.Flags().StringVar(&checkpoint, "checkpoint", "",
		"fast or spread: how the server writes its checkpoint (default: fast for a cluster's first base backup, else spread)")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}

// lostMark is a base's id, with a word if it cannot be read.
func lostMark(id string, b api.Backup) string {
	if b.Lost {
		return id + " (unreadable)"
	}
	return id
}

func drawBackup(w io.Writer, b api.Backup) {
	faults := "every one right"
	if b.PageFaults > 0 {
		faults = figures.Count(b.PageFaults) + " damaged"
	}
	facts(w,
		"base", lostMark(b.ID, b), "of", b.Cluster, "kind", b.Kind,
		"from", when(b.StartedAt), "to", when(b.StoppedAt),
		"LSN", fmt.Sprintf("%s to %s on timeline %d", b.Start, b.Stop, b.Timeline),
		"holds", fmt.Sprintf("%s in %s files", figures.Size(b.BytesHeld), figures.Count(b.Files)),
		"read", figures.Size(b.BytesRead)+" from the server",
		"stored", fmt.Sprintf("%s; %s of %s extents were new, %s are zeroes", figures.Size(b.BytesStored), figures.Count(b.NewExtents),
			figures.Count(b.Extents), figures.Count(b.ZeroExtents)),
		"shared", figures.Size(b.BytesShared)+" as stored with older backups",
		"pages", fmt.Sprintf("%s checked, %s", figures.Count(b.Pages), faults),
		"task", b.Task)
	for _, s := range b.Tablespaces {
		_, _ = fmt.Fprintf(w, "tablespace %d at %s\n", s.OID, s.Location)
	}
	for i, d := range b.Damaged {
		if i == mostDamaged {
			_, _ = fmt.Fprintf(w, "and %d more damaged pages\n", len(b.Damaged)-i)
			break
		}
		_, _ = fmt.Fprintf(w, "damaged: %s, block %d of %s: %s\n", cmp.Or(d.Table, "no table is known"), d.Block, d.Path, d.Fault)
	}
}

// mostDamaged is how many damaged pages are printed.
const mostDamaged = 20

func (a *app) backupList() *cobra.Command {
	return &cobra.Command{
		Use: "list CLUSTER", Short: "List a cluster's base backups", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []api.Backup
			if err := c.get(cmd.Context(), "/clusters/"+seg(args[0])+"/backups", &list); err != nil {
				return err
			}
			return a.show(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					_, _ = fmt.Fprintf(w, "%s has no base backup yet. Take one with: velvet backup take %s\n", args[0], args[0])
					return
				}
				t := grid(w, "base", "kind", "ended", "stop LSN>", "holds>", "read>", "stored>", "shared>", "damaged pages>")
				lost := false
				for _, b := range list {
					lost = lost || b.Lost
					t.AppendRow([]any{lostMark(short(b.ID), b), b.Kind, when(b.StoppedAt), b.Stop, figures.Size(b.BytesHeld),
						figures.Size(b.BytesRead), figures.Size(b.BytesStored), figures.Size(b.BytesShared), b.PageFaults})
				}
				t.Render()
				if lost {
					_, _ = fmt.Fprintf(w, "\nunreadable: an audit found that it cannot be read. Which object is at fault: velvet store "+
						"audit "+
						"--full\n")
				}
			})
		},
	}
}

// mostTables is how many tables are printed.
const mostTables = 20

func drawContent(w io.Writer, c api.Content) {
	alone := "not known: what another base backup needs cannot be read"
	if c.Alone != nil {
		alone = figures.Size(*c.Alone) + " in the store that no other backup needs"
	}
	facts(w,
		"alone", alone,
		"needs", fmt.Sprintf("%d packs, and the WAL from %s to %s", c.Packs, c.FirstWAL, c.LastWAL))
	_, _ = fmt.Fprintln(w)
	t := grid(w, "database", "files>", "holds>")
	for _, d := range c.Databases {
		name := d.Name
		if d.OID == 0 {
			name = "(shared catalogs)"
		} else if name == "" {
			name = fmt.Sprintf("(database %d)", d.OID)
		}
		t.AppendRow([]any{name, figures.Count(d.Files), figures.Size(d.Bytes)})
	}
	t.AppendRow([]any{"(other files)", "", figures.Size(c.Other)})
	t.Render()
	for _, s := range c.Tablespaces {
		if s.Location != "" {
			_, _ = fmt.Fprintf(w, "in the tablespace at %s: %s\n", s.Location, figures.Size(s.Bytes))
		}
	}
	if len(c.Relations) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	t = grid(w, "table", "rows>", "indexes>", "TOAST>")
	for _, r := range c.Relations[:min(len(c.Relations), mostTables)] {
		t.AppendRow([]any{r.Database + "." + r.Schema + "." + r.Table, figures.Size(r.Main), figures.Size(r.Indexes),
			figures.Size(r.TOAST)})
	}
	t.Render()
	if more := len(c.Relations) - mostTables + c.MoreTables; more > 0 {
		_, _ = fmt.Fprintf(w, "and %d smaller tables\n", more)
	}
	if c.Catalogs > 0 {
		_, _ = fmt.Fprintf(w, "and system catalogs, %s\n", figures.Size(c.Catalogs))
	}
}

func (a *app) backupShow() *cobra.Command {
	return &cobra.Command{
		Use: "show BASE", Short: "Show a base backup", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeBackups,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var shown struct {
				api.Backup
				Content api.Content `json:"content"`
				Log     []api.Line  `json:"log"`
			}
			if err := c.get(cmd.Context(), "/backups/"+seg(args[0]), &shown.Backup); err != nil {
				return err
			}
			if err := c.get(cmd.Context(), "/backups/"+seg(args[0])+"/content", &shown.Content); err != nil {
				return err
			}
			if shown.Task != "" { // of one that was recorded again from the store, the log is lost
				if err := c.get(cmd.Context(), "/tasks/"+seg(shown.Task)+"/lines", &shown.Log); err != nil {
					return err
				}
			}
			return a.show(cmd, shown, func(w io.Writer) {
				drawBackup(w, shown.Backup)
				drawContent(w, shown.Content)
				_, _ = fmt.Fprintln(w)
				drawLog(w, shown.Log)
			})
		},
	}
}

func (a *app) backupDrop() *cobra.Command {
	var typed string
	var detach bool
	cmd := &cobra.Command{
		Use: "drop BASE", Short: "Delete a base backup permanently", Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeBackups,
		Long: "Delete a base backup. Unless confirmed it only says which moments can no longer be reached then,\nand changes nothing. " +
			"WAL and other base backups are never touched.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.confirmedTask(cmd, c, typed, detach, func(name string, t *api.Task) error {
				return c.call(cmd.Context(), http.MethodDelete, "/backups/"+seg(args[0])+"?confirm="+url.QueryEscape(name), nil, t)
			})
		},
	}
	confirmFlag(cmd, &typed)
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	return cmd
}
