package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/engine/audit"
	"velvetrewind/service/wire"
)

// errStoreLacks ends an audit that found something that costs.
var errStoreLacks = errors.New("the store lacks something that is needed")

func (a *app) store() *cobra.Command {
	c := &cobra.Command{Use: "store", Short: "Where backups and WAL are kept"}
	c.AddCommand(a.storeAudit(), a.storeRebuild())
	return c
}

func (a *app) storeAudit() *cobra.Command {
	var full bool
	cmd := &cobra.Command{
		Use: "audit", Short: "Look whether everything that is needed is in the store", Args: cobra.NoArgs,
		Long: "Look whether everything that the catalogue and the backups name is in the store, and what lies there\n" +
			"besides; with --full also whether every byte of it can be read. Nothing is changed. The exit code is 1\n" +
			"if something is missing or damaged that costs a backup or moments.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t wire.Task
			if err := c.post(cmd.Context(), "/store/audits", map[string]bool{"full": full}, &t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, false); err != nil {
				return err
			}
			var r audit.Result
			if err := c.get(cmd.Context(), "/store/audits/"+seg(t.ID), &r); err != nil {
				return err
			}
			if err := a.show(cmd, r, func(w io.Writer) { drawAudit(w, r) }); err != nil {
				return err
			}
			if len(r.Findings) > 0 && r.Findings[0].Costs {
				return errStoreLacks
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&full, "full", false, "read every byte")
	return cmd
}

func (a *app) storeRebuild() *cobra.Command {
	return &cobra.Command{
		Use: "rebuild", Short: "Make the catalogue's records anew from what the store holds", Args: cobra.NoArgs,
		Long: "Record the clusters, base backups and WAL that the store holds and the catalogue does not know, for an\n" +
			"installation that has lost its catalogue. What the catalogue knows is left alone, and nothing in the store\n" +
			"is changed. Captures go on from where they were, if their slots are still there.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t wire.Task
			if err := c.post(cmd.Context(), "/store/rebuilds", nil, &t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, false); err != nil {
				return err
			}
			return a.show(cmd, t.Outcome, func(w io.Writer) {
				for _, name := range []string{"clusters", "segments", "backups", "known", "unclear"} {
					if v := t.Outcome[name]; v != nil {
						facts(w, fmt.Sprintf("%-8s", name), fmt.Sprint(v))
					}
				}
			})
		},
	}
}

func drawAudit(w io.Writer, r audit.Result) {
	how := "by presence"
	if r.Full {
		how = "every byte"
	}
	facts(w, "looked at", fmt.Sprintf("%s objects, %s, %s", count(r.Objects), size(r.Bytes), how))
	if len(r.Findings) == 0 {
		_, _ = fmt.Fprintln(w, "Everything that is needed is there, and nothing else.")
		return
	}
	_, _ = fmt.Fprintln(w)
	t := grid(w, "", "what", "object", "")
	for _, f := range r.Findings {
		mark := ""
		if f.Costs {
			mark = "!"
		}
		t.AppendRow([]any{mark, f.Kind, f.Key, f.Detail})
	}
	t.Render()
	for _, l := range r.Losses {
		if len(l.Backups) > 0 {
			_, _ = fmt.Fprintf(w, "\n%s: these base backups cannot be restored: %s\n", l.Cluster, strings.Join(l.Backups, ", "))
		}
		for _, s := range l.Reach {
			_, _ = fmt.Fprintf(w, "\n%s can no longer be rewound to moments from %s to %s on timeline %d\n", l.Cluster, s.From, s.To, s.Timeline)
		}
	}
	if len(r.Losses) == 0 {
		_, _ = fmt.Fprintln(w, "\nNothing that is needed is lost.")
	}
}
