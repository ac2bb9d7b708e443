package catalog

import (
	"database/sql"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
)

// TestRuns records segments in any order, again, cut and let go, and compares the runs
// that the catalogue keeps with what the segments say.
func TestRuns(t *testing.T) {
	c, _ := open(t)
	const z = pg.SegmentSize(1 << 20)
	k := Cluster{ID: NewID(), Name: "ferries", SegmentSize: z}
	require.NoError(t, c.AddCluster(ctx, k))
	random := rand.New(rand.NewPCG(1, 2))
	there := make(map[Stretch]pg.LSN) // by timeline and number, where its bytes end
	check := func() {
		t.Helper()
		var want []Run
		for timeline := pg.Timeline(1); timeline <= 2; timeline++ {
			for n := uint64(0); n < 40; n++ {
				end, ok := there[Stretch{timeline, n, n}]
				if !ok {
					continue
				}
				if l := len(want); l > 0 && want[l-1].Timeline == timeline && want[l-1].Last+1 == n && want[l-1].End == z.Start(n) {
					want[l-1].Last, want[l-1].End = n, end
					continue
				}
				want = append(want, Run{ClusterID: k.ID, Timeline: timeline, First: n, Last: n, Start: z.Start(n), End: end})
			}
		}
		got, err := c.Runs(ctx, k.ID)
		require.NoError(t, err)
		if len(want)+len(got) > 0 {
			require.Equal(t, want, got)
		}
	}
	for range 150 {
		s := Stretch{Timeline: pg.Timeline(1 + random.IntN(2)), First: uint64(random.IntN(40))}
		s.Last = s.First
		if random.IntN(12) == 0 {
			s.Last += uint64(random.IntN(6))
			require.NoError(t, c.Release(ctx, k.ID, []string{}, []Stretch{s}, []string{}, time.Now()))
			for n := s.First; n <= s.Last; n++ {
				delete(there, Stretch{s.Timeline, n, n})
			}
		} else {
			end := z.Start(s.First + 1)
			if random.IntN(8) == 0 {
				end -= 1000 // cut, where a timeline was left
			}
			there[s] = end
			require.NoError(t, c.AddSegment(ctx, Segment{ClusterID: k.ID, Timeline: s.Timeline, Number: s.First, Name: "x",
				Start: z.Start(s.First), End: end}))
		}
		check()
	}
}

// TestStepBack has a capture that begins anew before the place that it had reached claim only what the store has.
func TestStepBack(t *testing.T) {
	c, _ := open(t)
	const z = pg.SegmentSize(1 << 20)
	k := Cluster{ID: NewID(), Name: "ferries", SegmentSize: z}
	require.NoError(t, c.AddCluster(ctx, k))
	now := time.Now().UTC().Truncate(time.Microsecond)
	back := func(at uint64) sql.NullTime {
		require.NoError(t, c.SaveCapture(ctx, Capture{ClusterID: k.ID, State: CaptureStreaming, Timeline: 1, FlushedLSN: z.Start(9),
			CompleteTo: sql.NullTime{Time: now, Valid: true}}))
		lowered, complete, err := c.StepBack(ctx, k.ID, 1, z.Start(at))
		require.NoError(t, err)
		assert.Equal(t, at < 9, lowered)
		stands, err := c.Capture(ctx, k.ID)
		require.NoError(t, err)
		assert.Equal(t, z.Start(at), stands.FlushedLSN)
		if lowered {
			assert.Equal(t, complete, stands.CompleteTo)
		}
		return stands.CompleteTo
	}
	assert.True(t, back(9).Valid, "it had not gone further")
	assert.False(t, back(7).Valid, "the store has nothing")
	add := func(n uint64, last sql.NullTime) {
		require.NoError(t, c.AddSegment(ctx, Segment{ClusterID: k.ID, Timeline: 1, Number: n, Name: "x", Start: z.Start(n),
			End: z.Start(n + 1), LastCommit: last}))
	}
	add(4, sql.NullTime{})
	assert.False(t, back(7).Valid, "there is no commit in what the store has")
	add(5, sql.NullTime{Time: now.Add(-time.Minute), Valid: true})
	add(7, sql.NullTime{Time: now.Add(-time.Second), Valid: true})
	assert.Equal(t, now.Add(-time.Minute), back(7).Time.UTC(), "what comes after the place does not count")
	assert.Equal(t, now.Add(-time.Second), back(8).Time.UTC())
}

