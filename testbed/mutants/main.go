// Command mutants puts small faults into packages, one at a time, has their tests run, and tells which faults
// nothing noticed: make mutants.
//
// Invariant: a fault counts as noticed only if it compiles, and tests failed or never ended. Every fault is tried,
// or with -share every one on a line of so many. What means the same as the code itself is left out if equal.txt
// says so, with the reason.
package main

import (
	"bufio"
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

const (
	module = "velvetrewind"
	tool   = "github.com/go-gremlins/gremlins/cmd/gremlins@v0.6.0" // makes the faults and has the tests run
)

// bars are the least shares of faults that must be noticed, in percent, by the beginning of a package's path.
var bars = map[string]int{"core/": 85, "engine/": 75}

//go:embed equal.txt
var equalText string

// fault is one change of the code.
type fault struct {
	Kind   string `json:"type"`
	Status string `json:"status"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	file   string // path
	source string // its line
}

// key names a fault in equal.txt, whatever number its line has by now.
func (f fault) key() string {
	return fmt.Sprintf("%s\t%s\t%d\t%s", f.file, f.Kind, f.Column, f.source)
}

// score is what became of the faults of one package.
type score struct {
	pkg                   string
	noticed, equal, total int
	survived              []fault
}

func (s score) percent() int { return 100 * s.noticed / max(s.total, 1) }

func main() {
	if filepath.Base(os.Args[0]) == "go" {
		os.Exit(asGo(os.Args[1:]))
	}
	timeout := flag.Int("timeout", 10, "how many times as long as usual tests may take")
	share := flag.Int("share", 1, "of how many lines one is tried")
	flag.Parse()
	if err := run(flag.Args(), *timeout, max(*share, 1)); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run(packages []string, timeout, share int) error {
	equal, err := readEqual(equalText)
	if err != nil {
		return err
	}
	bench, err := newBench(timeout, share)
	if err != nil {
		return err
	}
	defer bench.close()
	below := false
	for _, pkg := range packages {
		s, err := bench.mutate(strings.Trim(pkg, "./"), equal)
		if err != nil {
			return err
		}
		below = below || s.total > 0 && s.percent() < s.bar()
		fmt.Println(s)
		for _, f := range s.survived {
			fmt.Printf("\t%s:%d:%d\t%s\t%s\n", f.file, f.Line, f.Column, f.Kind, f.source)
		}
	}
	if below {
		return errors.New("a package's tests notice fewer faults than they must")
	}
	return nil
}

func (s score) bar() int {
	for prefix, bar := range bars {
		if strings.HasPrefix(s.pkg, prefix) {
			return bar
		}
	}
	return 0
}

func (s score) String() string {
	return fmt.Sprintf("%-20s %4d faults, %4d noticed, %3d %%, %d mean the same", s.pkg, s.total, s.noticed, s.percent(), s.equal)
}

// readEqual reads the faults that mean the same: file, kind, column and line of source, and the reason, apart by tabs.
func readEqual(text string) (map[string]bool, error) {
	equal := make(map[string]bool)
	for n, line := range strings.Split(strings.TrimSpace(text), "\n") {
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		parts := strings.Split(line, "\t")
		if len(parts) != 5 || parts[4] == "" {
			return nil, fmt.Errorf("equal.txt, line %d: a file, a kind, a column, a line of source and a reason are wanted", n+1)
		}
		equal[strings.Join(parts[:4], "\t")] = true
	}
	return equal, nil
}

// bench is where the tool is kept, with the go command that it is given.
type bench struct {
	dir     string
	timeout int
	env     []string
}

func newBench(timeout, share int) (bench, error) {
	goCommand, err := exec.LookPath("go")
	if err != nil {
		return bench{}, err
	}
	dir, err := standIn()
	if err != nil {
		return bench{}, err
	}
	b := bench{dir: dir, timeout: timeout, env: append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), goVariable+"="+goCommand,
		shareVariable+"="+fmt.Sprint(share))}
	install := exec.Command(goCommand, "install", tool)
	install.Env = append(os.Environ(), "GOBIN="+dir) // go run would put its own go command first
	if said, err := install.CombinedOutput(); err != nil {
		b.close()
		return bench{}, fmt.Errorf("%w\n%s", err, said)
	}
	return b, nil
}

func (b bench) close() { _ = os.RemoveAll(b.dir) }

func (b bench) mutate(pkg string, equal map[string]bool) (score, error) {
	s := score{pkg: pkg}
	report := filepath.Join(b.dir, "report")
	if err := os.WriteFile(report, nil, 0o600); err != nil {
		return s, err
	}
	cmd := exec.Command(filepath.Join(b.dir, "gremlins"), "unleash", "--silent", "--timeout-coefficient", fmt.Sprint(b.timeout),
		"--invert-logical", "--invert-loopctrl", "--output", report, "./"+pkg)
	cmd.Env = b.env
	said, err := cmd.CombinedOutput()
	if err != nil {
		return s, fmt.Errorf("%s: %w\n%s", pkg, err, said)
	}
	var result struct {
		Files []struct {
			Name      string  `json:"file_name"`
			Mutations []fault `json:"mutations"`
		} `json:"files"`
	}
	content, err := os.ReadFile(report)
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(content, &result); err != nil {
		return s, fmt.Errorf("%s: %w\n%s", pkg, err, said)
	}
	for _, f := range result.Files {
		lines, err := sourceLines(filepath.Join(pkg, f.Name))
		if err != nil {
			return s, err
		}
		for _, m := range f.Mutations {
			m.file, m.source = filepath.Join(pkg, f.Name), lines[m.Line-1]
			s.count(m, equal)
		}
	}
	slices.SortFunc(s.survived, func(a, b fault) int {
		return strings.Compare(fmt.Sprintf("%s %6d", a.file, a.Line), fmt.Sprintf("%s %6d", b.file, b.Line))
	})
	return s, nil
}

func (s *score) count(m fault, equal map[string]bool) {
	switch m.Status {
	case "KILLED", "TIMED OUT":
		s.noticed++
	case "LIVED":
		if equal[m.key()] {
			s.equal++
			return
		}
		s.survived = append(s.survived, m)
	default: // it does not compile, or its line is not tried
		return
	}
	s.total++
}

func sourceLines(path string) (lines []string, err error) {
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	for scan := bufio.NewScanner(bytes.NewReader(content)); scan.Scan(); {
		lines = append(lines, strings.TrimSpace(scan.Text()))
	}
	return lines, nil
}
