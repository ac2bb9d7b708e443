package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"velvetrewind/engine/agent"
)

// hostCommands are those that are given on a host.
func hostCommands() []*cobra.Command { return []*cobra.Command{hostServe(), hostJoin()} }

func hostServe() *cobra.Command {
	var format string
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the host agent: on a machine that has joined", Args: cobra.NoArgs,
		Long: "Run the host agent until it is interrupted. It connects outward to the service, and lays out copies and runs their\n" +
			"servers as HOME/host.yaml allows.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			home, err := cmd.Flags().GetString("home")
			if err != nil {
				return err
			}
			log := slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			if format == "json" {
				log = slog.New(slog.NewJSONHandler(cmd.ErrOrStderr(), nil))
			}
			limitGarbage()
			a, err := agent.Open(home, version, log)
			if err != nil {
				return err
			}
			return a.Run(cmd.Context())
		},
	}
	cmd.Flags().StringVar(&format, "log-format", "text", "text or json")
	return cmd
}

func hostJoin() *cobra.Command {
	var wordFile, copies string
	var databases []string
	cmd := &cobra.Command{
		Use: "join ADDRESS", Short: "Have this machine join a service as a host, with a word of: velvet host add", Args: cobra.ExactArgs(1),
		Long: "Have this machine join a service as a host, with the word that `velvet host add NAME` gave there. The word is asked for,\n" +
			"or read from a file. What the agent may do here is written to HOME/host.yaml, to be looked at and changed.",
		Example: "  velvet host join rewind.saltmarsh.example:8418",
		RunE: func(cmd *cobra.Command, args []string) error {
			home, err := cmd.Flags().GetString("home")
			if err != nil {
				return err
			}
			if copies == "" {
				copies = filepath.Join(home, "copies")
			}
			if copies, err = filepath.Abs(copies); err != nil {
				return err
			}
			word, err := readWord(cmd, wordFile)
			if err != nil {
				return err
			}
			name, err := agent.Join(cmd.Context(), home, args[0], word, copies, databases)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "This machine joined as %s. What its agent may do is in %s.\n"+
				"Run it with: velvet host serve --home %s\n", name, filepath.Join(home, "host.yaml"), home)
			return err
		},
	}
	cmd.Flags().StringVar(&wordFile, "word-file", "", "file with the word, or - for standard input; without it the word is asked for")
	cmd.Flags().StringSliceVar(&databases, "databases", nil, "directories below which databases lie that a copy may take the place of")
	cmd.Flags().StringVar(&copies, "copies", "", "directory for copies on this machine (HOME/copies)")
	return cmd
}

// readWord keeps the word off the command line, where others could see it.
func readWord(cmd *cobra.Command, file string) (string, error) {
	switch file {
	case "":
		in, ok := cmd.InOrStdin().(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return "", errors.New("give the word in a file: --word-file FILE, or - for standard input")
		}
		_, _ = fmt.Fprint(cmd.ErrOrStderr(), "Word: ")
		word, err := term.ReadPassword(int(in.Fd()))
		_, _ = fmt.Fprintln(cmd.ErrOrStderr())
		return string(word), err
	case "-":
		const most = 1 << 10
		line, err := bufio.NewReader(io.LimitReader(cmd.InOrStdin(), most)).ReadString('\n')
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return strings.TrimSpace(line), err
	}
	content, err := os.ReadFile(file)
	return strings.TrimSpace(string(content)), err
}
