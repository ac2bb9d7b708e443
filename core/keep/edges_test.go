package keep

import (
	"fmt"
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
	assert.True(t, kept[place{1, day(1) / cell}] && kept[place{1, (at - cell) / cell}] && kept[place{3, at / cell}] &&
		kept[place{3, (day(6) - cell) / cell}])
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
	h := History{Size: size, Live: 1, WAL: []reach.WAL{{Timeline: 1, End: end},
		{Timeline: 1, Start: begin, End: day(9), LastCommit: clock(day(9))}},
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
	h.Bases = append(h.Bases, reach.Base{ID: "x", Timeline: 1, Start: 4 * seg, Stop: 5 * seg, StopTime: clock(5 * seg)},
		reach.Base{ID: "y", Timeline: 1, Start: 5 * seg, Stop: 6 * seg, StopTime: clock(6 * seg)})
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

// TestTheEndOfARunWithoutCommits keeps the WAL after a base of which it is known only by the base that it is of the
// promised time: nothing committed there. Only a base of that very stretch tells, wherever in it.
func TestTheEndOfARunWithoutCommits(t *testing.T) {
	for what, c := range map[string]struct {
		start, stop pg.LSN
		timeline    pg.Timeline
		tells       bool
		of          pg.LSN // a piece of the stretch that the base itself does not need
	}{
		"within":              {day(1), day(2), 1, true, day(3) - cell},
		"from its beginning":  {day(0), day(2), 1, true, day(3) - cell},
		"to its end":          {day(2), day(3), 1, true, day(2) - cell},
		"of another timeline": {day(1), day(2), 2, false, day(3) - cell},
		"of another stretch":  {day(5), day(6), 1, false, day(3) - cell},
		"from before the end": {day(2), day(3) + cell, 1, false, day(3) - cell},
	} {
		h := History{Size: size, Live: 2, WAL: []reach.WAL{
			{Timeline: 1, Start: day(0), End: day(3), LastCommit: clock(day(0))},
			{Timeline: 1, Start: day(5), End: day(7), LastCommit: clock(day(0))},
			{Timeline: 2, Start: day(1), End: day(9), LastCommit: clock(day(9))},
		}, Forks: []reach.Fork{{Timeline: 2, Parent: 1, At: day(1)}}, Bases: []reach.Base{
			{ID: "first", Timeline: 1, Start: day(0), Stop: day(0) + cell, StopTime: clock(day(0) + cell)},
			{ID: "quiet", Timeline: c.timeline, Start: c.start, Stop: c.stop, StopTime: clock(day(4))},
			{ID: "new", Timeline: 2, Start: day(8), Stop: day(8) + cell, StopTime: clock(day(8))},
		}}
		for since, kept := range map[pg.LSN]bool{day(4) - cell: c.tells, day(4): c.tells && what != "to its end", day(4) + cell: false} {
			hours := int(clock(day(9)).Sub(clock(since)).Hours())
			d := Decide(h, Rule{SpanHours: hours}, clock(day(9)), time.UTC)
			assert.Equal(t, kept, cells(keptOf(d))[place{1, c.of / cell}], "%s, since %s", what, since)
		}
	}
}

// TestAnEmptyStretch takes no notice of WAL of which nothing is there.
func TestAnEmptyStretch(t *testing.T) {
	h := daily(9)
	want := Decide(h, Rule{Count: 2}, clock(day(9)), time.UTC)
	h.WAL = append(h.WAL, reach.WAL{Timeline: 1, Start: day(40), End: day(40), LastCommit: clock(day(9))},
		reach.WAL{Timeline: 3, Start: day(2), End: day(2)})
	assert.Equal(t, want, Decide(h, Rule{Count: 2}, clock(day(9)), time.UTC))
	for _, b := range want.Bases {
		for _, r := range b.Reasons {
			assert.NotEqual(t, "span", r.Kind, "a number of base backups is no span")
			assert.False(t, b.ID == "d8" && r.Kind == "promise", "no span begins now")
		}
	}
}

// TestPeriodsAreOfTheZone takes the first of a day as the zone counts days.
func TestPeriodsAreOfTheZone(t *testing.T) {
	far := time.FixedZone("far", 10*3600)
	h := History{Size: size, Live: 1, WAL: []reach.WAL{{Timeline: 1, End: day(5), LastCommit: clock(day(5))}}}
	for n := range 39 { // every three hours
		at := cell * pg.LSN(n+1)
		h.Bases = append(h.Bases, reach.Base{ID: fmt.Sprint(n + 1), Timeline: 1, Start: at - cell, Stop: at, StopTime: clock(at)})
	}
	for zone, want := range map[*time.Location][]string{time.UTC: {"16", "24", "32", "39"}, far: {"21", "29", "37", "39"}} {
		d := Decide(h, Rule{Count: 1, Daily: 3}, clock(day(5)), zone)
		assert.Equal(t, want, needed(d), zone)
	}
}

// A base of which the end has been recorded before the WAL that leads there was seen.
func TestArrivingBaseStays(t *testing.T) {
	h := daily(50)
	h.Bases = append(h.Bases, reach.Base{ID: "new", Timeline: 1, Start: day(50) - cell, Stop: day(50) + cell, StopTime: clock(day(50))})
	d := Decide(h, Rule{Count: 1}, clock(day(50)), time.UTC)
	assert.Equal(t, []string{"d49", "new"}, needed(d))
}
