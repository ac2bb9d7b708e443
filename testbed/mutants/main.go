// Command mutants puts small faults into packages, one at a time, has their tests run, and tells which faults
// nothing noticed: make mutants.
//
// Invariant: a fault counts as noticed only if tests failed or never ended. What no test covers counts as
// unnoticed. What means the same as the code itself is left out if equal.txt says so, with the reason.
package main

import (
	"bufio"
	"bytes"
	_ "embed"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// tool makes the faults and runs the tests.
const tool = "github.com/go-gremlins/gremlins/cmd/gremlins@v0.6.0"

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
	timeout := flag.Int("timeout", 10, "how many times as long as usual tests may take")
	flag.Parse()
	equal, err := readEqual(equalText)
	if err != nil {
		fail(err)
	}
	below := false
	var all []score
	for _, pkg := range flag.Args() {
		s, err := mutate(strings.Trim(pkg, "./"), *timeout, equal)
		if err != nil {
			fail(err)
		}
		below = below || s.percent() < s.bar()
		all = append(all, s)
		fmt.Println(s)
	}
	fmt.Println()
	for _, s := range all {
		for _, f := range s.survived {
			fmt.Printf("%s:%d:%d\t%s\t%s\t%s\n", f.file, f.Line, f.Column, strings.ToLower(f.Status), f.Kind, f.source)
		}
	}
	if below {
		fail(fmt.Errorf("a package's tests notice fewer faults than they must"))
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, "mutants:", err)
	os.Exit(1)
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

func mutate(pkg string, timeout int, equal map[string]bool) (score, error) {
	s := score{pkg: pkg}
	out, err := os.CreateTemp("", "velvet-mutants-*")
	if err != nil {
		return s, err
	}
	defer func() { _ = os.Remove(out.Name()) }()
	cmd := exec.Command("go", "run", tool, "unleash", "--silent", "--timeout-coefficient", fmt.Sprint(timeout), "--invert-logical", "--invert-loopctrl", "--output", out.Name(), "./"+pkg)
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
	if err := json.NewDecoder(out).Decode(&result); err != nil {
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
	case "LIVED", "NOT COVERED":
		if equal[m.key()] {
			s.equal++
			return
		}
		s.survived = append(s.survived, m)
	default: // it does not compile
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
