package testbed

import (
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
)

// packaged is the version that Debian's packages bring; the others come from
// testbed/servers, where prepare.sh has put them.
const packaged = 15

// Programs is where the programs of every supported version are, with %d for the version:
// below the temporary directory, which the servers' OS user can enter wherever the checkout
// may lie. Whoever needs them first puts them there, once for each state of the lock file.
var Programs = sync.OnceValues(func() (string, error) {
	root, err := moduleRoot()
	if err != nil {
		return "", err
	}
	lock, err := os.ReadFile(filepath.Join(root, "testbed", "servers", "package-lock.json"))
	if err != nil {
		return "", err
	}
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("velvet-test-servers-%08x", crc32.ChecksumIEEE(lock)))
	pattern := filepath.Join(dir, "%d", "bin")
	if _, err := os.Stat(dir); err == nil {
		return pattern, nil
	}
	aside, err := os.MkdirTemp(os.TempDir(), "velvet-test-servers-")
	if err != nil {
		return "", err
	}
	defer func() { _ = os.RemoveAll(aside) }()
	if err := os.Chmod(aside, 0o755); err != nil {
		return "", err
	}
	for _, v := range pg.Versions() {
		if err := install(root, aside, v.Major); err != nil {
			return "", err
		}
	}
	if err := os.Rename(aside, dir); err != nil && !os.IsExist(err) && !strings.Contains(err.Error(), "not empty") {
		return "", err // another test process was first
	}
	return pattern, nil
})

func install(root, dir string, major int) error {
	to := filepath.Join(dir, fmt.Sprint(major))
	if major == packaged {
		return os.Symlink(filepath.Dir(fmt.Sprintf(host.DefaultTools, major)), to)
	}
	from := filepath.Join(root, "testbed", "servers", "node_modules", fmt.Sprintf("pg%d", major), "native")
	if _, err := os.Stat(from); err != nil {
		return fmt.Errorf("PostgreSQL %d for the tests is not there (%w); run: ./prepare.sh tests", major, err)
	}
	if out, err := exec.Command("cp", "-a", from, to).CombinedOutput(); err != nil {
		return fmt.Errorf("copy %s: %w: %s", from, err, out)
	}
	if out, err := exec.Command("chmod", "-R", "a+rX", to).CombinedOutput(); err != nil {
		return fmt.Errorf("open %s: %w: %s", to, err, out)
	}
	return nil
}

// EachVersion runs a test on a bed of every supported version, side by side.
func EachVersion(t *testing.T, test func(t *testing.T, b *Bed)) {
	for _, v := range pg.Versions() {
		t.Run(fmt.Sprint(v.Major), func(t *testing.T) {
			t.Parallel()
			test(t, NewOf(t, v.Major))
		})
	}
}
