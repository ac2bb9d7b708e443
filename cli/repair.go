package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/figures"
)

func (a *app) restoreRepair() *cobra.Command {
	var in api.RepairRequest
	cmd := &cobra.Command{
		Use: "repair CLUSTER", Short: "Lay right files over damaged or lost ones of a stopped cluster",
		Long: "Lay right files over damaged or lost ones of a cluster whose server is stopped, and only those. Every file is\n" +
			"compared with the newest base backup, and with what the WAL says has changed since; what is wrong is replaced, and\n" +
			"kept beside. Then the server is started, and recovers to its own latest: nothing that was committed is lost.",
		Example: "  velvet restore repair ferries --plan\n" +
			"  velvet restore repair ferries --tablespace /srv/fast --confirm ferries",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeClusters,
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			path, look := "/clusters/"+seg(args[0])+"/repair", in.Plan
			begin := func(name string, t *api.Task) error {
				in.Confirm = name
				return c.post(cmd.Context(), path, in, t)
			}
			if look || in.Confirm == "" { // the word is for what is shown
				in.Plan = true
				planned, err := a.repairTask(cmd, c, "", begin)
				if err != nil {
					return err
				}
				if look {
					return a.show(cmd, planned, func(w io.Writer) { drawRepair(w, planned) })
				}
				drawRepair(cmd.ErrOrStderr(), planned)
				in.Plan = false
			}
			done, err := a.repairTask(cmd, c, in.Confirm, begin)
			if err != nil {
				return err
			}
			return a.show(cmd, done, func(w io.Writer) { drawRepair(w, done) })
		},
	}
	cmd.Flags().BoolVar(&in.Plan, "plan", false, "show what is wrong and what would be done, changing nothing")
	cmd.Flags().StringSliceVar(&in.Tablespaces, "tablespace", nil, "only this one, by its oid or where it lies; may be given several times")
	cmd.Flags().StringSliceVar(&in.Relations, "relation", nil,
		"only this one, by its file as the server names it (base/16384/16385), or as DATABASE.SCHEMA.NAME; may be given several times")
	cmd.Flags().BoolVar(&in.NoStart, "no-start", false, "leave the server stopped afterwards")
	confirmFlag(cmd, &in.Confirm)
	return cmd
}

// repairTask begins a repair, or the plan of one, and reads its outcome.
func (a *app) repairTask(cmd *cobra.Command, c *client, typed string, begin func(string, *api.Task) error) (r api.Repair, err error) {
	var t api.Task
	if err := confirming(cmd, typed, func(name string) error { return begin(name, &t) }); err != nil {
		return r, err
	}
	if t, err = watch(cmd.Context(), c, t, cmd.ErrOrStderr()); err != nil {
		return r, err
	}
	encoded, err := json.Marshal(t.Outcome)
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(encoded, &r)
}

// mostShown is how many files are listed at most.
const mostShown = 40

func drawRepair(w io.Writer, r api.Repair) {
	wrong, renewed := []api.RepairFile{}, 0
	var bytes int64
	for _, f := range r.Findings {
		if f.Renewed {
			renewed++
			continue
		}
		wrong = append(wrong, f)
		bytes += f.Bytes
	}
	list := []string{"cluster", r.Cluster, "directory", r.Directory,
		"compared with", "base " + r.Base + " and the WAL from " + r.From.String() + " to " + r.To.String(),
		"compared", figures.Of(int(r.Files), "file") + ", " + figures.Size(r.Bytes),
		"left as they are", figures.Of(int(r.Newer), "page") + " that the WAL since the base changes, and that are whole"}
	if r.Strict != "" {
		list = append(list, "none of them", r.Strict)
	}
	verb := map[bool]string{true: "to be replaced", false: "replaced"}[r.Planned]
	list = append(list, "wrong", fmt.Sprintf("%s; %s %s", figures.Of(len(wrong)+r.More, "file"), figures.Size(bytes), verb))
	if renewed > 0 {
		list = append(list, "made anew", figures.Of(renewed, "file")+" of transaction states and the like, from the base's by replay: "+
			"nothing says whether they are right")
	}
	if n := len(r.Segments); n > 0 {
		which := r.Segments[0]
		if n > 1 {
			which += " to " + r.Segments[n-1]
		}
		list = append(list, "WAL files", fmt.Sprintf("%d lacking in pg_wal, or other than captured: %s", n, which))
	}
	if len(r.Aside) > 0 {
		list = append(list, "kept beside", strings.Join(r.Aside, "\n"))
	}
	if !r.Planned {
		list = append(list, "server", map[bool]string{true: "runs, and has recovered to its latest",
			false: "is stopped, and can be started"}[r.Started])
	}
	facts(w, list...)
	if len(wrong) == 0 {
		return
	}
	_, _ = fmt.Fprintln(w)
	t := grid(w, "file", "what is wrong", "written>")
	for _, f := range wrong[:min(len(wrong), mostShown)] {
		written := figures.Size(f.Bytes)
		switch {
		case f.Removed:
			written = "moved aside"
		case f.Bytes == 0 && f.Missing:
			written = "made"
		case f.Bytes == 0:
			written = "cut off"
		case f.Pages > 0:
			written = figures.Of(int(f.Pages), "page")
		}
		t.AppendRow([]any{f.Path, f.Why, written})
	}
	t.Render()
	if n := len(wrong) - mostShown + r.More; n > 0 {
		_, _ = fmt.Fprintf(w, "and %s more: --output json\n", figures.Of(n, "file"))
	}
}
