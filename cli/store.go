package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

// errStoreLacks ends an audit that found something that costs.
var errStoreLacks = errors.New("the store lacks something that is needed")

func (a *app) store() *cobra.Command {
	c := &cobra.Command{Use: "store", Short: "Where backups and WAL are kept"}
	c.AddCommand(a.storeShow(), a.storeAudit(), a.storeRebuild(), a.storeDeposit(), a.storeRekey())
	return c
}

func (a *app) storeAudit() *cobra.Command {
	var full, fix bool
	cmd := &cobra.Command{
		Use: "audit", Short: "Look whether everything that is needed is in the store", Args: cobra.NoArgs,
		Long: "Look whether everything that the catalogue and the backups name is in the store, and what lies there\n" +
			"besides; with --full also whether every byte of it can be read. Nothing is changed, unless --fix brings\n" +
			"back from the second store what is missing or damaged. The exit code is 1 if something is missing or\n" +
			"damaged that costs a backup or moments.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t api.Task
			if err := c.post(cmd.Context(), "/store/audits", api.AuditRequest{Full: full, Fix: fix}, &t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, false); err != nil {
				return err
			}
			var r api.AuditResult
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
	cmd.Flags().BoolVar(&fix, "fix", false, "bring back from the second store what is missing or damaged, and the other way round")
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
			var t api.Task
			if err := c.post(cmd.Context(), "/store/rebuilds", nil, &t); err != nil {
				return err
			}
			if t, err = a.finish(cmd, c, t, false); err != nil {
				return err
			}
			return a.show(cmd, t.Outcome, func(w io.Writer) {
				for _, name := range []string{"clusters", "segments", "backups", "known", "unclear", "brought"} {
					if v := t.Outcome[name]; v != nil {
						facts(w, fmt.Sprintf("%-8s", name), fmt.Sprint(v))
					}
				}
			})
		},
	}
}

func (a *app) storeDeposit() *cobra.Command {
	return &cobra.Command{
		Use: "deposit", Short: "Put what only the catalogue knows into the store", Args: cobra.NoArgs,
		Long: "Write policies, calendar, pins, settled incidents, proofs and the history of tasks into the store, so that\n" +
			"velvet store rebuild can bring them back. It is done every night by itself.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var d api.Deposited
			if err := c.post(cmd.Context(), "/store/deposits", nil, &d); err != nil {
				return err
			}
			return a.show(cmd, d, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "What the catalogue knows of %s is in the store, as of %s.\n",
					figures.Of(d.Clusters, "cluster"), when(d.At))
			})
		},
	}
}

func (a *app) storeShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "Show the store and what each cluster takes in it", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var s api.Store
			if err := c.get(cmd.Context(), "/store", &s); err != nil {
				return err
			}
			return a.show(cmd, s, func(w io.Writer) { drawStore(w, s) })
		},
	}
}

func drawStore(w io.Writer, s api.Store) {
	sealed := "no"
	if s.Encrypted {
		sealed = fmt.Sprintf("with data key %d, made %s", s.KeyNumber, when(*s.KeyMade))
	}
	looked := "never; run: velvet store audit"
	if s.Audit != nil {
		looked = fmt.Sprintf("%s, %d findings, %d of them prevent a restore", when(s.Audit.At), s.Audit.Findings, s.Audit.Costing)
	}
	second := s.Second
	if s.Trouble != "" {
		second = "cannot be reached: " + s.Trouble
	}
	facts(w, "store", s.Name, "encrypted", sealed, "second", second, "audited", looked)
	for _, l := range s.Locks {
		_, _ = fmt.Fprintf(w, "\n%s: %s.\n", l.Store, l.Text)
	}
	_, _ = fmt.Fprintln(w)
	t := grid(w, "cluster", "bases>", "hold>", "take>", "saved>", "WAL>", "journal>", "objects>")
	for _, k := range s.Clusters {
		saved := ""
		if k.Held > 0 {
			saved = fmt.Sprintf("%.1f %%", 100*(1-float64(k.Packs)/float64(k.Held)))
		}
		name := k.Cluster
		if !k.Known {
			name += " (not in the catalogue)"
		}
		t.AppendRow([]any{name, k.Backups, figures.Size(k.Held), figures.Size(k.Packs), saved, figures.Size(k.WAL), figures.Size(k.Journal),
			figures.Count(k.Objects)})
	}
	t.Render()
}

