package keep

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

const (
	size = pg.SegmentSize(1 << 20)
	cell = pg.LSN(1 << 18) // the model's smallest piece of WAL: a quarter of a segment
)

var zero = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

// clock is when the model's WAL was written: three hours a piece.
func clock(l pg.LSN) time.Time { return zero.Add(time.Duration(l/cell) * 3 * time.Hour) }

// model answers by looking at every piece.
type model struct {
	h  History
	at time.Time
}

type place struct {
	timeline pg.Timeline
	cell     pg.LSN
}

func cells(wal []reach.WAL) map[place]bool {
	set := make(map[place]bool)
	for _, w := range wal {
		for l := w.Start; l < w.End; l += cell {
			set[place{w.Timeline, l / cell}] = true
		}
	}
	return set
}

// covered tells whether a base leads to a place through pieces that are all there.
func (m model) covered(b reach.Base, have map[place]bool, timeline pg.Timeline, to pg.LSN) bool {
	for timeline != b.Timeline {
		at := pg.LSN(0)
		parent := pg.Timeline(0)
		for _, f := range m.h.Forks {
			if f.Timeline == timeline {
				at, parent = f.At, f.Parent
			}
		}
		if parent == 0 || at > to {
			return false
		}
		for l := at; l < to; l += cell {
			if !have[place{timeline, l / cell}] {
				return false
			}
		}
		timeline, to = parent, at
	}
	if b.Stop > to {
		return false
	}
	for l := b.Start; l < to; l += cell {
		if !have[place{timeline, l / cell}] {
			return false
		}
	}
	return true
}

func (m model) reached(bases []reach.Base, have map[place]bool, timeline pg.Timeline, to pg.LSN) bool {
	return slices.ContainsFunc(bases, func(b reach.Base) bool { return m.covered(b, have, timeline, to) })
}

// draw makes a random history: WAL with holes, perhaps a second timeline, bases, some
// of them broken by a hole, pins and copies.
func draw(t *rapid.T) model {
	h := History{Size: size, Live: 1}
	end := pg.LSN(rapid.IntRange(4, 80).Draw(t, "pieces")) * cell
	fork := pg.LSN(0)
	if rapid.IntRange(0, 2).Draw(t, "fork") == 0 {
		h.Live = 2
		fork = pg.LSN(rapid.IntRange(1, int(end/cell)).Draw(t, "fork at")) * cell
		h.Forks = []reach.Fork{{Timeline: 2, Parent: 1, At: fork}}
	}
	stretch := func(timeline pg.Timeline, from, to pg.LSN) {
		if from >= to {
			return
		}
		h.WAL = append(h.WAL, reach.WAL{Timeline: timeline, Start: from, End: to, LastCommit: clock(to)})
	}
	lost := func(timeline pg.Timeline, from, to pg.LSN) { // up to two holes of whole segments
		for range rapid.IntRange(0, 2).Draw(t, "holes") {
			n := pg.LSN(rapid.IntRange(0, int(to/pg.LSN(size))).Draw(t, "hole")) * pg.LSN(size)
			if n <= from || n+pg.LSN(size) >= to {
				continue
			}
			stretch(timeline, from, n)
			from = n + pg.LSN(size)
		}
		stretch(timeline, from, to)
	}
	lost(1, 0, end)
	if fork > 0 {
		lost(2, size.Start(size.Number(fork)), fork+pg.LSN(rapid.IntRange(1, 40).Draw(t, "more"))*cell)
	}
	for i := range rapid.IntRange(0, 12).Draw(t, "bases") {
		w := rapid.SampledFrom(h.WAL).Draw(t, "in")
		from := max(w.Start, fork*pg.LSN(w.Timeline-1)) / cell
		if from+1 > w.End/cell {
			continue
		}
		start := pg.LSN(rapid.IntRange(int(from), int(w.End/cell)-1).Draw(t, "start"))
		stop := start + pg.LSN(rapid.SampledFrom([]int{1, 2, 3, 5, 30}).Draw(t, "long"))
		if w.Timeline == h.Live && w != h.WAL[len(h.WAL)-1] {
			stop = min(stop, w.End/cell) // only of the newest WAL more is still to come
		}
		h.Bases = append(h.Bases, reach.Base{ID: fmt.Sprintf("b%d", i), Timeline: w.Timeline, Start: start * cell, Stop: stop * cell,
			StopTime: clock(stop * cell)})
	}
	last := pg.LSN(0)
	for _, w := range h.WAL {
		last = max(last, w.End)
	}
	m := model{h: h, at: clock(last).Add(time.Duration(rapid.IntRange(0, 100).Draw(t, "later")) * time.Hour)}
	if len(h.Bases) > 0 {
		for range rapid.IntRange(0, 2).Draw(t, "pins") {
			until := m.at.Add(time.Duration(rapid.IntRange(-20, 20).Draw(t, "until")) * time.Hour)
			m.h.Pins = append(m.h.Pins, Pin{Base: rapid.SampledFrom(h.Bases).Draw(t, "pinned").ID, Reason: "audit", Until: until})
		}
		for range rapid.IntRange(0, 2).Draw(t, "copies") {
			b := rapid.SampledFrom(h.Bases).Draw(t, "used")
			timeline := rapid.SampledFrom([]pg.Timeline{b.Timeline, h.Live}).Draw(t, "on timeline")
			least := 0
			if timeline != b.Timeline {
				least = 1 // of a copy that ends at the fork itself the server reads the child's segment, too
			}
			to := max(b.Stop, fork*pg.LSN(timeline-1)) + pg.LSN(rapid.IntRange(least, 30).Draw(t, "on"))*cell
			if m.covered(b, cells(h.WAL), timeline, to) {
				m.h.Uses = append(m.h.Uses, Use{Copy: "c1", Base: b.ID, Timeline: timeline, To: to})
			}
		}
	}
	return m
}

