// Command slowest reads what go test -json says, passes on what go test would print, and then lists the tests that took
// longest.
//
// Invariant: nothing that a failed test or package said is left out. Whether the tests passed is go test's to say.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
)

const listed = 20

// event is a line of go test -json.
type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64 // seconds
}

type took struct {
	name    string
	seconds float64
}

func main() {
	if err := run(os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "slowest:", err)
		os.Exit(1)
	}
}

func run(in io.Reader, out io.Writer) error {
	said := make(map[string][]string) // by package and test, until it has ended
	var all []took
	lines := bufio.NewReader(in)
	for {
		line, err := lines.ReadString('\n')
		if line != "" {
			var e event
			if json.Unmarshal([]byte(line), &e) != nil {
				_, _ = fmt.Fprint(out, line) // of the compiler, say
			} else if t, ended := follow(e, said, out); ended {
				all = append(all, t)
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	slices.SortFunc(all, func(a, b took) int { return int(1000 * (b.seconds - a.seconds)) })
	_, _ = fmt.Fprintln(out, "\nThe tests that took longest, in seconds:")
	for _, t := range all[:min(len(all), listed)] {
		_, _ = fmt.Fprintf(out, "%8.1f  %s\n", t.seconds, t.name)
	}
	return nil
}

// follow takes an event in, and prints what a failed test, or a package, has said. It tells of a test that has ended.
func follow(e event, said map[string][]string, out io.Writer) (t took, ended bool) {
	key := e.Package + " " + e.Test
	switch e.Action {
	case "output", "build-output":
		if e.Test == "" {
			_, _ = fmt.Fprint(out, e.Output)
		} else {
			said[key] = append(said[key], e.Output)
		}
	case "fail", "pass", "skip":
		if e.Test == "" {
			// What began and never came to an end failed with its package.
			for left, text := range said {
				if e.Action == "fail" && strings.HasPrefix(left, e.Package+" ") {
					_, _ = fmt.Fprint(out, strings.Join(text, ""))
				}
			}
			return t, false
		}
		if e.Action == "fail" {
			_, _ = fmt.Fprint(out, strings.Join(said[key], ""))
		}
		delete(said, key)
		return took{strings.TrimPrefix(e.Package, "velvetrewind/") + " " + e.Test, e.Elapsed}, true
	}
	return t, false
}
