package catalog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/inventory"
	"velvetrewind/core/pg"
)

// TestNoteLosses holds that only an audit of every byte takes back what another found.
func TestNoteLosses(t *testing.T) {
	c, _ := open(t)
	k := Cluster{ID: NewID(), Name: "ferries", SegmentSize: 1 << 20}
	require.NoError(t, c.AddCluster(ctx, k))
	for _, id := range []string{"old", "new"} {
		require.NoError(t, c.AddBackup(ctx, Backup{ID: id, ClusterID: k.ID, Tablespaces: []byte("[]"), Start: 1, Stop: 2}))
	}
	noted := func(found inventory.Losses, everyByte bool) inventory.Losses {
		require.NoError(t, c.NoteLosses(ctx, k.ID, found, everyByte))
		l, err := c.Losses(ctx, k.ID)
		require.NoError(t, err)
		s, err := c.Standings(ctx, "")
		require.NoError(t, err)
		_, known := s.Lost[k.ID]
		assert.Equal(t, !l.None(), known)
		if known {
			assert.WithinDuration(t, time.Now(), l.FoundAt, time.Hour)
			assert.Len(t, s.Firsts[k.ID], 2, "reach may begin with any of them")
		}
		return l.Losses
	}
	before := time.Date(2026, 11, 25, 14, 3, 7, 0, time.UTC)
	segment := inventory.LostSegment{Segment: pg.Segment{Timeline: 1, Number: 7}, Before: before}
	damaged := inventory.Losses{Backups: []string{"old"}, Segments: []inventory.LostSegment{segment}}
	assert.True(t, noted(inventory.Losses{}, false).None())
	assert.Equal(t, damaged, noted(damaged, true))
	assert.Equal(t, damaged, noted(inventory.Losses{}, false), "who does not read it knows nothing of it")
	more := noted(inventory.Losses{Backups: []string{"new", "old"}, Segments: damaged.Segments}, false)
	assert.Equal(t, inventory.Losses{Backups: []string{"old", "new"}, Segments: damaged.Segments}, more)
	assert.Equal(t, []string{"new"}, noted(inventory.Losses{Backups: []string{"new"}}, true).Backups)
	assert.True(t, noted(inventory.Losses{}, true).None())
	assert.NoError(t, c.NoteLosses(ctx, "removed meanwhile", damaged, true))
}
