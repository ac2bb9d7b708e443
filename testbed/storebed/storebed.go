// Package storebed opens the store of a service under test from within the test. It is
// apart from testbed, which the packages that it imports are tested with.
package storebed

import (
	"context"

	"github.com/stretchr/testify/require"

	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

// Open opens the store of a service as the service does.
func Open(b *testbed.Bed, s *testbed.Service) *vault.Vault {
	return OpenAt(b, s, b.Path("home", "store"))
}

// OpenAt opens a store in another directory with a service's key, as its second one.
func OpenAt(b *testbed.Bed, s *testbed.Service, root string) *vault.Vault {
	ctx := context.Background()
	d, err := dir.Open(root, 0)
	require.NoError(b, err)
	records, err := catalog.Open(ctx, s.Catalogue)
	require.NoError(b, err)
	defer records.Close()
	installation, err := records.Installation(ctx)
	require.NoError(b, err)
	key, err := vault.LoadKey(s.StoreKey)
	require.NoError(b, err)
	v, err := vault.Open(ctx, d, vault.Options{Key: key, Installation: installation})
	require.NoError(b, err)
	return v
}
