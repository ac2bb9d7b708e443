package dir

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/store/conformance"
)

var ctx = context.Background()

func open(t *testing.T) (*Store, string) {
	root := filepath.Join(t.TempDir(), "deep", "store")
	s, err := Open(root, -1)
	require.NoError(t, err)
	return s, root
}

func TestConformance(t *testing.T) {
	s, root := open(t)
	conformance.Run(t, s)
	left, err := os.ReadDir(root)
	require.NoError(t, err)
	assert.Empty(t, left, "an empty directory goes with its last object")
}

// TestAWriterThatDiesLeavesNoObject has a writer that is never heard of again.
func TestAWriterThatDiesLeavesNoObject(t *testing.T) {
	s, root := open(t)
	w, err := s.Create(ctx, "a/b/two")
	require.NoError(t, err)
	_, err = io.WriteString(w, "low")
	require.NoError(t, err)
	conformance.Put(t, s, "a/three", "x")
	assert.Equal(t, []string{"a/three"}, conformance.Keys(t, s, "a/"))
	require.NoError(t, s.Sweep(ctx, "a/"))
	assert.NoDirExists(t, filepath.Join(root, "a", "b"))
	_, err = s.Create(ctx, "a.unfinished")
	assert.ErrorContains(t, err, "is not a key")
}

func TestOpening(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err := Open(file, -1)
	assert.ErrorContains(t, err, "is not a directory")
	_, err = OpenExisting(filepath.Join(t.TempDir(), "nothing"))
	assert.ErrorContains(t, err, "cannot be read")
}
