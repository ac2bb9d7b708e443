package schedule

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/catalog"
	"velvetrewind/testbed"
)

var ctx = context.Background()

// TestScheduler lets two instances look at one calendar while the clock is set forward.
func TestScheduler(t *testing.T) {
	bed := testbed.New(t)
	p := bed.Postgres("catalogue", false)
	c, err := catalog.Open(ctx, p.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	defer c.Close()
	var now atomic.Pointer[time.Time]
	set := func(at time.Time) { now.Store(&at) }
	set(time.Now())
	var mu sync.Mutex
	var begun []string
	var fail error
	instance := func() *Scheduler {
		return &Scheduler{Catalog: c, Now: func() time.Time { return *now.Load() }, Log: slog.New(slog.DiscardHandler),
			Begin: func(_ context.Context, e catalog.Entry, k *catalog.Cluster) (string, error) {
				mu.Lock()
				defer mu.Unlock()
				name := e.Work
				if k != nil {
					name += " " + k.Name
				}
				begun = append(begun, name)
				return "task", fail
			}}
	}
	one, two := instance(), instance()
	look := func() []string {
		begun = nil
		var wg sync.WaitGroup
		for _, s := range []*Scheduler{one, two} {
			wg.Go(func() { assert.NoError(t, s.Once(ctx)) })
		}
		wg.Wait()
		return begun
	}
	for _, name := range []string{"ferries", "berths"} {
		require.NoError(t, c.AddCluster(ctx, catalog.Cluster{ID: catalog.NewID(), Name: name, ConnString: "host=db1", SegmentSize: 16 << 20,
			LabelsSet: json.RawMessage(`{"fleet": "outer"}`)}))
	}
	require.NoError(t, c.SavePolicy(ctx, catalog.Policy{ID: "p", Name: "outer", LabelsSet: json.RawMessage(`{"fleet": "outer"}`)}))
	add := func(id, policy, work, schedule string) {
		require.NoError(t, c.AddEntry(ctx, catalog.Entry{ID: id, PolicyID: sql.NullString{String: policy, Valid: policy != ""}, Work: work,
			Schedule: json.RawMessage(schedule)}))
	}
	add("bases", "p", catalog.WorkBackup, `{"everyHours": 6}`)
	add("audit", "", catalog.WorkAudit, `{"at": "04:00", "quiet": [{"from": "08:00", "to": "18:00"}]}`)
	midnight := time.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, 2)
	assert.Empty(t, look(), "nothing was due before it was put there")

	set(midnight.Add(time.Minute))
	assert.ElementsMatch(t, []string{"backup ferries", "backup berths", "audit"}, look(),
		"two days were missed, and the newest of each is caught up, once")
	assert.Empty(t, look())
	set(midnight.Add(6*time.Hour + time.Minute))
	assert.ElementsMatch(t, []string{"backup ferries", "backup berths", "audit"}, look())
	set(midnight.Add(30*time.Hour + 4*time.Hour)) // ten in the morning, which is quiet
	assert.ElementsMatch(t, []string{"backup ferries", "backup berths"}, look())
	set(midnight.Add(42*time.Hour + time.Minute))
	assert.ElementsMatch(t, []string{"backup ferries", "backup berths", "audit"}, look(), "the quiet window has ended")

	require.NoError(t, c.PauseEntry(ctx, "bases", true))
	set(midnight.Add(60 * time.Hour))
	assert.Empty(t, look(), "paused, and the audit waits for the evening")
	require.NoError(t, c.PauseEntry(ctx, "bases", false))

	all, err := Load(ctx, c)
	require.NoError(t, err)
	ferries := all.Clusters[1]
	assert.True(t, all.LateSince(ferries, midnight.Add(59*time.Hour), midnight.Add(59*time.Hour)).IsZero())
	assert.Equal(t, midnight.Add(60*time.Hour), all.LateSince(ferries, midnight.Add(59*time.Hour), midnight.Add(61*time.Hour)).UTC())

	// An instance that dies between the claim and the beginning: another takes it over.
	fail = errors.New("a base backup is under way already")
	set(midnight.Add(66*time.Hour + time.Minute))
	look()
	last, ok := all.Last("bases", ferries.ID)
	require.True(t, ok)
	after, err := Load(ctx, c)
	require.NoError(t, err)
	refused, _ := after.Last("bases", ferries.ID)
	assert.True(t, refused.Due.After(last.Due))
	assert.Contains(t, refused.Problem, "under way already", "what was refused is told, and not tried again before the next time")
	fail = nil
	assert.Empty(t, look())
	claimed := catalog.CalendarRun{EntryID: "bases", ClusterID: ferries.ID, Due: midnight.Add(72 * time.Hour),
		BegunAt: midnight.Add(72 * time.Hour)}
	mine, err := c.ClaimRun(ctx, claimed)
	require.NoError(t, err)
	require.True(t, mine)
	set(midnight.Add(72*time.Hour + 30*time.Second))
	assert.Equal(t, []string{"backup berths"}, look())
	set(midnight.Add(72*time.Hour + 2*time.Minute))
	assert.Equal(t, []string{"backup ferries"}, look())
	assert.Empty(t, look())
}