func drawRule(t *rapid.T) Rule {
	n := func(name string, most int) int { return max(0, rapid.IntRange(-most, most).Draw(t, name)) }
	r := Rule{SpanHours: n("span", 200), Count: n("count", 4), Daily: n("daily", 3), Weekly: n("weekly", 3), Monthly: n("monthly", 2),
		Yearly: n("yearly", 2)}
	if r.SpanHours == 0 && r.Count == 0 {
		r.SpanHours = 24
	}
	return r
}

// TestDecide holds over random histories and rules that every promised moment stays
// reachable, and that nothing is kept of which the loss would cost nothing.
func TestDecide(t *testing.T) {
	many(t, func(t *rapid.T) {
		m, r := draw(t), drawRule(t)
		require.NoError(t, r.Check())
		d := Decide(m.h, r, m.at, time.UTC)
		tiles(t, m.h, d)
		have, kept := cells(m.h.WAL), make(map[place]bool)
		for _, w := range d.WAL {
			require.NotEmpty(t, w.Reasons)
			if w.Needed {
				for p := range cells([]reach.WAL{{Timeline: w.Timeline, Start: w.From, End: w.To}}) {
					kept[p] = true
				}
			}
		}
		var sound, stay []reach.Base
		for _, b := range m.h.Bases {
			if m.covered(b, have, b.Timeline, b.Stop) {
				sound = append(sound, b)
			}
			if slices.ContainsFunc(d.Bases, func(v Base) bool { return v.ID == b.ID && v.Needed }) {
				stay = append(stay, b)
			}
		}
		slices.SortFunc(sound, byStopTime)
		promised := m.at.Add(-r.Span())
		if n := min(r.Count, len(sound)); n > 0 && sound[len(sound)-n].StopTime.Before(promised) {
			promised = sound[len(sound)-n].StopTime
		}
		forks := m.h.Forks
		exists := func(tl pg.Timeline, l pg.LSN) bool { // a child's WAL before the fork is its parent's
			return len(forks) == 0 || tl == 1 || l >= forks[0].At
		}
		moments := func(visit func(tl pg.Timeline, to pg.LSN)) {
			for _, w := range m.h.WAL {
				for l := w.Start; l <= w.End; l += cell {
					if exists(w.Timeline, l) {
						visit(w.Timeline, l)
					}
				}
			}
		}
		within := func(spans []reach.Span, tl pg.Timeline, l pg.LSN) bool {
			return slices.ContainsFunc(spans, func(s reach.Span) bool { return s.Timeline == tl && s.From <= l && l <= s.To })
		}
		moments(func(tl pg.Timeline, l pg.LSN) {
			if tl == 1 || l > forks[0].At { // where it begins a timeline is its parent
				require.Equal(t, m.reached(m.h.Bases, have, tl, l), within(d.Before, tl, l), "timeline %d at %s, now", tl, l)
				require.Equal(t, m.reached(stay, kept, tl, l), within(d.After, tl, l), "timeline %d at %s, afterwards", tl, l)
			}
			if !clock(l).Before(promised) && m.reached(m.h.Bases, have, tl, l) {
				require.True(t, m.reached(stay, kept, tl, l), "timeline %d at %s is promised and was lost", tl, l)
			}
		})
		for _, b := range stay {
			if m.covered(b, have, b.Timeline, b.Stop) {
				require.True(t, m.covered(b, kept, b.Timeline, b.Stop), "%s cannot be made consistent", b.ID)
			}
		}
		m.heldForOthers(t, stay, kept, have)
		if len(sound) > 0 {
			require.True(t, slices.ContainsFunc(stay, func(b reach.Base) bool { return m.covered(b, kept, b.Timeline, b.Stop) }),
				"none is left")
			nothingTooMuch(t, m, d, r, sound, stay, kept, promised)
		}
	})
}

