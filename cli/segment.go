package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"velvetrewind/engine/feed"
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
	c.AddCommand(a.segmentDeliver())
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
