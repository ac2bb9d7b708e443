// Command velvet is Velvet Rewind: the service and its client.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"velvetrewind/cli"
)

// version is set when a release is built.
var version = "development"

func main() { os.Exit(run()) }

func run() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return cli.Execute(ctx, version, os.Stderr,
		cli.Others{Service: []*cobra.Command{serveCommand(), demoCommand()}, Host: hostCommands()})
}
