package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/engine/restore/feed"
)

// What the recovering server understands of an exit code: 1 means "there is no
// such file", which ends recovery in good order; above 125 means trouble, which
// ends the server instead of letting it take trouble for the end of the WAL.
const (
	deliverNone    = 1
	deliverTrouble = 200
)

func (a *app) segment() *cobra.Command {
	c := &cobra.Command{Use: "segment", Short: "Single WAL segments"}
	c.AddCommand(a.segmentDeliver(), a.segmentLocate(), a.segmentExtract())
	return c
}

const deliverTimeout = 5 * time.Minute

func (a *app) segmentDeliver() *cobra.Command {
	var ticket string
	cmd := &cobra.Command{
		Use: "deliver NAME PATH", Short: "Give a recovering copy one segment (its server calls this)", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, cancel := context.WithTimeout(cmd.Context(), deliverTimeout)
			defer cancel()
			if err := feed.Deliver(ctx, ticket, args[0], args[1]); err != nil {
				return deliverError{name: args[0], err: err}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&ticket, "ticket", "", "the copy's ticket file (required)")
	_ = cmd.MarkFlagRequired("ticket")
	return cmd
}

func (a *app) segmentLocate() *cobra.Command {
	var cluster string
	cmd := &cobra.Command{
		Use: "locate MOMENT", Short: "Find the segment that holds an LSN, a transaction or another moment, and whether it is here",
		Long: "Find the segment that holds an LSN, a transaction or another moment, and whether it is here." + momentHelp,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var l api.Located
			if _, err := a.askMoment(cmd, "/clusters/"+seg(cluster)+"/locate", args[0],
				func(moment string) any { return api.MomentRequest{Moment: moment} }, &l); err != nil {
				return err
			}
			return a.show(cmd, l, func(w io.Writer) { drawLocated(w, l) })
		},
	}
	a.clusterFlag(cmd, &cluster)
	return cmd
}

func drawLocated(w io.Writer, l api.Located) {
	where := map[string]string{
		"store": "in the store", "second": "in the second store alone: the first has lost it", "spool": "captured, and still in the spool",
		"hole": "in a hole", "lost": "recorded, and in no store that can be asked: see velvet store audit",
		"absent": "not here: it was never captured, or not yet",
	}[l.Where]
	if l.Where == "store" && l.InSecond != nil {
		where += map[bool]string{true: ", and in the second store", false: ", and not in the second store yet"}[*l.InSecond]
	}
	hole := ""
	if h := l.Hole; h != nil {
		hole = fmt.Sprintf("from %s to %s on timeline %d: %s", h.From, h.To, h.Timeline, h.Cause)
	}
	record := ""
	if r := l.Record; r != nil {
		record = fmt.Sprintf("%s %s from %s to %s, %d bytes, %d pages, %d page images", r.Manager, r.Kind, r.Start, r.End, r.Length,
			r.Pages, r.Images)
		if r.XID != 0 {
			record += fmt.Sprintf(", by tx %d", r.XID)
		}
	}
	facts(w, "moment", l.Moment, "LSN", l.LSN.String(), "segment", fmt.Sprintf("%s on timeline %d", l.Segment, l.Timeline), "it is", where,
		"hole", hole, "record", record)
}

// deliverError is a failed delivery, whose exit code means something to the server.
type deliverError struct {
	name string
	err  error
}

func (e deliverError) Error() string { return e.err.Error() }

func (e deliverError) report(w io.Writer) int {
	if errors.Is(e.err, feed.ErrNoSuchSegment) {
		return deliverNone
	}
	_, _ = fmt.Fprintf(w, "velvet: segment %s could not be delivered: %v\n", e.name, e.err)
	return deliverTrouble
}
