package catalog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/audit"
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
	noted := func(found audit.Losses, everyByte bool) audit.Losses {
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
	segment := audit.LostSegment{Segment: pg.Segment{Timeline: 1, Number: 7}, Before: before}
	damaged := audit.Losses{Backups: []string{"old"}, Segments: []audit.LostSegment{segment}}
	assert.True(t, noted(audit.Losses{}, false).None())
	assert.Equal(t, damaged, noted(damaged, true))
	assert.Equal(t, damaged, noted(audit.Losses{}, false), "who does not read it knows nothing of it")
	more := noted(audit.Losses{Backups: []string{"new", "old"}, Segments: damaged.Segments}, false)
	assert.Equal(t, audit.Losses{Backups: []string{"old", "new"}, Segments: damaged.Segments}, more)
	assert.Equal(t, []string{"new"}, noted(audit.Losses{Backups: []string{"new"}}, true).Backups)
	assert.True(t, noted(audit.Losses{}, true).None())
	assert.NoError(t, c.NoteLosses(ctx, "removed meanwhile", damaged, true))
}
