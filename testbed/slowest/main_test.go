package main

import (
	"bytes"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatFailedIsPrinted reads what a go test says of this package's own tests, and of tests that fail.
func TestWhatFailedIsPrinted(t *testing.T) {
	said, err := exec.Command("go", "test", "-json", "-run", "TestMain|TestNothing", ".").Output()
	require.NoError(t, err)
	for what, c := range map[string]struct {
		in   string
		says []string
		not  string
	}{
		"passes": {string(said), []string{"ok ", "The tests that took longest"}, "FAIL"},
		"fails": {`{"Action":"output","Package":"velvetrewind/ebb","Test":"TestTide","Output":"it is too low\n"}
{"Action":"output","Package":"velvetrewind/ebb","Test":"TestCalm","Output":"a word\n"}
{"Action":"pass","Package":"velvetrewind/ebb","Test":"TestCalm","Elapsed":3}
{"Action":"fail","Package":"velvetrewind/ebb","Test":"TestTide","Elapsed":12.5}
{"Action":"output","Package":"velvetrewind/ebb","Output":"FAIL\n"}
{"Action":"fail","Package":"velvetrewind/ebb","Elapsed":13}
`, []string{"it is too low", "FAIL", "12.5  ebb TestTide\n     3.0  ebb TestCalm"}, "a word"},
		"a panic": {`{"Action":"output","Package":"velvetrewind/ebb","Test":"TestTide","Output":"panic: aground\n"}
{"Action":"fail","Package":"velvetrewind/ebb","Elapsed":13}
`, []string{"panic: aground"}, "ebb TestTide"},
		"does not build": {"# velvetrewind/ebb\nebb.go:3: undefined: tide\n", []string{"undefined: tide"}, "FAIL"},
	} {
		var out bytes.Buffer
		require.NoError(t, run(strings.NewReader(c.in), &out))
		for _, says := range c.says {
			assert.Contains(t, out.String(), says, what)
		}
		assert.NotContains(t, out.String(), c.not, what)
	}
}
