package inventory

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// TestLossesAgainstAModel holds what is left of a cluster without what is lost: of every place in its WAL it is known
// whether it can be read, and a stretch that was cut claims no commit that lies after the cut.
func TestLossesAgainstAModel(t *testing.T) {
	const quarter = pg.LSN(pg.DefaultSegmentSize / 4)
	at := func(minute int) time.Time { return time.Date(2026, 11, 26, 9, minute, 0, 0, time.UTC) }
	rapid.Check(t, func(t *rapid.T) {
		var wal []reach.WAL
		for timeline := pg.Timeline(1); timeline <= 3; timeline++ {
			for from := 0; from < 24; {
				from += rapid.IntRange(0, 6).Draw(t, "gap")
				to := from + rapid.IntRange(1, 12).Draw(t, "long")
				wal = append(wal, reach.WAL{Timeline: timeline, Start: quarter * pg.LSN(from), End: quarter * pg.LSN(to),
					LastCommit: at(to)})
				from = to
			}
		}
		lost := Losses{}
		assert.True(t, lost.None())
		for _, n := range rapid.SliceOfDistinct(rapid.Uint64Range(0, 8), rapid.ID[uint64]).Draw(t, "lost") {
			s := LostSegment{Segment: pg.Segment{Timeline: pg.Timeline(rapid.IntRange(1, 3).Draw(t, "timeline")), Number: n},
				Before: at(rapid.IntRange(0, 40).Draw(t, "before"))}
			lost = lost.With(Losses{Segments: []LostSegment{s}}).With(Losses{Segments: []LostSegment{s}})
			assert.True(t, lost.Has(s.Segment))
			assert.False(t, lost.None())
		}
		bases := []reach.Base{{ID: "sound"}, {ID: "damaged"}}
		lost = lost.With(Losses{Backups: []string{"damaged"}})
		bases, left := lost.Without(bases, wal, pg.DefaultSegmentSize)
		assert.Equal(t, []reach.Base{{ID: "sound"}}, bases)

		holder := func(list []reach.WAL, timeline pg.Timeline, place pg.LSN) (in reach.WAL, n int) {
			for _, w := range list {
				if w.Timeline == timeline && w.Start <= place && place < w.End {
					in, n = w, n+1
				}
			}
			return in, n
		}
		for timeline := pg.Timeline(1); timeline <= 3; timeline++ {
			for q := range 40 {
				place := quarter * pg.LSN(q)
				was, want := holder(wal, timeline, place)
				if lost.Has(pg.Segment{Timeline: timeline, Number: pg.DefaultSegmentSize.Number(place)}) {
					want = 0
				}
				is, n := holder(left, timeline, place)
				assert.Equal(t, want, n, "timeline %d, %s", timeline, place)
				if n == 0 {
					continue
				}
				assert.False(t, is.LastCommit.After(was.LastCommit))
				if is.End == was.End {
					assert.Equal(t, was.LastCommit, is.LastCommit)
					continue
				}
				for _, s := range lost.Segments { // the one that it was cut at
					if s.Timeline == timeline && pg.DefaultSegmentSize.Start(s.Number) == is.End {
						assert.False(t, is.LastCommit.After(s.Before))
					}
				}
			}
		}
		for _, w := range left {
			assert.Less(t, w.Start, w.End)
		}
	})
	assert.False(t, Losses{Backups: []string{"damaged"}}.None())
	both := Losses{Backups: []string{"damaged"}, Segments: []LostSegment{{}}}
	assert.False(t, both.None())
}
