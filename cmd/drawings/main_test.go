package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDrawingsAreMade makes every drawing of the documents again: those that are committed are what their texts say.
func TestDrawingsAreMade(t *testing.T) {
	texts, err := filepath.Glob("../../docs/drawings/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, texts)
	for _, path := range texts {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		d, err := parse(strings.NewReader(string(text)))
		require.NoError(t, err, path)
		committed, err := os.ReadFile(strings.TrimSuffix(path, ".txt") + ".svg")
		require.NoError(t, err)
		assert.Equal(t, string(committed), string(d.svg()), "%s is stale: run make generate", path)
	}
	for text, says := range map[string]string{
		"row a: A | a: B":       `"a: B" is no box of its own`,
		"row a":                 `"a" is no box of its own`,
		"row a: A\n\na > b: to": `line 3: "a > b: to" is no arrow`,
	} {
		_, err := parse(strings.NewReader(text))
		assert.ErrorContains(t, err, says)
	}
}
