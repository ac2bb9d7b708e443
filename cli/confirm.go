package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"velvetrewind/engine/problem"
	"velvetrewind/service/wire"
)

func confirmFlag(cmd *cobra.Command, typed *string) {
	cmd.Flags().StringVar(typed, "confirm", "", "the cluster's name, typed to confirm; without it you are asked on a terminal")
}

// confirming does something destructive: the service says what would be lost, and
// on a terminal the user types the cluster's name to go on.
func confirming(cmd *cobra.Command, typed string, do func(name string) error) error {
	err := do(typed)
	if kindOf(err) != problem.Unconfirmed || typed != "" {
		return err
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return err
	}
	var p *wire.Problem
	_ = errors.As(err, &p)
	_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "%s\nType the cluster's name to go on: ", p.Detail)
	answer, readErr := bufio.NewReader(in).ReadString('\n')
	if readErr != nil {
		return err
	}
	return do(strings.TrimSpace(answer))
}
