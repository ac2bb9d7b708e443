package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"velvetrewind/api"
	"velvetrewind/core/problem"
)

func confirmFlag(cmd *cobra.Command, typed *string) {
	cmd.Flags().StringVar(typed, "confirm", "", "the name that is asked for, typed to confirm; without it you are asked on a terminal")
}

// confirming does something destructive: the service says what would be lost, and
// on a terminal the user types the name that it asks for to go on.
func confirming(cmd *cobra.Command, typed string, do func(name string) error) error {
	err := do(typed)
	if kindOf(err) != problem.Unconfirmed || typed != "" {
		return err
	}
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return err
	}
	var p *api.Problem
	_ = errors.As(err, &p)
	_, _ = fmt.Fprintf(cmd.ErrOrStderr(), "%s\n%s\nType that name: ", p.Detail, p.Next)
	answer, readErr := bufio.NewReader(in).ReadString('\n')
	if readErr != nil {
		return err
	}
	return do(strings.TrimSpace(answer))
}

// confirmedTask begins a destructive task as confirming does, and watches it to its end.
func (a *app) confirmedTask(cmd *cobra.Command, c *client, typed string, detach bool, begin func(name string, t *api.Task) error) error {
	var t api.Task
	if err := confirming(cmd, typed, func(name string) error { return begin(name, &t) }); err != nil {
		return err
	}
	_, err := a.finish(cmd, c, t, detach)
	return err
}