// many draws more often than rapid would: what goes wrong here needs several things to come together.
func many(t *testing.T, property func(*rapid.T)) {
	for range 10 {
		rapid.Check(t, property)
	}
}

// tiles holds that a decision speaks of every segment of each stretch once, in order, and changes its mind between them.
func tiles(t *rapid.T, h History, d Decision) {
	parts := d.WAL
	for _, run := range reach.Join(h.WAL) {
		from, first := run.Start, size.Number(run.Start)
		for from < run.End {
			require.NotEmpty(t, parts, "nothing is said of %s on timeline %d", from, run.Timeline)
			w := parts[0]
			require.Equal(t, run.Timeline, w.Timeline)
			require.Equal(t, first, w.First)
			require.Equal(t, from, w.From)
			require.LessOrEqual(t, w.First, w.Last)
			require.Equal(t, min(run.End, size.Start(w.Last+1)), w.To)
			from, first, parts = w.To, w.Last+1, parts[1:]
			if len(parts) > 0 && from < run.End {
				require.False(t, !w.Needed && !parts[0].Needed, "what goes together is one part")
			}
		}
	}
	require.Empty(t, parts)
}

// heldForOthers looks that everything is kept which no rule asks for: pinned bases, what copies are made from and
// replay, and what base backups need that are not complete yet, or not even begun.
func (m model) heldForOthers(t *rapid.T, stay []reach.Base, kept, have map[place]bool) {
	base := func(id string) reach.Base {
		i := slices.IndexFunc(stay, func(b reach.Base) bool { return b.ID == id })
		require.NotEqual(t, -1, i, "%s was deleted", id)
		return stay[i]
	}
	for _, p := range m.h.Pins {
		if p.Until.IsZero() || m.at.Before(p.Until) {
			base(p.Base)
		}
	}
	for _, u := range m.h.Uses {
		require.True(t, m.covered(base(u.Base), kept, u.Timeline, u.To), "copy of %s to %s on timeline %d", u.Base, u.To, u.Timeline)
	}
	live := m.h.WAL[len(m.h.WAL)-1]
	if live.Timeline != m.h.Live {
		return
	}
	from := live.End // from where on all of the newest WAL is needed
	for _, b := range m.h.Bases {
		if b.Timeline == live.Timeline && b.Start >= live.Start && b.Stop > live.End {
			base(b.ID)
			from = min(from, b.Start)
		}
	}
	if !m.reached(m.h.Bases, have, live.Timeline, live.End) {
		from = live.Start
	}
	for l := from; l < live.End; l += cell {
		require.True(t, kept[place{live.Timeline, l / cell}], "%s of the newest WAL", l)
	}
}

