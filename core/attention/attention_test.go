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
		return Cluster{Name: "ferries", Added: days(100), CaptureWanted: true, CaptureRuns: true, CaptureSince: days(9),
			CaptureAlert: 5 * time.Minute,
			Bases:        31, LastBase: days(1), Promised: days(31), HeldFrom: &held}
	}
	for _, c := range []struct {
		name  string
		of    func(*Cluster)
		kinds []Concern
		text  string
	}{
		{"all is well", func(*Cluster) {}, nil, ""},
		{"stopped", func(k *Cluster) { k.CaptureWanted, k.CaptureRuns = false, false }, []Concern{Capture},
			"Capture was stopped 9 days ago"},
		{"interrupted just now", func(k *Cluster) { k.CaptureRuns, k.CaptureSince = false, now.Add(-time.Minute) }, nil, ""},
		{"interrupted for long", func(k *Cluster) { k.CaptureRuns, k.CaptureState, k.CaptureProblem = false, "retrying", "no route" },
			[]Concern{Capture}, "retrying for 9 days: no route"},
		{"failed", func(k *Cluster) { k.CaptureRuns, k.CaptureFailed, k.CaptureProblem = false, true, "the slot is lost" },
			[]Concern{Capture},
			"the slot is lost"},
		{"nothing to restore", func(k *Cluster) { k.Bases, k.HeldFrom = 0, nil }, []Concern{NoBase}, "no base backup"},
		{"the first is being taken", func(k *Cluster) { k.Bases, k.HeldFrom, k.BaseRunning = 0, nil, true }, nil, ""},
		{"a hole", func(k *Cluster) { k.Holes = []Gap{{Text: "from 0/1 to 0/2"}} }, []Concern{Hole}, "from 0/1 to 0/2"},
		{"a hole after which it goes on", func(k *Cluster) { k.Holes = []Gap{{Closed: true}, {Meant: true}} }, nil, ""},
		{"promise not held", func(k *Cluster) { at := days(3); k.HeldFrom = &at }, []Concern{Promise},
			"only those since 2026-11-20 12:00 UTC"},
		{"a cluster too young for its promise", func(k *Cluster) { at := days(3); k.HeldFrom, k.Added = &at, days(3) }, nil, ""},
		{"late", func(k *Cluster) { k.LateSince = now.Add(-3 * time.Hour) }, []Concern{Late}, "due at 2026-11-23 09:00 UTC"},
		{"late, but under way", func(k *Cluster) { k.LateSince, k.BaseRunning = now.Add(-3*time.Hour), true }, nil, ""},
		{"no base backup can come without capture", func(k *Cluster) { k.LateSince, k.CaptureWanted = now.Add(-3*time.Hour), false },
			[]Concern{Capture}, ""},
		{"late beside a hole", func(k *Cluster) { k.LateSince, k.Holes = now.Add(-3*time.Hour), []Gap{{Text: "from 0/1 to 0/2"}} },
			[]Concern{Hole, Late}, "WAL is missing"},
		{"none at all is not late besides", func(k *Cluster) { k.LateSince, k.Bases = now.Add(-3*time.Hour), 0 }, []Concern{NoBase},
			"There is no base backup"},
		{"interrupted for just as long as it may", func(k *Cluster) { k.CaptureRuns, k.CaptureSince = false, now.Add(-5*time.Minute) }, nil,
			""},
		{"not begun", func(k *Cluster) { k.CaptureRuns, k.CaptureState = false, "starting" }, []Concern{Capture},
			"starting for 9 days: it has not begun"},
		{"behind for just as long as it may", func(k *Cluster) { k.CompleteAge = 5 * time.Minute }, nil, ""},
		{"behind", func(k *Cluster) { k.CompleteAge, k.CaptureState = 6*time.Minute, "catching up" }, []Concern{Capture},
			"6 min behind (catching up): what was committed since then is not all safe here."},
		{"behind, and why", func(k *Cluster) { k.CompleteAge, k.CaptureProblem = 6*time.Minute, "no route" }, []Concern{Capture},
			"safe here: no route."},
		{"half of the spool", func(k *Cluster) { k.Spooled, k.SpoolLimit = 500, 1000 }, nil, ""},
		{"more than half of the spool", func(k *Cluster) { k.Spooled, k.SpoolLimit = 501, 1000 }, []Concern{Capture},
			"501 B of WAL wait for the store; capture pauses at 1000 B."},
		{"a spool without a limit", func(k *Cluster) { k.Spooled = 1 << 40 }, nil, ""},
		{"retained, with room for as much", func(k *Cluster) { k.Retained, k.Room = 2<<30, 2<<30 }, nil, ""},
		{"retained, with room for less", func(k *Cluster) { k.Retained, k.Room = 2<<30, 2<<30-1 }, []Concern{Capture}, "retains 2.0 GiB"},
		{"retained, with no room at all", func(k *Cluster) { k.Retained = 2 << 30 }, []Concern{Capture}, "has room for 0 B more"},
		{"retained, and nobody knows the room", func(k *Cluster) { k.Retained, k.Room = 2<<30, -1 }, nil, ""},
		{"hardly anything retained", func(k *Cluster) { k.Retained = 1 << 30 }, nil, ""},
		{"held two hours late", func(k *Cluster) { at := days(31).Add(2 * time.Hour); k.HeldFrom = &at }, nil, ""},
		{"held later", func(k *Cluster) { at := days(31).Add(2*time.Hour + 1); k.HeldFrom = &at }, []Concern{Promise},
			"Any moment since 2026-10-23 12:00 UTC is promised"},
		{"late by an hour", func(k *Cluster) { k.LateSince = now.Add(-time.Hour) }, nil, ""},
		{"clocks a second apart", func(k *Cluster) { k.ClockAhead = -time.Second }, nil, ""},
		{"clocks further apart", func(k *Cluster) { k.ClockAhead = -1260 * time.Millisecond }, []Concern{Clock}, "are 1.3s apart"},
		{"a damaged segment", func(k *Cluster) { k.DamagedAt = "0/3000000" }, []Concern{Hole}, "cannot be read from 0/3000000 on"},
		{"another's store", func(k *Cluster) { k.StoreTaken, k.StoreUnlocked = "another catalogue", "no right" }, []Concern{Store, Store},
			"by this service: another catalogue"},
		{"damaged bases", func(k *Cluster) { k.LostBases = 1 }, []Concern{Damage}, "1 base backup cannot be read"},
		{"set aside, and kept still", func(k *Cluster) { k.Aside = []SetAside{{Takeover: "01t", At: days(7), Until: now}} }, nil, ""},
		{"set aside, and kept long enough", func(k *Cluster) { k.Aside = []SetAside{{"01t", days(8), days(1)}} }, []Concern{Aside},
			"that the takeover of "},
		{"the worst first", func(k *Cluster) { k.Incidents, k.PageFaults, k.CaptureWanted = 2, 1, false },
			[]Concern{Capture, Incident, Damage}, "Capture was stopped"},
	} {
		k := fine()
		c.of(&k)
		needs := Needs(k, now)
		var kinds []Concern
		for _, n := range needs {
			kinds = append(kinds, n.Kind)
			assert.Contains(t, n.Command, "velvet ")
		}
		assert.Equal(t, c.kinds, kinds, c.name)
		if c.text != "" {
			assert.Contains(t, needs[0].Text, c.text, c.name)
		}
	}
	assert.Greater(t, Rank(Damage, Capture), Rank(Hole))
	assert.Zero(t, Rank())
	assert.Equal(t, 1, Rank(Aside), "the least of them is more than none")
	for at := range order[1:] {
		assert.Greater(t, Rank(order[at+1], order[at]), Rank(order[at+1]))
	}
}

func TestAgo(t *testing.T) {
	for d, said := range map[time.Duration]string{
		119 * time.Second: "119 s", 2 * time.Minute: "2 min", 119 * time.Minute: "119 min", 2 * time.Hour: "2 h", 47 * time.Hour: "47 h",
		48 * time.Hour: "2 days",
	} {
		assert.Equal(t, said, Ago(d))
	}
}
