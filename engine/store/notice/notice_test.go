package notice_test

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/vault"
)

func TestNothingIsDueBeforeItsTime(t *testing.T) {
	ctx, root := context.Background(), t.TempDir()
	s, err := dir.Open(root, -1)
	require.NoError(t, err)
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	b := &notice.Board{Store: vault.Reading(s, nil, nil), Delay: 24 * time.Hour, Now: func() time.Time { return now }}
	due := func(names ...string) ([]string, time.Time) {
		t.Helper()
		due, next, err := b.Due(ctx, "c", "packs", names)
		require.NoError(t, err)
		return due, next
	}
	got, next := due("a", "b")
	assert.Empty(t, got)
	assert.Equal(t, now.Add(24*time.Hour), next)
	now = now.Add(23 * time.Hour)
	got, next = due("a", "c") // b was taken back
	assert.Empty(t, got)
	assert.Equal(t, now.Add(time.Hour), next)
	now = now.Add(time.Hour)
	got, next = due("a", "b", "c")
	assert.Equal(t, []string{"a"}, got, "b waits anew")
	assert.Equal(t, now.Add(23*time.Hour), next)

	other, _, err := b.Due(ctx, "d", "packs", []string{"a"})
	require.NoError(t, err)
	assert.Empty(t, other, "of another cluster")
	path := root + "/" + store.NoticeKey("c", "packs")
	require.NoError(t, os.Truncate(path, 40))
	got, _ = due("a", "b", "c")
	assert.Empty(t, got, "notices that cannot be read are no notices")
	now = now.Add(-100 * time.Hour)
	got, _ = due("a")
	assert.Empty(t, got)
	now = now.Add(99 * time.Hour)
	got, _ = due("a")
	assert.Equal(t, []string{"a"}, got, "a clock that was ahead did not make it wait for longer")
	got, next = due()
	assert.Empty(t, got)
	assert.Zero(t, next)
	assert.NoFileExists(t, path)
	b.Delay = 0
	got, _ = due("x")
	assert.Equal(t, []string{"x"}, got)
}
