package testbed

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Attack fails the test if an attack was carried out. What became of each is appended to the file that
// VELVET_ATTACKS_TABLE names, for the table of `make attacks`.
func Attack(t testing.TB, name string, carriedOut bool) {
	t.Helper()
	assert.False(t, carriedOut, "carried out: %s", name)
	path := os.Getenv("VELVET_ATTACKS_TABLE")
	if path == "" {
		return
	}
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	became := "prevented"
	if carriedOut {
		became = "carried out"
	}
	_, err = fmt.Fprintf(f, "%s\t%s\n", name, became)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}
