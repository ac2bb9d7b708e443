package reach

import (
	"cmp"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
)

// world is a small history: of each timeline which cells were captured, what its bases are, and where it left another.
type world struct {
	captured map[pg.Timeline][]bool
	stops    map[pg.Timeline][]Base
	fork     map[pg.Timeline]Fork
}

const cells = 60

// reached tells whether a place can be restored by the definition: replay begins at a base or comes from the parent,
// and all WAL from there is captured.
func (w world) reached(t pg.Timeline, place pg.LSN) bool {
	for from := place; ; from-- {
		for _, b := range w.stops[t] {
			if from == b.Start && b.Stop <= place {
				return true
			}
		}
		if f, ok := w.fork[t]; ok && f.At == from && w.reached(f.Parent, from) {
			return true
		}
		if from == 0 || !w.captured[t][from-1] {
			return false
		}
	}
}

// missing tells whether a cell lies between captured ones on the way of some captured timeline.
func (w world) missing(t pg.Timeline, cell int) bool {
	row := w.captured[t]
	f, isChild := w.fork[t]
	switch {
	case row[cell], isChild && cell < int(f.At):
		return false
	}
	before := slices.Contains(row[:cell], true) || isChild && w.begunBy(f.Parent, f.At)
	return before && (slices.Contains(row[cell:], true) || w.goesOn(t, cell))
}

// begunBy tells whether anything was captured on the way to a place, that place included.
func (w world) begunBy(t pg.Timeline, at pg.LSN) bool {
	if slices.Contains(w.captured[t][:min(int(at)+1, cells)], true) {
		return true
	}
	f, ok := w.fork[t]
	return ok && w.begunBy(f.Parent, f.At)
}

// goesOn tells whether a timeline that was left after a cell was captured, or one that was left from there.
func (w world) goesOn(t pg.Timeline, cell int) bool {
	for child, f := range w.fork {
		if f.Parent == t && int(f.At) > cell && (slices.Contains(w.captured[child], true) || w.goesOn(child, int(f.At)-1)) {
			return true
		}
	}
	return false
}

func TestReachAgainstAModel(t *testing.T) {
	when := func(place int) time.Time { return time.Date(2026, 11, 26, 0, place, 0, 0, time.UTC) }
	rapid.Check(t, func(t *rapid.T) {
		w := world{captured: map[pg.Timeline][]bool{}, stops: map[pg.Timeline][]Base{}, fork: map[pg.Timeline]Fork{}}
		var wal []WAL
		var bases []Base
		var forks []Fork
		begin := 0
		for timeline := pg.Timeline(1); timeline <= 3; timeline++ {
			if timeline > 1 {
				f := Fork{Timeline: timeline, Parent: pg.Timeline(rapid.IntRange(1, int(timeline)-1).Draw(t, "parent"))}
				// a new timeline begins with a record of its own
				begin = rapid.IntRange(int(w.fork[f.Parent].At)+1, cells-5+int(timeline)).Draw(t, "fork")
				f.At = pg.LSN(begin)
				w.fork[timeline] = f
				forks = append(forks, f)
			}
			w.captured[timeline] = make([]bool, cells)
			for range rapid.IntRange(0, 12).Draw(t, "stretches") {
				from := rapid.IntRange(begin, cells-1).Draw(t, "from")
				to := min(cells, from+rapid.IntRange(1, 12).Draw(t, "long"))
				wal = append(wal, WAL{timeline, pg.LSN(from), pg.LSN(to), when(to)})
				for cell := from; cell < to; cell++ {
					w.captured[timeline][cell] = true
				}
			}
			for range rapid.IntRange(0, 4).Draw(t, "bases") {
				start := rapid.IntRange(begin, cells-1).Draw(t, "start")
				stop := start + rapid.IntRange(1, 4).Draw(t, "stop")
				b := Base{ID: string(rune('a' + len(bases))), Timeline: timeline, Start: pg.LSN(start), Stop: pg.LSN(stop),
					StopTime: when(stop)}
				bases, w.stops[timeline] = append(bases, b), append(w.stops[timeline], b)
			}
		}
		shuffle(t, wal)
		shuffle(t, bases)
		shuffle(t, forks)
		spans, holes := Compute(bases, wal, forks)
		for timeline := pg.Timeline(1); timeline <= 3; timeline++ {
			for cell := range cells {
				place := pg.LSN(cell)
				touched := cell > 0 && w.captured[timeline][cell-1] || w.captured[timeline][cell]
				in := slices.ContainsFunc(spans, func(s Span) bool { return s.Timeline == timeline && s.From <= place && place <= s.To })
				require.Equal(t, touched && w.reached(timeline, place), in, "timeline %d, %s\nwal %v\nforks %v\nbases %v\nspans %v",
					timeline, place, wal, forks, bases, spans)
				in = slices.ContainsFunc(holes, func(h Hole) bool { return h.Timeline == timeline && h.From <= place && place < h.To })
				require.Equal(t, w.missing(timeline, cell), in, "timeline %d, %s is missing\n%v\n%v\n%v", timeline, place,
					wal, forks, holes)
			}
		}
		for _, h := range holes {
			assert.Less(t, h.From, h.To)
		}
		for _, s := range spans {
			assert.False(t, s.ToTime.Before(s.FromTime))
		}
		assert.True(t, slices.IsSortedFunc(spans, func(a, b Span) int {
			return cmp.Or(cmp.Compare(a.Timeline, b.Timeline), cmp.Compare(a.From, b.From))
		}))
		assert.True(t, slices.IsSortedFunc(holes, func(a, b Hole) int {
			return cmp.Or(cmp.Compare(a.Timeline, b.Timeline), cmp.Compare(a.From, b.From))
		}))
	})
}

func shuffle[T any](t *rapid.T, list []T) {
	for i := len(list) - 1; i > 0; i-- {
		k := rapid.IntRange(0, i).Draw(t, "order")
		list[i], list[k] = list[k], list[i]
	}
}
