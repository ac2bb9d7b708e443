package main

import (
	"bytes"
	"go/build"
	"os"
	"path/filepath"
	"testing"

	cdx "github.com/CycloneDX/cyclonedx-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// cache is where modules are unpacked.
func cache() string {
	if dir := os.Getenv("GOMODCACHE"); dir != "" {
		return dir
	}
	return filepath.Join(build.Default.GOPATH, "pkg", "mod")
}

// TestBillOfMaterials makes the one of this program, and refuses licences that are not allowed.
func TestBillOfMaterials(t *testing.T) {
	program, err := testbed.Program()
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, write(&out, program, "../../console/package-lock.json", cache()))
	var b cdx.BOM
	require.NoError(t, cdx.NewBOMDecoder(&out, cdx.BOMFileFormatJSON).Decode(&b))
	licences := make(map[string]string)
	for _, c := range *b.Components {
		require.NotEmpty(t, *c.Licenses, c.Name)
		licences[c.Name] = (*c.Licenses)[0].License.ID
	}
	assert.Equal(t, "MIT", licences["github.com/jackc/pgx/v5"])
	assert.Equal(t, "MPL-2.0", licences["github.com/riverqueue/river"])
	assert.Equal(t, "MIT", licences["react"])
	assert.NotContains(t, licences, "vite", "it only builds the console")

	lock := filepath.Join(t.TempDir(), "package-lock.json")
	content := `{"packages": {"": {}, "node_modules/tide": {"version": "1.0.0", "license": "AGPL-3.0-only"},
		"node_modules/ebb": {"version": "1.0.0"}}}`
	require.NoError(t, os.WriteFile(lock, []byte(content), 0o600))
	_, err = packagesOf(lock)
	assert.ErrorContains(t, err, `tide: the licence "AGPL-3.0-only" is none of those that are allowed`)
	assert.ErrorContains(t, err, "ebb: the licence")
	assert.ErrorContains(t, check("flood", nil), "cannot be told")
}
