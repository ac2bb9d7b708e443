package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

// TestPlanAgainstAModel draws lines of timelines, bases and boundaries: the base is the one that leaves the least to
// replay of those that lie on the way, whatever order they come in, and every byte that is replayed is read from the
// timeline that had begun by the segment's end.
func TestPlanAgainstAModel(t *testing.T) {
	const last = 40 // MiB, which are segments here
	rapid.Check(t, func(t *rapid.T) {
		target := pg.Timeline(rapid.IntRange(1, 4).Draw(t, "target"))
		var forks []pg.Fork
		at := 0
		for timeline := pg.Timeline(1); timeline < target; timeline++ {
			at += rapid.IntRange(1, last/4).Draw(t, "further")
			forks = append(forks, pg.Fork{Timeline: timeline, At: mib(at) + pg.LSN(rapid.IntRange(0, 1<<20-1).Draw(t, "within"))})
		}
		// left is where a timeline was left on the way to the target: 0 if it does not lie on it.
		left := func(timeline pg.Timeline) pg.LSN {
			switch {
			case timeline == target:
				return mib(last + 10)
			case timeline < target:
				return forks[timeline-1].At
			}
			return 0
		}
		var bases []reach.Base
		for n := range rapid.IntRange(0, 8).Draw(t, "bases") {
			start := mib(rapid.IntRange(0, last).Draw(t, "start"))
			bases = append(bases, reach.Base{ID: string(rune('a' + n)), Timeline: pg.Timeline(rapid.IntRange(1, 5).Draw(t, "of")),
				Start: start, Stop: start + mib(rapid.IntRange(1, 3).Draw(t, "long"))})
		}
		end := max(mib(rapid.IntRange(at+1, last).Draw(t, "end")), 0) + pg.LSN(rapid.IntRange(0, 2).Draw(t, "beyond")*512)
		b := moment.Boundary{Timeline: target, Stop: end, End: end}
		if rapid.Bool().Draw(t, "inclusive") {
			b.Inclusive, b.Stop = true, end-pg.LSN(rapid.IntRange(0, 1).Draw(t, "record")*40)
		}
		p, err := Make(b, bases, forks, z, have)
		var best *reach.Base
		for i, base := range bases {
			if base.Stop <= left(base.Timeline) && base.Stop <= b.End && (best == nil || base.Stop > best.Stop) {
				best = &bases[i]
			}
		}
		if best == nil {
			require.Error(t, err)
			return
		}
		require.NoError(t, err)
		chosen := bases[p.Base[0]-'a']
		assert.Equal(t, best.Stop, chosen.Stop)
		assert.LessOrEqual(t, chosen.Stop, left(chosen.Timeline))
		assert.Equal(t, chosen.Start, p.Start)

		segments := p.Segments(forks, z)
		assert.Equal(t, p.Count, len(segments))
		assert.Equal(t, z.Number(p.Start), segments[0].Number)
		needed := b.Stop // the record at the boundary must be seen to stop before it
		if b.Inclusive && b.End > b.Stop {
			needed = b.End - 1
		}
		assert.Equal(t, z.Number(needed), segments[len(segments)-1].Number)
		for i, s := range segments {
			assert.Equal(t, segments[0].Number+uint64(i), s.Number)
			want := pg.Timeline(1)
			for want < target && left(want) < z.Start(s.Number+1) {
				want++
			}
			assert.Equal(t, want, s.Timeline, "segment %d", s.Number)
		}
		missing := segments[rapid.IntRange(0, len(segments)-1).Draw(t, "missing")]
		_, err = Make(b, bases, forks, z, func(s pg.Segment) bool { return s != missing })
		assert.ErrorContains(t, err, missing.Name(z))
	})
}
