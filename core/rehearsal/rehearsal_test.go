package rehearsal

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

// TestNextIsFair has clusters of random sizes be rehearsed for as long as it takes: no limit is passed, whoever was never
// proved comes first, and each has its turn.
func TestNextIsFair(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		limits := Limits{AtOnce: rapid.IntRange(1, 4).Draw(t, "at once"), Bytes: rapid.Int64Range(0, 200).Draw(t, "bytes")}
		var wishes []Wish
		for i := range rapid.IntRange(1, 30).Draw(t, "clusters") {
			w := Wish{ID: fmt.Sprint(i), Cluster: fmt.Sprint(i), AskedAt: noon.Add(time.Duration(i) * time.Minute),
				Bytes: rapid.Int64Range(1, 100).Draw(t, "size")}
			if rapid.Bool().Draw(t, "proved") {
				w.Proved = noon.Add(-time.Duration(rapid.IntRange(1, 1000).Draw(t, "ago")) * time.Hour)
			}
			wishes = append(wishes, w)
		}
		var running []Wish
		done := make(map[string]bool)
		var last time.Time
		for len(done) < len(wishes) {
			var left []Wish
			held := int64(0)
			for _, w := range running {
				held += w.Bytes
			}
			begun := make(map[string]bool)
			for _, w := range running {
				begun[w.ID] = true
			}
			for _, w := range wishes {
				if !done[w.ID] && !begun[w.ID] {
					left = append(left, w)
				}
			}
			for _, w := range Next(left, len(running), held, limits) {
				assert.False(t, w.Proved.Before(last), "the longest unproved first")
				last = w.Proved
				running, held = append(running, w), held+w.Bytes
			}
			require.NotEmpty(t, running, "something is always begun")
			assert.LessOrEqual(t, len(running), limits.AtOnce)
			if limits.Bytes > 0 && len(running) > 1 {
				assert.LessOrEqual(t, held, limits.Bytes)
			}
			n := rapid.IntRange(0, len(running)-1).Draw(t, "ends")
			done[running[n].ID] = true
			running = append(running[:n], running[n+1:]...)
		}
	})
	quiet := []Wish{{ID: "a", Quiet: true}, {ID: "b", Proved: noon}}
	assert.Equal(t, []Wish{{ID: "b", Proved: noon}}, Next(quiet, 0, 0, Limits{AtOnce: 2}))
}

func TestRandomIsWithin(t *testing.T) {
	spans := [][2]time.Time{{noon, noon.Add(time.Hour)}, {noon.Add(10 * time.Hour), noon.Add(11 * time.Hour)}}
	r, first := rand.New(rand.NewPCG(1, 2)), 0
	for range 1000 {
		at, ok := Random(spans, r)
		require.True(t, ok)
		in := func(s [2]time.Time) bool { return !at.Before(s[0]) && at.Before(s[1]) }
		require.True(t, in(spans[0]) || in(spans[1]), at)
		if in(spans[0]) {
			first++
		}
	}
	assert.InDelta(t, 500, first, 100)
	_, ok := Random(nil, r)
	assert.False(t, ok)
}

func TestEstimate(t *testing.T) {
	_, ok := Learn(nil).Estimate(1, 1)
	assert.False(t, ok, "nothing was measured")
	rates := Learn([]Measured{{LaidOut: 10 * time.Second, Replayed: 5 * time.Second, Proved: 20 * time.Second, Bytes: 1000, WAL: 500}})
	m, ok := rates.Estimate(2000, 1000)
	require.True(t, ok)
	assert.Equal(t, []time.Duration{20 * time.Second, 10 * time.Second, 40 * time.Second}, []time.Duration{m.LaidOut, m.Replayed, m.Proved})
	assert.Equal(t, 70*time.Second, m.Total())
	_, ok = Learn([]Measured{{LaidOut: time.Second, Bytes: 10}}).Estimate(10, 10)
	assert.False(t, ok, "no WAL was ever replayed")
}

