package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"velvetrewind/api"
	"velvetrewind/core/problem"
)

// Exit codes.
const (
	exitFailed  = 1
	exitUsage   = 2
	exitRefused = 3
	exitProof   = 4
)

// errProofFailed ends a command whose proof did not pass.
var errProofFailed = errors.New("the proof did not pass")

// app is what every command shares.
type app struct {
	home    string
	output  string
	version string
	began   bool // the command line made sense, and the command runs
}

func (a *app) client() (*client, error) { return newClient(a.home) }

// Others are commands that are not clients of the API.
type Others struct {
	Service []*cobra.Command
	Host    []*cobra.Command // of velvet host
}

// tree makes the command tree.
func (a *app) tree(others Others) *cobra.Command {
	root := &cobra.Command{
		Use: "velvet", Short: "Rewind PostgreSQL to the moment before the accident",
		Long: "Velvet Rewind takes base backups of PostgreSQL clusters, captures their WAL without end,\n" +
			"and makes copies of them as they were at any moment, proved.",
		SilenceErrors: true, SilenceUsage: true, Version: a.version,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if a.output != "table" && a.output != "json" {
				return fmt.Errorf("--output %q: choose table or json", a.output)
			}
			if err := cmd.ValidateRequiredFlags(); err != nil {
				return err
			}
			a.began = true
			return nil
		},
	}
	home := os.Getenv("VELVET_HOME")
	if home == "" {
		home = DefaultHome()
	}
	root.PersistentFlags().StringVar(&a.home, "home", home, "the service's home directory (VELVET_HOME)")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table or json")
	root.AddCommand(a.cluster(), a.capture(), a.backup(), a.keep(), a.calendar(), a.policy(), a.reach(), a.changes(), a.moment(),
		a.restore(), a.copy(), a.host(others.Host), a.prove(), a.rehearse(), a.rescue(), a.segment(), a.store(), a.task(), a.trail(),
		a.login(), a.versionCommand())
	root.AddCommand(others.Service...)
	return root
}

// Execute runs the command line and returns the exit code.
func Execute(ctx context.Context, version string, errOut io.Writer, others Others) int {
	a := &app{version: version}
	cmd, err := a.tree(others).ExecuteContextC(ctx)
	var deliver deliverError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &deliver):
		return deliver.report(errOut)
	case errors.Is(err, errProofFailed):
		return exitProof
	case errors.Is(err, errStoreLacks):
		return exitFailed
	}
	explain(errOut, err)
	switch {
	case !a.began: // the command line could not be understood
		_, _ = fmt.Fprintf(errOut, "Help: %s --help\n", cmd.CommandPath())
		return exitUsage
	case kindOf(err) == problem.Unconfirmed:
		return exitRefused
	}
	return exitFailed
}

// explain prints an error: what, why, and what to do next.
func explain(w io.Writer, err error) {
	w = harmless{w}
	var p *api.Problem
	if !errors.As(err, &p) {
		_, _ = fmt.Fprintf(w, "velvet: %v\n", err)
		return
	}
	_, _ = fmt.Fprintf(w, "velvet: %s\n", p.Title)
	if p.Detail != "" {
		_, _ = fmt.Fprintf(w, "  why:  %s\n", indent(p.Detail))
	}
	if p.Next != "" {
		_, _ = fmt.Fprintf(w, "  next: %s\n", indent(p.Next))
	}
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := fmt.Fprintln(cmd.OutOrStdout(), "velvet", a.version)
			return err
		},
	}
}

func (a *app) login() *cobra.Command {
	return &cobra.Command{
		Use: "login", Short: "Make a link that opens the console once", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var link api.Link
			if err := c.post(cmd.Context(), "/links", nil, &link); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s%s\nGood for one use, until %s.\n", c.base, link.Path, when(link.Expires))
			return err
		},
	}
}
