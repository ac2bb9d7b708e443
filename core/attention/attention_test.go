package attention

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestNeeds(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	days := func(n int) time.Time { return now.AddDate(0, 0, -n) }
	held := days(31)
	fine := func() Cluster {
		return Cluster{Name: "ferries", Added: days(100), CaptureWanted: true, CaptureRuns: true, CaptureSince: days(9), CaptureAlert: 5 * time.Minute,
			Bases: 31, LastBase: days(1), Promised: days(31), HeldFrom: &held}
	}
	for _, c := range []struct {
		name  string
		of    func(*Cluster)
		kinds []Kind
		text  string
	}{
		{"all is well", func(*Cluster) {}, nil, ""},
		{"stopped", func(k *Cluster) { k.CaptureWanted, k.CaptureRuns = false, false }, []Kind{Capture}, "Capture was stopped 9 days ago"},
		{"interrupted just now", func(k *Cluster) { k.CaptureRuns, k.CaptureSince = false, now.Add(-time.Minute) }, nil, ""},
		{"interrupted for long", func(k *Cluster) { k.CaptureRuns, k.CaptureState, k.CaptureProblem = false, "retrying", "no route" }, []Kind{Capture}, "retrying for 9 days: no route"},
		{"failed", func(k *Cluster) { k.CaptureRuns, k.CaptureFailed, k.CaptureProblem = false, true, "the slot is lost" }, []Kind{Capture}, "the slot is lost"},
		{"nothing to restore", func(k *Cluster) { k.Bases, k.HeldFrom = 0, nil }, []Kind{NoBase}, "no base backup"},
		{"the first is being taken", func(k *Cluster) { k.Bases, k.HeldFrom, k.BaseRunning = 0, nil, true }, nil, ""},
		{"a hole", func(k *Cluster) { k.Holes = []Gap{{Text: "from 0/1 to 0/2"}} }, []Kind{Hole}, "from 0/1 to 0/2"},
		{"a hole behind which it goes on", func(k *Cluster) { k.Holes = []Gap{{Closed: true}, {Meant: true}} }, nil, ""},
		{"promise not held", func(k *Cluster) { at := days(3); k.HeldFrom = &at }, []Kind{Promise}, "only those since 2026-11-20 12:00 UTC"},
		{"a cluster too young for its promise", func(k *Cluster) { at := days(3); k.HeldFrom, k.Added = &at, days(3) }, nil, ""},
		{"late", func(k *Cluster) { k.LateSince = now.Add(-3 * time.Hour) }, []Kind{Late}, "due at 2026-11-23 09:00 UTC"},
		{"late, but under way", func(k *Cluster) { k.LateSince, k.BaseRunning = now.Add(-3*time.Hour), true }, nil, ""},
		{"no base backup can come without capture", func(k *Cluster) { k.LateSince, k.CaptureWanted = now.Add(-3*time.Hour), false }, []Kind{Capture}, ""},
		{"late beside a hole", func(k *Cluster) { k.LateSince, k.Holes = now.Add(-3*time.Hour), []Gap{{Text: "from 0/1 to 0/2"}} }, []Kind{Hole, Late}, "WAL is missing"},
		{"none at all is not late besides", func(k *Cluster) { k.LateSince, k.Bases = now.Add(-3*time.Hour), 0 }, []Kind{NoBase}, "There is no base backup"},
		{"the worst first", func(k *Cluster) { k.Incidents, k.PageFaults, k.CaptureWanted = 2, 1, false }, []Kind{Capture, Incident, Damage}, "Capture was stopped"},
	} {
		k := fine()
		c.of(&k)
		needs := Needs(k, now)
		var kinds []Kind
		for _, n := range needs {
			kinds = append(kinds, n.Kind)
			assert.Contains(t, n.Command, "velvet ")
		}
		assert.Equal(t, c.kinds, kinds, c.name)
		if c.text != "" {
			assert.Contains(t, needs[0].Text, c.text, c.name)
		}
	}
	assert.Greater(t, Rank([]Need{{Kind: Damage}, {Kind: Capture}}), Rank([]Need{{Kind: Hole}}))
	assert.Zero(t, Rank(nil))
}
