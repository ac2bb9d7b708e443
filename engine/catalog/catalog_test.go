package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/engine/problem"
	"velvetrewind/testbed"
)

var ctx = context.Background()

func open(t *testing.T) (*Catalog, *testbed.Postgres) {
	b := testbed.New(t)
	p := b.Postgres("catalogue", false)
	c, err := Open(ctx, p.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, p
}

func kindOf(t *testing.T, err error) problem.Kind {
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	assert.NotEmpty(t, p.Next, "it says what to do")
	return p.Kind
}

func TestRecords(t *testing.T) {
	c, p := open(t)
	again, err := Open(ctx, p.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(t, err, "an up-to-date catalogue is opened as it is")
	again.Close()

	k := Cluster{ID: NewID(), Name: "ferries", ConnString: "host=db1", SystemID: 1<<64 - 1, ServerVersion: 150018, SegmentSize: 16 << 20, DataChecksums: true, Superuser: "harbourmaster", Slot: "velvet_x", PasswordSealed: []byte{1, 2}}
	require.NoError(t, c.AddCluster(ctx, k))
	got, err := c.Cluster(ctx, "ferries")
	require.NoError(t, err)
	k.CreatedAt = got.CreatedAt
	k.AlertDrops, k.AlertRows, k.AlertShare = journal.DefaultRule.Drops, journal.DefaultRule.Rows, journal.DefaultRule.Share
	assert.Equal(t, k, got, "64 bits of the system identifier come back")
	assert.Equal(t, 15, got.Major())
	byID, err := c.Cluster(ctx, k.ID)
	require.NoError(t, err)
	assert.Equal(t, got, byID)
	k2 := k
	k2.ID = NewID()
	assert.Equal(t, problem.Conflict, kindOf(t, c.AddCluster(ctx, k2)))
	_, err = c.Cluster(ctx, "atlantis")
	assert.Equal(t, problem.NotFound, kindOf(t, err))

	at := time.Date(2026, 11, 23, 14, 3, 7, 412000000, time.UTC)
	require.NoError(t, c.SaveCapture(ctx, Capture{ClusterID: k.ID, State: CaptureStreaming, Timeline: 2, FlushedLSN: 0x16B374D848, CompleteTo: sql.NullTime{Time: at, Valid: true}}))
	require.NoError(t, c.SaveCapture(ctx, Capture{ClusterID: k.ID, State: CaptureRetrying, Problem: "gone"}))
	capture, err := c.Capture(ctx, k.ID)
	require.NoError(t, err)
	assert.True(t, capture.Wanted)
	assert.Equal(t, pg.LSN(0x16B374D848), capture.FlushedLSN, "what is not known stays as it was")
	assert.Equal(t, pg.Timeline(2), capture.Timeline)
	assert.True(t, at.Equal(capture.CompleteTo.Time))
	assert.Zero(t, capture.StoredLSN)

	seg := Segment{ClusterID: k.ID, Timeline: 1, Number: 7, Name: "000000010000000000000007", Start: 0x7000000, End: 0x7800000, StoredBytes: 9}
	require.NoError(t, c.AddSegment(ctx, seg))
	seg.End = 0x8000000
	require.NoError(t, c.AddSegment(ctx, seg), "a cut segment is replaced by the whole one")
	for n, name := range map[uint64]string{8: "000000010000000000000008", 10: "00000001000000000000000A"} {
		start := pg.DefaultSegmentSize.Start(n)
		require.NoError(t, c.AddSegment(ctx, Segment{ClusterID: k.ID, Timeline: 1, Number: n, Name: name, Start: start, End: start + 0x1000000}))
	}
	require.NoError(t, c.AddSegment(ctx, Segment{ClusterID: k.ID, Timeline: 1, Number: 11, Name: "00000001000000000000000B", Start: 0xB000000, End: 0xB000100}))
	runs, err := c.Runs(ctx, k.ID)
	require.NoError(t, err)
	require.Len(t, runs, 2, "a gap parts runs")
	assert.Equal(t, []uint64{7, 8, 10, 11}, []uint64{runs[0].First, runs[0].Last, runs[1].First, runs[1].Last})
	assert.Equal(t, pg.LSN(0xB000100), runs[1].End)
	last, ok, err := c.LastWhole(ctx, got)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, pg.Segment{Timeline: 1, Number: 10}, last, "a cut segment is not whole")
	require.NoError(t, c.RemoveCluster(ctx, k.ID))
	_, err = c.Capture(ctx, k.ID)
	assert.ErrorIs(t, err, sql.ErrNoRows, "what belongs to a cluster goes with it")
}

func TestTasksOfDeadInstancesAreOrphans(t *testing.T) {
	c, _ := open(t)
	add := func(kind string) Task {
		task := Task{ID: NewID(), Kind: kind, Arguments: json.RawMessage("{}")}
		require.NoError(t, c.AddTask(ctx, task))
		return task
	}
	alive, aliveLease, err := c.TakeInstance(ctx)
	require.NoError(t, err)
	dead, deadLease, err := c.TakeInstance(ctx)
	require.NoError(t, err)
	_, err = c.HoldInstance(ctx, alive)
	assert.ErrorContains(t, err, "is taken")
	kept, lost := add("side copy"), add("side copy")
	for id, owner := range map[string]int64{kept.ID: alive, lost.ID: dead} {
		ok, err := c.BeginTask(ctx, id, owner)
		require.NoError(t, err)
		assert.True(t, ok)
	}
	ok, err := c.BeginTask(ctx, kept.ID, dead)
	require.NoError(t, err)
	assert.False(t, ok, "a task is begun once")
	orphans, err := c.Orphans(ctx)
	require.NoError(t, err)
	assert.Empty(t, orphans)
	deadLease.Release()
	require.Eventually(t, func() bool {
		orphans, err = c.Orphans(ctx)
		return err == nil && len(orphans) == 1
	}, 10*time.Second, 50*time.Millisecond)
	assert.Equal(t, lost.ID, orphans[0].ID)
	assert.True(t, aliveLease.Held(ctx))
	aliveLease.Release()

	require.NoError(t, c.EndTask(ctx, lost.ID, TaskFailed, nil, map[string]string{"title": "interrupted"}))
	require.NoError(t, c.EndTask(ctx, lost.ID, TaskDone, nil, nil), "what has ended stays as it ended")
	got, err := c.Task(ctx, lost.ID)
	require.NoError(t, err)
	assert.Equal(t, TaskFailed, got.State)
	assert.True(t, got.Ended())
	for _, text := range []string{"first", "second"} {
		require.NoError(t, c.AddTaskLine(ctx, lost.ID, "info", text))
	}
	lines, err := c.TaskLines(ctx, lost.ID, 1)
	require.NoError(t, err)
	require.Len(t, lines, 1)
	assert.Equal(t, "second", lines[0].Text)
}

func TestLeasesExclude(t *testing.T) {
	c, _ := open(t)
	mine, ok, err := c.TakeCapture(ctx, "ferries")
	require.NoError(t, err)
	require.True(t, ok)
	_, ok, err = c.TakeCapture(ctx, "ferries")
	require.NoError(t, err)
	assert.False(t, ok)
	other, ok, err := c.TakeCapture(ctx, "lighthouse")
	require.NoError(t, err)
	assert.True(t, ok)
	other.Release()
	mine.Release()
	require.Eventually(t, func() bool {
		l, ok, err := c.TakeCapture(ctx, "ferries")
		if ok {
			l.Release()
		}
		return err == nil && ok
	}, 10*time.Second, 50*time.Millisecond)
}

func TestOneTimeSecrets(t *testing.T) {
	c, p := open(t)
	require.NoError(t, c.AddSignIn(ctx, SignInLink, "secret", time.Now().Add(time.Minute)))
	require.NoError(t, c.AddSignIn(ctx, SignInSession, "old", time.Now().Add(-time.Minute)))
	ok, err := c.UseSignIn(ctx, SignInSession, "secret")
	require.NoError(t, err)
	assert.False(t, ok, "a link is no session")
	for _, want := range []bool{true, false} {
		ok, err = c.UseSignIn(ctx, SignInLink, "secret")
		require.NoError(t, err)
		assert.Equal(t, want, ok)
	}
	ok, err = c.CheckSignIn(ctx, SignInSession, "old")
	require.NoError(t, err)
	assert.False(t, ok, "it has expired")
	conn := p.Connect("postgres")
	var n int
	require.NoError(t, conn.QueryRow(ctx, "select count(*) from velvet.sign_ins where encode(hash, 'escape') like '%secret%'").Scan(&n))
	assert.Zero(t, n, "only hashes are kept")
}