// TestThirtyDays has a hundred clusters be rehearsed every day for thirty days, of which three cannot be restored.
func TestThirtyDays(t *testing.T) {
	var subjects []Subject
	for n := range 100 {
		s := Subject{Name: fmt.Sprintf("cluster-%02d", n), Reach: noon.AddDate(0, 0, -40), Promised: noon.AddDate(0, 0, -30),
			Objective: Objective{Back: 2 * time.Hour, Lose: time.Minute}}
		for day := range 30 {
			r := Run{At: noon.AddDate(0, 0, -day), Outcome: Passed, Try: 1, Lost: 2 * time.Second,
				Measured: Measured{LaidOut: time.Duration(60+30-day) * time.Minute / 2}}
			switch {
			case n == 17:
				r.Outcome, r.Cause = NoCopy, "WAL segment 000000010000000000000007 is missing"
			case n == 42 && day < 3:
				r.Outcome, r.Cause, r.Try = Failed, "pages: 1 of 900 pages are damaged", 1+day%2
			case n == 8 && day == 10:
				r.Outcome, r.Cause = Failed, "content: 1 fewer"
			case n == 9:
				r.Measured.LaidOut = 3 * time.Hour
			}
			s.Runs = append(s.Runs, r)
		}
		switch n {
		case 63:
			s.Reach = time.Time{}
		case 70:
			s.Runs = nil
		}
		subjects = append(subjects, s)
	}
	d := Consolidate(subjects, noon.AddDate(0, 0, -30), noon)
	assert.Equal(t, "3 of 100 clusters could not be brought back today: cluster-17, cluster-42, cluster-63. Never proved: cluster-70.",
		d.First())
	by := make(map[string]Line)
	for _, l := range d.Lines {
		by[l.Cluster] = l
	}
	assert.Equal(t, "cluster-17", d.Lines[0].Cluster)
	assert.Equal(t, 30, len(by["cluster-17"].Failures))
	assert.Nil(t, by["cluster-17"].Kept, "nothing was measured")
	assert.Equal(t, "nothing yet", by["cluster-42"].Failures[0].Then)
	assert.Contains(t, by["cluster-42"].Failures[2].Then, "in vain")
	assert.Contains(t, by["cluster-08"].Failures[0].Then, "passed 2026-11-18")
	assert.False(t, *by["cluster-09"].Kept, "three hours are more than two")
	assert.True(t, *by["cluster-10"].Kept)
	assert.Greater(t, by["cluster-10"].Trend, 0.1, "it takes longer every day")
	assert.Equal(t, Failed, by["cluster-08"].Days["2026-11-17"])
	assert.False(t, by["cluster-63"].PromiseKept)

	page, err := d.HTML()
	require.NoError(t, err)
	for _, want := range []string{d.First(), "cluster-17", "✕✕✕", "back within 2h0m0s, losing at most 1m0s (not kept)", "missing"} {
		assert.Contains(t, string(page), want)
	}
	lines, err := d.CSV()
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(lines)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 101)
	assert.Equal(t, "cannot be brought back", rows[1][1])

	assert.Equal(t, "There are no clusters.", new(Digest).First())
	good := Consolidate(subjects[:5], noon.AddDate(0, 0, -30), noon)
	assert.Equal(t, "All of 5 clusters could be brought back today.", good.First())
	none := Consolidate([]Subject{{Name: "a", Reach: noon}}, noon, noon)
	assert.Contains(t, none.First(), "is not known")
}

func TestHours(t *testing.T) {
	at := func(s string) time.Time {
		c, err := time.Parse("15:04", s)
		require.NoError(t, err)
		return c
	}
	night, err := ParseHours("20:00-06:00")
	require.NoError(t, err)
	for clock, want := range map[string]bool{"19:59": false, "20:00": true, "23:59": true, "00:00": true, "05:59": true, "06:00": false} {
		assert.Equal(t, want, night.Allow(at(clock)), clock)
	}
	always, err := ParseHours("")
	require.NoError(t, err)
	assert.True(t, always.Allow(at("12:00")))
	day, err := ParseHours("08:00-18:00")
	require.NoError(t, err)
	assert.False(t, day.Allow(at("07:00")))
	for _, bad := range []string{"20:00", "25:00-06:00", "8-6", "-"} {
		_, err := ParseHours(bad)
		assert.ErrorContains(t, err, "20:00-06:00", bad)
	}
}
