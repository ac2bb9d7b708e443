package main

import (
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"velvetrewind/demo"
)

// demoCommand plays the Saltmarsh Ferries scenario.
func demoCommand() *cobra.Command {
	opt := demo.Options{Dir: filepath.Join(os.TempDir(), "velvet-demo")}
	cmd := &cobra.Command{
		Use: "demo", Short: "Play the whole job once on sample data: protect, delete by accident, rewind, prove", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			program, err := os.Executable()
			if err != nil {
				return err
			}
			opt.Program, opt.Out = program, cmd.OutOrStdout()
			return demo.Run(cmd.Context(), opt)
		},
	}
	cmd.Flags().StringVar(&opt.Dir, "dir", opt.Dir, "directory for the demo's servers and store; made anew at each run")
	cmd.Flags().BoolVar(&opt.Once, "once", false, "end after the job instead of serving the console")
	return cmd
}
