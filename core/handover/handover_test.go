package handover_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/handover"
)

// TestSumLine has b2sum check what it is given, under names of every kind.
func TestSumLine(t *testing.T) {
	dir := t.TempDir()
	list := ""
	for _, name := range []string{"plain", "with spaces", "back\\slash", "new\nline", "return\r", "ümlaut", "*star"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600))
		sum := handover.NewSum()
		sum.Write([]byte(name))
		list += handover.SumLine(sum.Sum(nil), name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, handover.Sums), []byte(list), 0o600))
	check := exec.Command("b2sum", "--strict", "--quiet", "-c", handover.Sums)
	check.Dir = dir
	out, err := check.CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plain"), []byte("other"), 0o600))
	again := exec.Command("b2sum", "--strict", "--quiet", "-c", handover.Sums)
	again.Dir = dir
	require.Error(t, again.Run())
}