// nothingTooMuch takes each kept segment away and looks whether anything is lost by it.
func nothingTooMuch(t *rapid.T, m model, d Decision, r Rule, sound, stay []reach.Base, kept map[place]bool, promised time.Time) {
	newest := sound[len(sound)-1]
	liveHasBase := false
	for _, b := range d.Bases {
		liveHasBase = liveHasBase || slices.ContainsFunc(b.Reasons, func(r Reason) bool { return r.Kind == "last" }) &&
			b.Timeline == m.h.Live
		if !b.Needed {
			continue
		}
		base := m.h.Bases[slices.IndexFunc(m.h.Bases, func(x reach.Base) bool { return x.ID == b.ID })]
		asked := r.SpanHours > 0 && !b.StopTime.Before(m.at.Add(-r.Span())) || !b.StopTime.Before(promised) || b.ID == newest.ID
		for _, reason := range b.Reasons {
			switch reason.Kind {
			case "day", "week", "month", "year", "pin", "copy", "last", "arriving":
				asked = true
			case "promise":
				asked = asked || m.leads(base, sound, promised)
			}
		}
		require.True(t, asked, "%s is kept for %v", b.ID, b.Reasons)
	}
	for _, w := range d.WAL {
		if !w.Needed || slices.ContainsFunc(w.Reasons, func(r Reason) bool { return r.Kind == "last" || r.Kind == "arriving" }) {
			continue // for safety, and tested by itself
		}
		for n := w.First; n <= w.Last; n++ {
			without := make(map[place]bool)
			for p := range kept {
				if p.timeline != w.Timeline || size.Number(p.cell*cell) != n {
					without[p] = true
				}
			}
			broken := slices.ContainsFunc(stay, func(b reach.Base) bool {
				return m.covered(b, kept, b.Timeline, b.Stop) && !m.covered(b, without, b.Timeline, b.Stop)
			}) || slices.ContainsFunc(m.h.Uses, func(u Use) bool {
				i := slices.IndexFunc(stay, func(b reach.Base) bool { return b.ID == u.Base })
				return !m.covered(stay[i], without, u.Timeline, u.To)
			})
			require.True(t, broken || m.loses(stay, stay, kept, without, promised), "segment %d of timeline %d is kept for %v", n,
				w.Timeline, w.Reasons)
		}
	}
}

// leads tells whether a base is the best to begin from for the end of any WAL.
func (m model) leads(base reach.Base, sound []reach.Base, promised time.Time) bool {
	have := cells(m.h.WAL)
	for _, w := range m.h.WAL {
		best := reach.Base{}
		for _, b := range sound { // by time
			if !m.covered(b, have, w.Timeline, w.End) {
				continue
			}
			if best.ID == "" || !b.StopTime.After(promised) {
				best = b
			}
		}
		if best.ID != "" && best.StopTime.Equal(base.StopTime) {
			return true
		}
	}
	return false
}

// loses tells whether any promised moment is reached with less no more.
func (m model) loses(fewer, bases []reach.Base, have, less map[place]bool, promised time.Time) bool {
	for _, w := range m.h.WAL {
		for l := w.Start; l <= w.End; l += cell {
			until := clock(l + cell) // a place stands for the moments from it to the next
			if until.After(promised) && m.reached(bases, have, w.Timeline, l) && !m.reached(fewer, less, w.Timeline, l) {
				return true
			}
		}
	}
	// Of WAL that is being captured, moments to come are promised too.
	last := m.h.WAL[len(m.h.WAL)-1]
	return m.reached(bases, have, last.Timeline, last.End) && !m.reached(fewer, less, last.Timeline, last.End)
}

func day(n int) pg.LSN { return pg.LSN(n*8) * cell } // eight pieces of three hours

