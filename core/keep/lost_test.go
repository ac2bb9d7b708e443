package keep

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/inventory"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// keptOf is the WAL that a decision keeps.
func keptOf(d Decision) (wal []reach.WAL) {
	for _, w := range d.WAL {
		if w.Needed {
			wal = append(wal, reach.WAL{Timeline: w.Timeline, Start: w.From, End: w.To})
		}
	}
	return wal
}

// TestDecideWithLosses holds that what an audit could not read stands in for nothing:
// promised moments that can be reached without it stay so, and what was needed before
// the audit is needed still.
func TestDecideWithLosses(t *testing.T) {
	many(t, func(t *rapid.T) {
		m, r := draw(t), drawRule(t)
		before := Decide(m.h, r, m.at, time.UTC)
		var lost inventory.Losses
		for _, b := range m.h.Bases {
			if rapid.IntRange(0, 3).Draw(t, "lost") == 0 {
				lost.Backups = append(lost.Backups, b.ID)
			}
		}
		for range rapid.IntRange(0, 2).Draw(t, "segments") {
			w := rapid.SampledFrom(m.h.WAL).Draw(t, "of")
			n := rapid.Uint64Range(size.Number(w.Start), size.Number(w.End-1)).Draw(t, "number")
			lost.Segments = append(lost.Segments, inventory.LostSegment{Segment: pg.Segment{Timeline: w.Timeline, Number: n},
				Before: clock(size.Start(n))})
		}
		m.h.Lost = lost
		d := Decide(m.h, r, m.at, time.UTC)
		require.Subset(t, needed(d), needed(before))
		kept := cells(keptOf(d))
		for p := range cells(keptOf(before)) {
			require.True(t, kept[p], "%v was needed", p)
		}

		bases, wal := lost.Without(m.h.Bases, m.h.WAL, size)
		have := cells(wal)
		_, left := lost.Without(nil, keptOf(d), size)
		kept = cells(left)
		var sound, stay []reach.Base
		for _, b := range bases {
			if m.covered(b, have, b.Timeline, b.Stop) {
				sound = append(sound, b)
			}
			if slices.Contains(needed(d), b.ID) {
				stay = append(stay, b)
			}
		}
		slices.SortFunc(sound, byStopTime)
		promised := m.at.Add(-r.Span())
		if n := min(r.Count, len(sound)); n > 0 && sound[len(sound)-n].StopTime.Before(promised) {
			promised = sound[len(sound)-n].StopTime
		}
		for _, w := range wal {
			for l := w.Start; l <= w.End; l += cell {
				if (len(m.h.Forks) == 0 || w.Timeline == 1 || l >= m.h.Forks[0].At) && !clock(l).Before(promised) &&
					m.reached(bases, have, w.Timeline, l) {
					require.True(t, m.reached(stay, kept, w.Timeline, l), "timeline %d at %s is promised and was lost", w.Timeline, l)
				}
			}
		}
		if len(sound) > 0 {
			require.True(t, slices.ContainsFunc(stay, func(b reach.Base) bool { return m.covered(b, kept, b.Timeline, b.Stop) }),
				"none is left")
		} else {
			require.Len(t, needed(d), len(m.h.Bases), "nothing goes while nothing can be read")
		}
	})
}

func TestAnAuditMovesThePromise(t *testing.T) {
	h := daily(10)
	rule := Rule{SpanHours: 3 * 24}
	assert.Equal(t, []string{"d6", "d7", "d8", "d9"}, needed(Decide(h, rule, clock(day(10)), time.UTC)))
	h.Lost = inventory.Losses{Backups: []string{"d6"},
		Segments: []inventory.LostSegment{{Segment: pg.Segment{Timeline: 1, Number: size.Number(day(8) + 4*cell)},
			Before: clock(day(8) + 2*cell)}}}
	d := Decide(h, rule, clock(day(10)), time.UTC)
	assert.Equal(t, []string{"d5", "d6", "d7", "d8", "d9"}, needed(d))
	for _, b := range d.Bases {
		if b.ID == "d5" {
			assert.Equal(t, []string{"promise", "damaged"}, []string{b.Reasons[0].Kind, b.Reasons[1].Kind})
		}
	}
	assert.False(t, d.Held, "after the lost segment d9 is the first")
	assert.Equal(t, clock(day(9)+2*cell), *d.HeldFrom)
	require.Len(t, d.Before, 2)
	assert.Equal(t, d.Before[1], d.After[1])
	assert.Equal(t, clock(day(8)+2*cell), d.Before[0].ToTime, "not the newest commit of all")
}
