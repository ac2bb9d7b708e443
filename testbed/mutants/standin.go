package main

import (
	"bytes"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// The tool calls the go command by its name. It is given this program under that name, because it takes a fault
// that does not compile for one that was noticed, and one in a condition of a switch for one that no test covers.
const (
	goVariable    = "VELVET_MUTANTS_GO"    // the go command itself
	shareVariable = "VELVET_MUTANTS_SHARE" // of how many lines one is tried
	doesNotBuild  = 2                      // what the tool takes for a fault that cannot be tried
)

// standIn makes a directory with a go command in it that is this program.
func standIn() (dir string, err error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	if dir, err = os.MkdirTemp("", "velvet-mutants-go-*"); err != nil {
		return "", err
	}
	return dir, os.Symlink(self, filepath.Join(dir, "go"))
}

// asGo does what the go command would be asked for, and returns the exit code.
func asGo(args []string) int {
	cover := slices.Index(args, "-coverprofile")
	switch {
	case len(args) == 0 || args[0] != "test":
		return runGo(args, nil)
	case cover >= 0:
		file, pattern := args[cover+1], args[len(args)-1]
		if code := runTests(nil, pattern); code != 0 {
			return code
		}
		if err := coverLines(file, strings.TrimSuffix(pattern, "/...")); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		return 0
	}
	return runTests(args[1:len(args)-1], args[len(args)-1])
}

// runTests runs a package's tests, and ends whatever they leave behind.
func runTests(flags []string, pattern string) int {
	dir, err := os.MkdirTemp("", "velvet-mutants-tests-*")
	if err != nil || os.Chmod(dir, 0o711) != nil {
		return 1
	}
	defer func() {
		endProcesses(dir)
		_ = os.RemoveAll(dir)
	}()
	linkServers(dir)
	args := append([]string{"test", "-count=1", "-short", "-vet=off", "-ldflags=-s -w"}, endSooner(flags)...)
	args = append(args, pattern)
	if usesRapid(pattern) { // which makes a fifth of the checks when tests are to be short
		args = append(args, "-args", "-rapid.shrinktime=1ms", "-rapid.nofailfile", "-rapid.checks=500")
	}
	return runGo(args, []string{"TMPDIR=" + dir})
}

// linkServers spares tests that have a directory of their own the making of what the testbed keeps in the usual one:
// its servers of every version.
func linkServers(dir string) {
	servers, _ := filepath.Glob(filepath.Join(os.TempDir(), "velvet-test-servers-[0-9a-f]*"))
	for _, s := range servers {
		_ = os.Symlink(s, filepath.Join(dir, filepath.Base(s)))
	}
}

// endSooner has tests that never end give up before the tool kills the go command, so that what they started
// can be ended.
func endSooner(flags []string) []string {
	flags = slices.Clone(flags)
	if at := slices.Index(flags, "-timeout"); at >= 0 {
		if d, err := time.ParseDuration(flags[at+1]); err == nil {
			flags[at+1] = max(d-10*time.Second, d/2).String()
		}
	}
	return flags
}

func runGo(args, env []string) int {
	var said bytes.Buffer
	cmd := exec.Command(os.Getenv(goVariable), args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdout, cmd.Stderr = &said, &said
	err := cmd.Run()
	fmt.Print(said.String())
	var exit *exec.ExitError
	switch {
	case err == nil:
		return 0
	case strings.Contains(said.String(), "[build failed]"):
		return doesNotBuild
	case errors.As(err, &exit):
		return exit.ExitCode()
	}
	fmt.Fprintln(os.Stderr, err)
	return 1
}

// usesRapid tells whether a package's tests know the flags of property tests.
func usesRapid(pattern string) bool {
	dir := strings.TrimSuffix(strings.TrimPrefix(pattern, module+"/"), "/...")
	for up := 0; up < 4; up++ { // the tool calls from the module's root, or from the package itself
		tests, _ := filepath.Glob(filepath.Join(strings.Repeat("../", up), dir, "*_test.go"))
		for _, test := range tests {
			if content, err := os.ReadFile(test); err == nil && bytes.Contains(content, []byte(`"pgregory.net/rapid"`)) {
				return true
			}
		}
	}
	return false
}

// coverLines writes a profile by which the lines that are to be tried are covered.
func coverLines(file, root string) error {
	share, err := strconv.Atoi(os.Getenv(shareVariable))
	if err != nil {
		return err
	}
	profile := bytes.NewBufferString("mode: set\n")
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && filepath.Clean(path) != filepath.Clean(root) {
			return fs.SkipDir // packages below have tests of their own
		}
		if err != nil || d.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return err
		}
		lines, err := sourceLines(path)
		for n, line := range lines {
			if isTried(path, line, share) {
				fmt.Fprintf(profile, "%s/%s:%d.1,%d.999 1 1\n", module, filepath.ToSlash(filepath.Clean(path)), n+1, n+1)
			}
		}
		return err
	})
	if err != nil {
		return err
	}
	return os.WriteFile(file, profile.Bytes(), 0o600)
}

// isTried takes one line of so many, by its text: the same ones every time, wherever they stand.
func isTried(path, line string, share int) bool {
	h := fnv.New32a()
	fmt.Fprintf(h, "%s\t%s", filepath.ToSlash(filepath.Clean(path)), line)
	return h.Sum32()%uint32(share) == 0
}

// endProcesses ends what works in a directory, as servers do whose test did not come to its end.
func endProcesses(dir string) {
	links, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, link := range links {
		where, err := os.Readlink(link)
		if err != nil || !strings.HasPrefix(where, dir+"/") {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(link))); err == nil {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}