// daily is a history of one base a day, all of its WAL there.
func daily(days int) History {
	h := History{Size: size, Live: 1, WAL: []reach.WAL{{Timeline: 1, End: day(days), LastCommit: clock(day(days))}}}
	for n := range days {
		h.Bases = append(h.Bases, reach.Base{ID: fmt.Sprintf("d%d", n), Timeline: 1, Start: day(n) + cell, Stop: day(n) + 2*cell,
			StopTime: clock(day(n) + 2*cell)})
	}
	return h
}

func needed(d Decision) (ids []string) {
	for _, b := range d.Bases {
		if b.Needed {
			ids = append(ids, b.ID)
		}
	}
	slices.Reverse(ids)
	return ids
}

func TestReasons(t *testing.T) {
	h := daily(40)
	h.Pins = []Pin{{Base: "d3", Reason: "quarter's end"}, {Base: "d4", Reason: "drill", Until: clock(day(39))}}
	d := Decide(h, Rule{SpanHours: 5 * 24, Monthly: 2}, clock(day(40)), time.UTC)
	// The 40 days are March and nine days of April 2026.
	assert.Equal(t, []string{"d0", "d3", "d31", "d34", "d35", "d36", "d37", "d38", "d39"}, needed(d))
	assert.True(t, d.Held)
	reasons := make(map[string]string)
	for _, b := range d.Bases {
		for _, r := range b.Reasons {
			reasons[b.ID] += r.Kind + ": " + r.Text + "; "
		}
	}
	assert.Equal(t, "month: the first base backup of March 2026; ", reasons["d0"])
	assert.Equal(t, "pin: pinned: quarter's end; ", reasons["d3"])
	assert.Equal(t, "over: its pin expired at 2026-04-09 00:00 +00:00; ", reasons["d4"])
	assert.Equal(t, "promise: the newest before 2026-04-05 00:00 +00:00, from which any moment is promised; ", reasons["d34"])
	assert.Equal(t, "span: taken within the last 5 days; ", reasons["d36"])
	assert.Equal(t, "span: taken within the last 5 days; last: the newest that can be restored; ", reasons["d39"])
	require.Len(t, d.After, 4, "a moment for each long-term base, and the span")
	assert.Equal(t, "d34", d.After[3].Base)
	bases, wal := d.Releasable()
	assert.Len(t, bases, 31)
	assert.Len(t, wal, 3)
}

func TestPromiseLongerThanReach(t *testing.T) {
	d := Decide(daily(3), Rule{SpanHours: 31 * 24}, clock(day(3)), time.UTC)
	assert.False(t, d.Held)
	assert.Equal(t, clock(2*cell), *d.HeldFrom)
	bases, wal := d.Releasable()
	assert.Empty(t, bases)
	assert.Empty(t, wal)
}

func TestNothingRestorableNothingGoes(t *testing.T) {
	h := History{Size: size, Live: 1, WAL: []reach.WAL{{Timeline: 1, Start: day(2), End: day(9)}},
		Bases: []reach.Base{{ID: "b", Timeline: 1, Start: day(1), Stop: day(3), StopTime: clock(day(3))}}}
	bases, wal := Decide(h, Rule{Count: 1}, clock(day(400)), time.UTC).Releasable()
	assert.Empty(t, bases)
	assert.Empty(t, wal)
}

func TestRules(t *testing.T) {
	assert.ErrorContains(t, Rule{}.Check(), "keeps nothing")
	assert.ErrorContains(t, Rule{Monthly: 12}.Check(), "no span")
	assert.ErrorContains(t, Rule{SpanHours: -1}.Check(), "below zero")
	assert.Equal(t, "any moment of the last 31 days", Default.String())
	assert.Equal(t, "the newest 3 base backups and any moment since", Rule{Count: 3}.String())
	assert.Equal(t, "any moment of the last 36 hours; the newest 1 base backup and any moment since; the first base backup of each of "+
		"12 months",
		Rule{SpanHours: 36, Count: 1, Monthly: 12}.String())
}
