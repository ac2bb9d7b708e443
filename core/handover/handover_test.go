package handover_test

import (
	"crypto/sha256"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/handover"
)

// TestSumLine has sha256sum check what it is given, under names of every kind.
func TestSumLine(t *testing.T) {
	dir := t.TempDir()
	list := ""
	for _, name := range []string{"plain", "with spaces", "back\\slash", "new\nline", "return\r", "ümlaut", "*star"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600))
		sum := sha256.Sum256([]byte(name))
		list += handover.SumLine(sum[:], name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, handover.Sums), []byte(list), 0o600))
	check := exec.Command("sha256sum", "--strict", "--quiet", "-c", handover.Sums)
	check.Dir = dir
	out, err := check.CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plain"), []byte("other"), 0o600))
	again := exec.Command("sha256sum", "--strict", "--quiet", "-c", handover.Sums)
	again.Dir = dir
	require.Error(t, again.Run())
}