// TestReleaseBesideCopies holds that a release does not succeed beside a copy or a pin that
// it did not know of and that needs what goes.
func TestReleaseBesideCopies(t *testing.T) {
	c, _ := open(t)
	k := Cluster{ID: NewID(), Name: "ferries", SegmentSize: 1 << 20}
	require.NoError(t, c.AddCluster(ctx, k))
	for _, id := range []string{"old", "new"} {
		require.NoError(t, c.AddBackup(ctx, Backup{ID: id, ClusterID: k.ID, Tablespaces: []byte("[]"), Start: 1, Stop: 2}))
	}
	early := Stretch{Timeline: 1, First: 3, Last: 9}
	copyOf := func(id, backup string) Copy {
		return Copy{ID: id, ClusterID: k.ID, BackupID: backup, Plan: []byte("{}"), State: CopyLayingOut}
	}
	require.NoError(t, c.AddCopy(ctx, copyOf("c1", "new"), []Stretch{{1, 8, 12}}))
	release := func() error {
		return c.Release(ctx, k.ID, []string{"old"}, []Stretch{early}, []string{}, time.Now())
	}
	err := release()
	assert.Equal(t, problem.Conflict, kindOf(t, err), "the copy was not known")
	list, err := c.Backups(ctx, k.ID)
	require.NoError(t, err)
	assert.Len(t, list, 2, "nothing was deleted")
	require.NoError(t, c.SaveCopy(ctx, Copy{ID: "c1", State: CopyDiscarded}))
	pin := Pin{BackupID: "old", Reason: "audit"}
	require.NoError(t, c.SetPin(ctx, pin))
	assert.Equal(t, problem.Conflict, kindOf(t, release()), "it was pinned since that was decided")
	pin.Until = sql.NullTime{Time: time.Now().Add(-time.Minute), Valid: true}
	require.NoError(t, c.SetPin(ctx, pin))
	require.NoError(t, release(), "the pin is over")
	assert.Equal(t, problem.Conflict, kindOf(t, c.AddCopy(ctx, copyOf("c2", "new"), []Stretch{{1, 8, 12}})), "its WAL has gone")
	assert.Equal(t, problem.Conflict, kindOf(t, c.AddCopy(ctx, copyOf("c3", "old"), nil)), "its base has gone")
	c4 := copyOf("c4", "new")
	require.NoError(t, c.AddCopy(ctx, c4, []Stretch{{1, 10, 12}}))
	assert.Equal(t, problem.Conflict, kindOf(t, c.MoveCopy(ctx, c4, nil)), "it does not stand anywhere yet")
	require.NoError(t, c.SaveCopy(ctx, Copy{ID: "c4", State: CopyPaused}))
	assert.Equal(t, problem.Conflict, kindOf(t, c.MoveCopy(ctx, c4, []Stretch{{1, 9, 12}})), "its WAL has gone")
	known := []string{c4.Place()}
	later := func() error {
		return c.Release(ctx, k.ID, []string{}, []Stretch{{1, 10, 10}}, known, time.Now())
	}
	require.NoError(t, c.MoveCopy(ctx, c4, []Stretch{{1, 11, 12}}))
	assert.Equal(t, problem.Conflict, kindOf(t, later()), "the copy is known, but not where it was moved to")
	c4.Moves++
	known = []string{c4.Place()}
	require.NoError(t, later())
	assert.Equal(t, problem.NotFound, kindOf(t, c.SetPin(ctx, Pin{BackupID: "old", Reason: "too late"})))
	pins, err := c.Pins(ctx, k.ID)
	require.NoError(t, err)
	assert.Empty(t, pins)
	got, err := c.Cluster(ctx, k.ID)
	require.NoError(t, err)
	assert.True(t, got.TidyDue)
}

// TestLimits lets as many tasks run as may, and says why the others wait.
func TestLimits(t *testing.T) {
	c, _ := open(t)
	add := func(id, kind, cluster string) {
		require.NoError(t, c.AddTask(ctx, Task{ID: id, Kind: kind, ClusterID: sql.NullString{String: cluster, Valid: cluster != ""},
			Arguments: []byte("{}")}, noJob))
	}
	for _, name := range []string{"a", "b", "d"} {
		host := map[string]string{"a": "host=db1", "b": "host=db1", "d": "host=db2"}[name]
		require.NoError(t, c.AddCluster(ctx, Cluster{ID: name, Name: name, ConnString: host + " user=velvet", SegmentSize: 1 << 20}))
		add("backup "+name, "backup", name)
	}
	add("proof a", "proof", "a")
	add("audit a", "side copy", "a")
	add("audit", "audit", "")
	limits := Limits{PerCluster: 2, BackupsPerHost: 1}
	begin := func(id string) (bool, string) {
		ok, why, err := c.BeginTask(ctx, id, 1, limits)
		require.NoError(t, err)
		return ok, why
	}
	for id, reason := range map[string]string{"backup a": "", "backup d": "", "proof a": "", "audit": ""} {
		ok, why := begin(id)
		assert.True(t, ok, id)
		assert.Equal(t, reason, why)
	}
	_, why := begin("backup b")
	assert.Regexp(t, `^waiting for one of the 1 running base backups of clusters on db1 to end, since \d\d:\d\d:\d\d UTC; usually`, why)
	_, why = begin("audit a")
	assert.Contains(t, why, "waiting for one of the 2 running tasks of its cluster to end, since ")
	ok, why := begin("backup a")
	assert.False(t, ok, "begun already")
	assert.Empty(t, why)
	require.NoError(t, c.EndTask(ctx, "backup a", TaskDone, nil, nil))
	ok, _ = begin("backup b")
	assert.True(t, ok)
	waiting, err := c.Tasks(ctx, TaskFilter{State: TaskWaiting, Limit: 10})
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	assert.Contains(t, waiting[0].Note, "one of the 2 running tasks")
	list, err := c.Tasks(ctx, TaskFilter{Kind: "backup", Cluster: "b", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, list, 1)
}