func (a *app) storeRekey() *cobra.Command {
	var file, typed, escrow string
	var besides []string
	cmd := &cobra.Command{
		Use: "rekey", Short: "Give an encrypted store another key", Args: cobra.NoArgs,
		Long: "Seal what is written from now on with a new data key, and wrap all data keys for another key file or\n" +
			"passphrase: the one before opens the store no more. Nothing that the store holds is written anew. The\n" +
			"file lies on the service's host; public keys besides it may open the store too, so that a second key can\n" +
			"be kept in a safe.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if escrow != "" {
				return a.writeKeyRecord(cmd, c, escrow)
			}
			path, err := filepath.Abs(file)
			if err != nil {
				return err
			}
			var r api.Rekeyed
			if err := c.post(cmd.Context(), "/store/key", api.RekeyRequest{File: path, Besides: besides, Confirm: typed}, &r); err != nil {
				return err
			}
			return a.show(cmd, r, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "What is written from now on is sealed with data key %d.\n%s\n", r.KeyNumber, r.Next)
			})
		},
	}
	cmd.Flags().StringVar(&escrow, "escrow", "", "change nothing, and write the record of the store's keys to this new file, here, for "+
		"a safe")
	cmd.Flags().StringVar(&file, "to", "", "file with the new key, on the service's host: an age identity or a passphrase")
	cmd.Flags().StringVar(&typed, "confirm", "", "the store, as velvet store show names it")
	cmd.Flags().StringArrayVar(&besides, "also", nil, "a public key (age1…) that may open the store too; may be repeated")
	cmd.MarkFlagsOneRequired("to", "escrow")
	cmd.MarkFlagsMutuallyExclusive("to", "escrow")
	return cmd
}

// writeKeyRecord writes the record of the store's keys to a file that is not there yet.
func (a *app) writeKeyRecord(cmd *cobra.Command, c *client, file string) error {
	var r api.KeyRecord
	if err := c.get(cmd.Context(), "/store/key", &r); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(r.Content)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return a.show(cmd, r, func(w io.Writer) {
		_, _ = fmt.Fprintf(w, "The record of the keys of %s is in %s. It opens nothing without the store's key: keep both, "+
			"apart.\nShould the store's own be lost, put this file in its place: %s in the store. Write it anew after each change of "+
			"the key.\n", r.Store, file, r.Name)
	})
}

func drawAudit(w io.Writer, r api.AuditResult) {
	how := "by presence"
	if r.Full {
		how = "every byte"
	}
	facts(w, "looked at", fmt.Sprintf("%s objects, %s, %s", figures.Count(r.Objects), figures.Size(r.Bytes), how))
	if r.Second != "" && r.Behind > 0 {
		facts(w, "second   ", fmt.Sprintf("%s does not have %s objects yet", r.Second, figures.Count(r.Behind)))
	}
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
		detail := f.Detail
		switch {
		case f.Fixed:
			detail = "fixed from the other store; " + detail
		case f.Elsewhere:
			detail = "the second store has it whole; " + detail
		}
		t.AppendRow([]any{mark, f.Kind, f.Key, strings.TrimSuffix(detail, "; ")})
	}
	t.Render()
	for _, l := range r.Losses {
		if len(l.Backups) > 0 {
			_, _ = fmt.Fprintf(w, "\n%s: these base backups cannot be restored: %s\n", l.Cluster, strings.Join(l.Backups, ", "))
		}
		for _, s := range l.Reach {
			_, _ = fmt.Fprintf(w, "\n%s can no longer be rewound to moments from %s to %s on timeline %d\n", l.Cluster, s.From,
				s.To, s.Timeline)
		}
	}
	if len(r.Losses) == 0 {
		_, _ = fmt.Fprintln(w, "\nNothing that is needed is lost.")
		return
	}
	_, _ = fmt.Fprintln(w, "\nRestores no longer use it. Moments from now on are safe with a new base backup:")
	for _, l := range r.Losses {
		_, _ = fmt.Fprintf(w, "    velvet backup take %s\n", l.Cluster)
	}
	_, _ = fmt.Fprintln(w, "If it can be brought back whole, read it again afterwards: velvet store audit --full")
}
