package fleet

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
	"velvetrewind/engine/catalog"
)

var noon = time.Date(2027, 3, 10, 12, 0, 0, 0, time.UTC)

func day(n int) time.Time { return noon.AddDate(0, 0, n) }

// rule encodes a keep rule of so many hours.
func ruleOfHours(n int) *json.RawMessage {
	raw := json.RawMessage(fmt.Sprintf(`{"spanHours": %d}`, n))
	return &raw
}

// TestPromise holds since when without a gap moments are reached against what is promised.
func TestPromise(t *testing.T) {
	outer := catalog.Policy{Name: "outer", KeepSet: ruleOfHours(48)}
	span := func(timeline pg.Timeline, from, to int) reach.Span {
		return reach.Span{Timeline: timeline, FromTime: day(from), ToTime: day(to)}
	}
	spanTo := func(timeline pg.Timeline, from, to int, end pg.LSN) reach.Span {
		s := span(timeline, from, to)
		s.To = end
		return s
	}
	for _, c := range []struct {
		name     string
		own      *json.RawMessage
		policy   *catalog.Policy
		live     pg.Timeline
		spans    []reach.Span
		held     bool
		heldFrom int // day; 1 for none
		since    int
		holes    []reach.Hole
	}{
		{"nothing yet", ruleOfHours(24), nil, 1, nil, false, 1, -1, nil},
		{"held", ruleOfHours(24), nil, 1, []reach.Span{span(1, -5, 0)}, true, -5, -1, nil},
		{"too young", ruleOfHours(240), nil, 1, []reach.Span{span(1, -5, 0)}, false, -5, -10, nil},
		{"after a gap", ruleOfHours(72), nil, 1, []reach.Span{span(1, -9, -4), span(1, -2, 0)}, false, -2, -3, nil},
		{"before a gap it does not matter", ruleOfHours(24), nil, 1, []reach.Span{span(1, -9, -4), span(1, -2, 0)}, true, -2, -1, nil},
		{"over a fork", ruleOfHours(72), nil, 2, []reach.Span{span(1, -9, -1), span(2, -1, 0)}, true, -9, -3, nil},
		{"over two forks", ruleOfHours(72), nil, 3, []reach.Span{span(1, -9, -4), span(2, -4, -1), span(3, -1, 0)}, true, -9, -3, nil},
		{"a timeline beside it leads nowhere", ruleOfHours(72), nil, 3, []reach.Span{span(1, -9, -4), span(2, -8, -2), span(3, -1, 0)},
			false, -1, -3, nil},
		{"only an old timeline", ruleOfHours(24), nil, 2, []reach.Span{span(1, -9, -1)}, false, 1, -1, nil},
		{"the policy's rule", nil, &outer, 1, []reach.Span{span(1, -5, 0)}, true, -5, -2, nil},
		{"its own rule before the policy's", ruleOfHours(240), &outer, 1, []reach.Span{span(1, -5, 0)}, false, -5, -10, nil},
		{"the default", nil, nil, 1, []reach.Span{span(1, -5, 0)}, false, -5, -31, nil},
		{"a hole that nothing has closed", ruleOfHours(24), nil, 1, []reach.Span{spanTo(1, -5, -1, 40)}, false, 1, -1,
			[]reach.Hole{{Timeline: 1, From: 40, To: 50}}},
		{"a hole on a timeline that was left", ruleOfHours(24), nil, 2, []reach.Span{spanTo(2, -5, 0, 40)}, true, -5, -1,
			[]reach.Hole{{Timeline: 1, From: 50, To: 60}}},
		{"a hole before it", ruleOfHours(24), nil, 1, []reach.Span{spanTo(1, -5, 0, 40)}, true, -5, -1,
			[]reach.Hole{{Timeline: 1, From: 10, To: 20}}},
	} {
		f := &Fleet{Now: noon}
		p, err := f.promise(catalog.Cluster{KeepSet: c.own}, c.policy, c.live, c.spans, c.holes, catalog.Backup{ID: "b"})
		require.NoError(t, err, c.name)
		assert.Equal(t, c.held, p.Held, c.name)
		assert.Equal(t, day(c.since), p.Since, c.name)
		if c.heldFrom == 1 {
			assert.Nil(t, p.HeldFrom, c.name)
		} else if assert.NotNil(t, p.HeldFrom, c.name) {
			assert.Equal(t, day(c.heldFrom), *p.HeldFrom, c.name)
		}
	}
}

// TestHoles says of each gap why it is there and when moments are reached again.
func TestHoles(t *testing.T) {
	const z = pg.SegmentSize(16 << 20)
	k := catalog.Cluster{ID: "ferries", SegmentSize: z}
	f := &Fleet{Now: noon, Standings: catalog.Standings{
		Released: map[string][]catalog.Released{"ferries": {{Stretch: catalog.Stretch{Timeline: 1, First: 3, Last: 5},
			ReleasedAt: day(-2)}}},
		Causes: map[string][]catalog.HoleCause{"ferries": {{Timeline: 1, From: z.Start(10), Cause: "the slot was lost"},
			{Timeline: 1, From: z.Start(4), Cause: "of another stretch"}}},
	}}
	hole := func(timeline pg.Timeline, from, to uint64) reach.Hole {
		return reach.Hole{Timeline: timeline, From: z.Start(from), To: z.Start(to)}
	}
	within := f.Holes(k, nil, []reach.Hole{{Timeline: 1, From: z.Start(10) + 4321, To: z.Start(12)}})
	assert.Equal(t, "the slot was lost", within[0].Cause, "a part of the segment had been captured")
	spans := []reach.Span{{Timeline: 1, From: z.Start(7), FromTime: day(-6)}, {Timeline: 1, From: z.Start(13), FromTime: day(-3)},
		{Timeline: 2, From: z.Start(30), FromTime: day(-1)}}
	list := f.Holes(k, spans, []reach.Hole{hole(1, 5, 6), hole(1, 10, 12), hole(1, 20, 25), hole(2, 3, 6)})
	require.Len(t, list, 4)
	assert.Equal(t, "deleted by the keep rule on 2027-03-08", list[0].Cause)
	assert.True(t, list[0].Meant)
	assert.Equal(t, day(-6), *list[0].Until)
	assert.Equal(t, "the slot was lost", list[1].Cause)
	assert.False(t, list[1].Meant)
	assert.Equal(t, day(-3), *list[1].Until)
	assert.Equal(t, "it was never captured", list[2].Cause)
	assert.Nil(t, list[2].Until, "nothing leads after it")
	assert.False(t, list[3].Meant, "of another timeline")
	assert.Equal(t, day(-1), *list[3].Until)
}
