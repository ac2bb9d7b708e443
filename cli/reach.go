package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"velvetrewind/service/wire"
)

func (a *app) reach() *cobra.Command {
	return a.perCluster("reach [CLUSTER]", "Show to which moments a cluster can be rewound", drawReach)
}

func drawReach(w io.Writer, k wire.Cluster) {
	if len(k.Reach) == 0 {
		_, _ = fmt.Fprintf(w, "No moment can be reached yet. Take a base backup with: velvet backup take %s\n", k.Name)
	} else {
		t := grid(w, "timeline>", "reach from", "LSN", "to", "LSN", "first base")
		for _, s := range k.Reach {
			t.AppendRow([]any{s.Timeline, when(s.FromTime), s.From, when(s.ToTime), s.To, s.Base})
		}
		t.Render()
	}
	for _, h := range k.Holes {
		_, _ = fmt.Fprintf(w, "hole on timeline %d: WAL from %s to %s was never captured\n", h.Timeline, h.From, h.To)
	}
}
