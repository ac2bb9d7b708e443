package keep

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// TestTimelinesThatForkAtOnePlace leads to a base through a timeline that was left where it began, at the border of a
// segment.
func TestTimelinesThatForkAtOnePlace(t *testing.T) {
	at := day(3)
	h := History{Size: size, Live: 3,
		WAL: []reach.WAL{
			{Timeline: 1, End: at + cell, LastCommit: clock(at)},
			{Timeline: 2, Start: at, End: at + 2*cell, LastCommit: clock(at)},
			{Timeline: 3, Start: at, End: day(6), LastCommit: clock(day(6))},
		},
		Forks: []reach.Fork{{Timeline: 2, Parent: 1, At: at}, {Timeline: 3, Parent: 2, At: at}},
		Bases: []reach.Base{{ID: "b", Timeline: 1, Start: day(1), Stop: day(1) + cell, StopTime: clock(day(1) + cell)}},
	}
	d := Decide(h, Rule{SpanHours: 24}, clock(day(6)), time.UTC)
	require.True(t, d.Held)
	kept := cells(keptOf(d))
	assert.True(t, kept[place{1, day(1) / cell}] && kept[place{1, (at - cell) / cell}] && kept[place{3, at / cell}] && kept[place{3, (day(6) - cell) / cell}])
	assert.False(t, kept[place{1, 0}], "nothing before the base leads there")
	assert.NotEmpty(t, d.Bases[0].Reasons)
	assert.Equal(t, "promise", d.Bases[0].Reasons[0].Kind)
}

// TestABaseWhoseWALHasJustArrived is like any other.
func TestABaseWhoseWALHasJustArrived(t *testing.T) {
	h := daily(3)
	h.Bases = append(h.Bases, reach.Base{ID: "new", Timeline: 1, Start: day(3) - cell, Stop: day(3), StopTime: clock(day(3))})
	for _, r := range Decide(h, Rule{Count: 1}, clock(day(3)), time.UTC).Bases[0].Reasons {
		assert.NotEqual(t, "arriving", r.Kind)
	}
}

// TestWhatACopyNeedsBesideAHole cuts at a hole what a copy replays up to it, or from it on: what lies on the other side is
// not the copy's.
func TestWhatACopyNeedsBesideAHole(t *testing.T) {
	// Pieces are quarters of a segment: the hole reaches from within segment 2 to the beginning of segment 4.
	end, begin := 2*pg.LSN(size)+cell, 4*pg.LSN(size)
	h := History{Size: size, Live: 1, WAL: []reach.WAL{{Timeline: 1, End: end}, {Timeline: 1, Start: begin, End: day(9), LastCommit: clock(day(9))}},
		Bases: []reach.Base{
			{ID: "old", Timeline: 1, Start: 0, Stop: cell, StopTime: clock(cell)},
			{ID: "torn", Timeline: 1, Start: end, Stop: begin + cell, StopTime: clock(begin + cell)}, // its WAL is in the hole
			{ID: "new", Timeline: 1, Start: day(8), Stop: day(8) + cell, StopTime: clock(day(8))},
		}}
	for _, u := range []Use{{Copy: "c", Base: "old", Timeline: 1, To: begin}, {Copy: "c", Base: "torn", Timeline: 1, To: begin + cell}} {
		h.Uses = []Use{u}
		for _, w := range Decide(h, Rule{Count: 1}, clock(day(9)), time.UTC).WAL {
			assert.LessOrEqual(t, w.First, w.Last, "every part holds something")
			for _, r := range w.Reasons {
				if r.Kind == "copy" {
					assert.Equal(t, u.Base == "old", w.To <= end, "%s: %v", u.Base, w)
				}
			}
		}
	}
}

// TestPartsThatTouchAreOne lists WAL that is needed for one thing up to a border and for another from there on as one part.
func TestPartsThatTouchAreOne(t *testing.T) {
	h := daily(9)
	seg := pg.LSN(size)
	h.Bases = append(h.Bases, reach.Base{ID: "x", Timeline: 1, Start: 4 * seg, Stop: 5 * seg, StopTime: clock(5 * seg)}, reach.Base{ID: "y", Timeline: 1, Start: 5 * seg, Stop: 6 * seg, StopTime: clock(6 * seg)})
	h.Pins = []Pin{{Base: "x"}, {Base: "y"}}
	parts := 0
	for _, w := range Decide(h, Rule{Count: 1}, clock(day(9)), time.UTC).WAL {
		if w.Needed && w.To <= day(8) {
			parts++
			assert.Equal(t, [2]uint64{4, 5}, [2]uint64{w.First, w.Last})
			assert.Len(t, w.Reasons, 2)
		}
	}
	assert.Equal(t, 1, parts)
}
