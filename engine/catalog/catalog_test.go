package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/trail"
	"velvetrewind/testbed"
)

var ctx = context.Background()

func open(t *testing.T) (*Catalog, *testbed.Postgres) {
	b := testbed.New(t)
	p := b.Postgres("catalogue", false)
	c, err := Open(ctx, dsn(p))
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, p
}

func dsn(p *testbed.Postgres) string {
	return p.DSN(testbed.Superuser, "postgres") + " password='" + testbed.Password + "'"
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

	k := Cluster{ID: NewID(), Name: "ferries", ConnString: "host=db1", SystemID: 1<<64 - 1, ServerVersion: 150018, SegmentSize: 16 << 20,
		DataChecksums: true, Superuser: "harbourmaster", Slot: "velvet_x", PasswordSealed: []byte{1, 2}}
	require.NoError(t, c.AddCluster(ctx, k))
	got, err := c.Cluster(ctx, "ferries")
	require.NoError(t, err)
	k.CreatedAt, k.SecondStore, k.LabelsSet, k.FormerSuperusersSet, k.CaptureAlert = got.CreatedAt, true, json.RawMessage("{}"),
		json.RawMessage("[]"), 300
	k.RuleSet, k.AuthorsSet = got.RuleSet, got.AuthorsSet
	rule, err := got.Rule()
	require.NoError(t, err)
	assert.Equal(t, journal.DefaultRule, rule)
	who, err := got.Authors()
	require.NoError(t, err)
	assert.Equal(t, journal.DefaultAuthorRule, who)
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
	require.NoError(t, c.SaveCapture(ctx, Capture{ClusterID: k.ID, State: CaptureStreaming, Timeline: 2, FlushedLSN: 0x16B374D848,
		CompleteTo: sql.NullTime{Time: at, Valid: true}}))
	require.NoError(t, c.SaveCapture(ctx, Capture{ClusterID: k.ID, State: CaptureRetrying, Problem: "gone"}))
	capture, err := c.Capture(ctx, k.ID)
	require.NoError(t, err)
	assert.True(t, capture.Wanted)
	assert.Equal(t, pg.LSN(0x16B374D848), capture.FlushedLSN, "what is not known stays as it was")
	assert.Equal(t, pg.Timeline(2), capture.Timeline)
	assert.True(t, at.Equal(capture.CompleteTo.Time))
	assert.Zero(t, capture.StoredLSN)

	seg := Segment{ClusterID: k.ID, Timeline: 1, Number: 7, Name: "000000010000000000000007", Start: 0x7000000, End: 0x7800000,
		StoredBytes: 9}
	require.NoError(t, c.AddSegment(ctx, seg))
	seg.End = 0x8000000
	require.NoError(t, c.AddSegment(ctx, seg), "a cut segment is replaced by the whole one")
	for n, name := range map[uint64]string{8: "000000010000000000000008", 10: "00000001000000000000000A"} {
		start := pg.DefaultSegmentSize.Start(n)
		require.NoError(t, c.AddSegment(ctx, Segment{ClusterID: k.ID, Timeline: 1, Number: n, Name: name, Start: start,
			End: start + 0x1000000}))
	}
	require.NoError(t, c.AddSegment(ctx, Segment{ClusterID: k.ID, Timeline: 1, Number: 11, Name: "00000001000000000000000B",
		Start: 0xB000000, End: 0xB000100}))
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

// noJob queues a task nowhere.
func noJob(*sql.Tx) (int64, error) { return 1, nil }

func TestTasksOfDeadInstancesAreOrphans(t *testing.T) {
	c, _ := open(t)
	add := func(kind string) Task {
		task := Task{ID: NewID(), Kind: kind, Arguments: json.RawMessage("{}")}
		require.NoError(t, c.AddTask(ctx, task, noJob))
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
		ok, _, err := c.BeginTask(ctx, id, owner, Limits{})
		require.NoError(t, err)
		assert.True(t, ok)
	}
	ok, _, err := c.BeginTask(ctx, kept.ID, dead, Limits{})
	require.NoError(t, err)
	assert.False(t, ok, "a task is begun once")
	orphans, err := c.Orphans(ctx)
	require.NoError(t, err)
	assert.Empty(t, orphans)
	deadLease.Release()
	require.Eventually(t, func() bool {
		orphans, err = c.Orphans(ctx)
		return err == nil && len(orphans) == 1
	}, time.Minute, 50*time.Millisecond)
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

// TestLeasesExclude holds that of two instances, and of two callers in one, only one has
// an exclusive right, and that sharing and tidying keep each other out.
func TestLeasesExclude(t *testing.T) {
	c, p := open(t)
	other, err := Open(ctx, dsn(p))
	require.NoError(t, err)
	defer other.Close()
	take := func(l *Lease, ok bool, err error) *Lease {
		t.Helper()
		require.NoError(t, err)
		if !ok {
			return nil
		}
		return l
	}
	mine := take(c.TakeCapture(ctx, "ferries"))
	require.NotNil(t, mine)
	assert.Nil(t, take(c.TakeCapture(ctx, "ferries")), "within this instance")
	assert.Nil(t, take(other.TakeCapture(ctx, "ferries")), "in another")
	theirs := take(other.TakeCapture(ctx, "lighthouse"))
	require.NotNil(t, theirs)
	mine.Release()
	again := take(other.TakeCapture(ctx, "ferries"))
	require.NotNil(t, again)
	mine.Release() // again, which must not take it from its new owner
	assert.Nil(t, take(c.TakeCapture(ctx, "ferries")))
	assert.True(t, again.Held(ctx))
	assert.False(t, mine.Held(ctx))

	first, second, third := take(c.ShareContent(ctx, "ferries")), take(c.ShareContent(ctx, "ferries")),
		take(other.ShareContent(ctx, "ferries"))
	for n, l := range []*Lease{first, second, third} {
		require.NotNil(t, l)
		assert.Nil(t, take(c.OwnContent(ctx, "ferries")), n)
		assert.Nil(t, take(other.OwnContent(ctx, "ferries")), n)
		l.Release()
	}
	owner := take(c.OwnContent(ctx, "ferries"))
	require.NotNil(t, owner)
	assert.Nil(t, take(c.ShareContent(ctx, "ferries")))
	assert.Nil(t, take(other.ShareContent(ctx, "ferries")))
	owner.Release()
	assert.NotNil(t, take(other.OwnContent(ctx, "ferries")))
}

// TestHundredsOfLeases holds that captures of many clusters leave connections for the work
// itself, and that all are lost together when their session is.
func TestHundredsOfLeases(t *testing.T) {
	c, p := open(t)
	var held []*Lease
	for n := range 300 {
		l, ok, err := c.TakeCapture(ctx, fmt.Sprint("cluster ", n))
		require.NoError(t, err)
		require.True(t, ok)
		held = append(held, l)
	}
	for range 50 {
		_, err := c.Clusters(ctx)
		require.NoError(t, err)
	}
	var sessions int
	require.NoError(t, p.Connect("postgres").QueryRow(ctx,
		"select count(*) from pg_stat_activity where application_name = 'velvet catalogue'").Scan(&sessions))
	assert.Less(t, sessions, 20)
	p.Exec("postgres", "select pg_terminate_backend(pid) from pg_locks where locktype = 'advisory'")
	for _, l := range held {
		assert.False(t, l.Held(ctx))
	}
	var anew *Lease
	require.Eventually(t, func() (ok bool) { // the server ends a session in its own time
		var err error
		anew, ok, err = c.TakeCapture(ctx, "cluster 7")
		return err == nil && ok
	}, time.Minute, 20*time.Millisecond)
	held[7].Release()
	assert.True(t, anew.Held(ctx), "what was lost gives nothing back")
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

// TestTrail has acts recorded by several at once, and the trail then tampered with.
func TestTrail(t *testing.T) {
	c, p := open(t)
	k := Cluster{ID: NewID(), Name: "ferries", ConnString: "host=db1", SegmentSize: 16 << 20, Slot: "velvet_x"}
	require.NoError(t, c.AddCluster(ctx, k))
	var wg errgroup.Group
	for n := range 40 {
		wg.Go(func() error {
			return c.AddToTrail(ctx, trail.Entry{Who: "purser", From: "10.0.0.7", Did: "take backup", Cluster: k.ID, Subject: fmt.Sprint(n),
				Outcome: "done"})
		})
	}
	require.NoError(t, wg.Wait())
	list, err := c.Trail(ctx, k.ID, 31, 10)
	require.NoError(t, err)
	require.Len(t, list, 10)
	assert.Equal(t, []int64{30, 21}, []int64{list[0].Number, list[9].Number}, "newest first, before a number")
	chain, noted, broken, err := c.CheckTrail(ctx, list[0].Hash)
	require.NoError(t, errors.Join(err, broken))
	assert.Equal(t, []int64{40, 30}, []int64{chain.Count, noted})
	for change, says := range map[string]string{
		"update velvet.trail set outcome = 'refused' where number = 12":       "entry 12 is not what was written",
		"delete from velvet.trail where number = 12":                          "entry 13 follows on entry 11",
		"update velvet.trail set at = at + interval '1 us' where number = 12": "entry 12 is not",
	} {
		p.Exec("postgres", "create table kept as select * from velvet.trail", change)
		_, _, broken, err = c.CheckTrail(ctx, "")
		require.NoError(t, err)
		assert.ErrorContains(t, broken, says, change)
		p.Exec("postgres", "delete from velvet.trail", "insert into velvet.trail select * from kept", "drop table kept")
	}
	p.Exec("postgres", "delete from velvet.trail where number > 25")
	_, noted, broken, err = c.CheckTrail(ctx, list[0].Hash)
	require.NoError(t, errors.Join(err, broken))
	assert.Zero(t, noted, "what was noted is gone")
}

// TestIncidentsOfTimelines has an accident read again on a timeline that forked after it, and another one undone by that.
func TestIncidentsOfTimelines(t *testing.T) {
	c, _ := open(t)
	k := Cluster{ID: NewID(), Name: "ferries", ConnString: "host=db1", SegmentSize: 16 << 20, Slot: "velvet_x"}
	require.NoError(t, c.AddCluster(ctx, k))
	add := func(timeline pg.Timeline, at pg.LSN, xid uint64) bool {
		added, err := c.AddIncident(ctx, Incident{ClusterID: k.ID, Timeline: timeline, LSN: at, XID: xid,
			CommittedAt: time.Unix(int64(at), 0), Reasons: json.RawMessage("[]")})
		require.NoError(t, err)
		return added
	}
	assert.True(t, add(1, 100, 7))
	assert.True(t, add(1, 200, 8))
	assert.False(t, add(1, 100, 7), "the same again")
	assert.False(t, add(2, 100, 7), "the same WAL on another timeline")
	assert.True(t, add(2, 200, 7), "another transaction")
	require.NoError(t, c.SettleUndone(ctx, k.ID, 2, []pg.Fork{{Timeline: 1, At: 150}}))
	list, err := c.Incidents(ctx, k.ID)
	require.NoError(t, err)
	settled := make(map[string]bool)
	for _, i := range list {
		settled[fmt.Sprint(i.Timeline, " ", i.XID)] = i.SettledAt != nil
	}
	assert.Equal(t, map[string]bool{"1 7": false, "1 8": true, "2 7": false}, settled)
}
