package seal

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretsAreBoundToKeyAndPurpose(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	k, err := LoadKey(file)
	require.NoError(t, err)
	again, err := LoadKey(file)
	require.NoError(t, err)
	assert.Equal(t, k, again, "the key is made once")
	sealed, err := k.Seal("low tide", "password of cluster a")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "low tide")
	open, err := again.Open(sealed, "password of cluster a")
	require.NoError(t, err)
	assert.Equal(t, "low tide", open)
	_, err = k.Open(sealed, "password of cluster b")
	assert.ErrorContains(t, err, "cannot be opened")
	_, err = Key{}.Open(sealed, "password of cluster a")
	assert.ErrorContains(t, err, "cannot be opened")
	_, err = k.Open(sealed[:5], "password of cluster a")
	assert.ErrorContains(t, err, "cut short")
	none, err := k.Open(nil, "")
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestKeyFilesThatOthersReadAreRefused(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	_, err := LoadSecret(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.Chmod(file, 0o640))
	_, err = LoadSecret(file)
	assert.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	_, err = LoadKey(file)
	assert.ErrorContains(t, err, "does not hold a key")
}
