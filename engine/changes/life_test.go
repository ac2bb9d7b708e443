package changes_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// life is a real cluster whose transactions the test knows.
type life struct {
	*clusterbed.Cluster
	done []known
}

// known is a committed transaction, with the rows that its statements reported.
type known struct {
	xid                        pg.FullXID
	inserted, updated, deleted int64
	after                      time.Time // of the server's clock, when it had committed
}

// commit runs statements in one transaction.
func (l *life) commit(statements ...string) known {
	ctx := context.Background()
	tx, err := l.SQL.Begin(ctx)
	require.NoError(l, err)
	var k known
	for _, s := range statements {
		tag, err := tx.Exec(ctx, s)
		require.NoError(l, err, s)
		switch {
		case tag.Insert():
			k.inserted += tag.RowsAffected()
		case tag.Update():
			k.updated += tag.RowsAffected()
		case tag.Delete():
			k.deleted += tag.RowsAffected()
		}
	}
	var xid int64
	require.NoError(l, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&xid))
	require.NoError(l, tx.Commit(ctx))
	require.NoError(l, l.SQL.QueryRow(ctx, "select clock_timestamp()").Scan(&k.after))
	k.xid = pg.FullXID(xid)
	l.done = append(l.done, k)
	return k
}

func (l *life) open() *changes.Journal {
	_, j := l.Journal()
	return j
}

func (l *life) resolve(j *changes.Journal, text string) (moment.Boundary, string, error) {
	m, err := moment.Parse(text, moment.Caller{Now: time.Now(), Zone: time.UTC})
	require.NoError(l, err, text)
	return j.Resolve(context.Background(), m)
}

// TestLifeOfAJournal has a real server do everything that a journal tells of, over several segments of which the last is not
// stored yet, and asks: of the indexes that capture made, without some of them, without any, with damaged ones. What is
// answered is what the statements reported, each time the same.
func TestLifeOfAJournal(t *testing.T) {
	ctx := context.Background()
	l := &life{Cluster: clusterbed.New(testbed.New(t))}
	away := &refusing{Store: l.Store.First()}
	l.Keep(away)
	l.Capture()
	l.Eventually("capture streams", func() bool { return l.State().Receives() })
	base := l.Take(layout.Full)
	l.commit("create table booking (id int, note text)", "create table pier (id int)",
		"insert into booking select n, 'tide' from generate_series(1, 500) n")
	for round := range 3 {
		l.commit(fmt.Sprintf("delete from booking where id %% 50 = %d", round))
		l.commit("insert into pier values (1), (2)", "update booking set note = 'ebb' where id % 7 = 0")
		l.Server.Exec("postgres", fmt.Sprintf("select pg_create_restore_point('round %d')", round))
		l.Server.Exec("postgres", "begin; delete from pier; rollback")
		l.Stored()
	}
	l.commit("insert into pier values (7)", "select pg_switch_wal()", "insert into pier values (8)") // over two segments
	l.commit("create table fare (id int)", "insert into fare select generate_series(1, 400) n")
	l.commit("delete from fare where id = 1")
	season := l.commit("delete from fare")
	// From here on two segments are in the spool alone, one of them whole.
	away.on.Store(true)
	l.Server.Exec("postgres", "select pg_switch_wal()")
	l.Server.Exec("postgres", "checkpoint") // so that pages are in the WAL as a whole
	l.commit("insert into fare values (1)")
	dropped := l.commit("drop table pier")
	l.Server.Exec("postgres", "select pg_switch_wal()")
	l.commit("savepoint s", "delete from booking where id = 11", "rollback to savepoint s", "delete from booking where id > 490")
	l.done[len(l.done)-1].deleted-- // the one that was taken back
	other := l.Server.Connect("postgres")
	var open int64
	tx, err := other.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "insert into booking values (-1, 'slack')")
	require.NoError(t, err)
	require.NoError(t, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&open))
	l.Captured()
	l.Eventually("the tables' names are known", func() bool {
		list, _, err := l.open().List(ctx, journal.Filter{Table: journal.Table{Name: "pier"}}, true, 9)
		return err == nil && len(list) > 0
	})

	want := l.asked(base.Start)
	l.telling(want.list, dropped, season, pg.FullXID(open))
	away.on.Store(false)
	l.Eventually("what was spooled is stored", func() bool { return l.State().Spooled == 0 })
	want.text = l.asked(base.Start).text // some of it lies elsewhere now
	prefix := store.JournalPrefix(l.Record.ID)
	for what, damage := range map[string]func(n int, key string){
		"none":   func(_ int, key string) { require.NoError(t, l.Store.Delete(ctx, key)) },
		"others": func(n int, key string) { l.unless(n%2 == 0, key) },
		"damaged": func(_ int, key string) {
			w, err := l.Store.First().Create(ctx, key)
			require.NoError(t, err)
			_, err = io.WriteString(w, "something else")
			require.NoError(t, err)
			require.NoError(t, w.Commit())
		},
	} {
		var keys []string
		require.NoError(t, l.Store.List(ctx, prefix, func(i store.Info) error { keys = append(keys, i.Key); return nil }))
		require.Greater(t, len(keys), 2, what)
		for n, key := range keys {
			damage(n, key)
		}
		require.Equal(t, want.text, l.asked(base.Start).text, what)
		made := 0
		require.NoError(t, l.Store.List(ctx, prefix, func(store.Info) error { made++; return nil }))
		assert.Equal(t, len(keys), made, "%s: what was missing is made again", what)
	}
	require.NoError(t, tx.Rollback(ctx))
}

// refusing is a store that takes nothing while it is on.
type refusing struct {
	store.Store
	on atomic.Bool
}

func (r *refusing) Create(ctx context.Context, key string) (store.Writer, error) {
	if r.on.Load() {
		return nil, errors.New("the store is away")
	}
	return r.Store.Create(ctx, key)
}

func (l *life) unless(stays bool, key string) {
	if !stays {
		require.NoError(l, l.Store.Delete(context.Background(), key))
	}
}

// answers are what a journal says, in words.
type answers struct {
	text string
	list []changes.Entry
}

// asked asks everything that can be asked.
func (l *life) asked(from pg.LSN) (a answers) {
	ctx := context.Background()
	opened, j := l.Journal()
	var said strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&said, format+"\n", args...) }
	var err error
	var more bool
	a.list, more, err = j.List(ctx, journal.Filter{}, true, 1000)
	require.NoError(l, err)
	require.False(l, more)
	for _, e := range a.list {
		say("tx %d at %s to %s, %s: %s", e.XID, e.First, e.End, e.Time, changes.Summary(e))
		found, err := j.ByXID(ctx, e.XID)
		require.NoError(l, err)
		require.Len(l, found, 1)
		before, note, err := l.resolve(j, fmt.Sprintf("before tx %d", e.XID))
		say("before: %s %s %v", plain(l, before), note, err)
		after, note, err := l.resolve(j, fmt.Sprintf("tx %d", e.XID))
		say("after: %s %s %v", plain(l, after), note, err)
		if err == nil {
			cost, err := j.Cost(ctx, after)
			require.NoError(l, err)
			say("costs %d transactions, %d tables", cost.Transactions, len(cost.Tables))
			around, kept, err := j.Around(ctx, after.Keeps, after.Stop, 3)
			require.NoError(l, err)
			for _, x := range around {
				say("around: %d", x.XID)
			}
			say("of which %d are kept", kept)
		}
		for _, lsn := range []pg.LSN{e.First, e.End + 8} {
			m, err := moment.Parse("lsn "+lsn.String(), moment.Caller{})
			require.NoError(l, err)
			at, err := j.Locate(ctx, m)
			require.NoError(l, err)
			require.NotNil(l, at.Record)
			assert.True(l, at.Record.Start <= lsn && lsn < at.Record.End)
			say("in %s: %s, %+v", at.Segment.Name(l.Record.SegmentSize), at.Where, at.Record)
		}
	}
	points, err := j.RestorePoints(ctx)
	require.NoError(l, err)
	for _, p := range points {
		b, _, err := l.resolve(j, "restore point "+p.Name)
		say("%s at %s: %s %v", p.Name, p.LSN, plain(l, b), err)
	}
	b, _, err := l.resolve(j, "latest")
	require.NoError(l, err)
	say("latest: %v", *b.LastIn) // the server writes on by itself, after it
	for _, text := range []string{"before drop of pier", "before delete of booking", "before delete of quay", "tx 3"} {
		b, note, err := l.resolve(j, text)
		say("%s: %s %s %v", text, plain(l, b), note, err)
	}
	for _, o := range j.Open() {
		say("open: %d since %s", o.XID, o.First)
	}
	pages, err := j.Blocks(ctx, from, opened.Capture.FlushedLSN)
	require.NoError(l, err)
	say("pages: %v", pages.List())
	a.text = said.String()
	return a
}

func plain(t require.TestingT, b moment.Boundary) string {
	text, err := json.Marshal(b)
	require.NoError(t, err)
	return string(text)
}

// telling compares what the journal tells with what the statements reported, and moments with what lies on both sides.
func (l *life) telling(list []changes.Entry, dropped, season known, open pg.FullXID) {
	told := make(map[pg.FullXID]changes.Entry)
	for _, e := range list {
		told[e.XID] = e
	}
	j := l.open()
	var before *known
	for i, k := range l.done {
		e, has := told[k.xid]
		require.True(l, has, "tx %d is told", k.xid)
		var sum journal.Counts
		for _, c := range e.Tables {
			if !c.System() {
				for kind, n := range c.Counts {
					sum[kind] += n
				}
			}
		}
		assert.Equal(l, []int64{k.inserted, k.updated, k.deleted},
			[]int64{sum[journal.Insert], sum[journal.Update], sum[journal.Delete]}, "tx %d", k.xid)
		b, _, err := l.resolve(j, fmt.Sprintf("before tx %d", k.xid))
		require.NoError(l, err)
		assert.Equal(l, k.xid, b.FirstOut.XID)
		if before != nil && i > 1 {
			assert.GreaterOrEqual(l, b.LastIn.XID, before.xid)
			assert.Less(l, b.LastIn.XID, k.xid)
			// A time between the two commits is the same moment, as soon as everything until then is known.
			at, _, err := l.resolve(j, before.after.UTC().Format(time.RFC3339Nano))
			if err == nil {
				assert.GreaterOrEqual(l, at.LastIn.XID, before.xid)
				assert.LessOrEqual(l, at.FirstOut.XID, k.xid)
			}
		}
		before = &l.done[i]
	}
	l.rates(j, list)
	chosen, note, err := l.resolve(j, "before delete of fare")
	require.NoError(l, err)
	assert.Equal(l, season.xid, chosen.FirstOut.XID)
	assert.Regexp(l, `^chosen over other deletes of fare, of which the largest removed 1 row \(tx \d+\)$`, note)
	around, kept, err := j.Around(context.Background(), chosen.Keeps, chosen.Stop, 2)
	require.NoError(l, err)
	assert.Equal(l, season.xid, around[kept].XID, "the first that is undone")
	assert.Equal(l, chosen.LastIn.XID, around[kept-1].XID)
	b, _, err := l.resolve(j, "before drop of pier")
	require.NoError(l, err)
	assert.Equal(l, dropped.xid, b.FirstOut.XID)
	assert.Less(l, b.Stop, told[dropped.xid].End, "clear of the locks of the drop")
	var refused *problem.Problem
	_, _, err = l.resolve(j, "before delete of booking near 2001-01-01 00:00 UTC")
	require.ErrorAs(l, err, &refused)
	assert.Contains(l, refused.Next, "At other times:")
	_, _, err = l.resolve(j, fmt.Sprintf("tx %d", open))
	require.ErrorAs(l, err, &refused)
	assert.Contains(l, refused.Detail, "is still open")
	_, _, err = l.resolve(j, fmt.Sprintf("tx %d", open+1000))
	require.ErrorAs(l, err, &refused)
	assert.Contains(l, refused.Detail, "has not begun")
	_, _, err = l.resolve(j, time.Now().Add(time.Hour).UTC().Format(time.RFC3339))
	require.ErrorAs(l, err, &refused)
	assert.Contains(l, refused.Detail, "beyond the captured WAL")
}

// rates adds up what was committed in parts of the time, each transaction in its own.
func (l *life) rates(j *changes.Journal, list []changes.Entry) {
	first, last := list[0].Time, list[len(list)-1].Time.Add(time.Millisecond)
	for _, parts := range []int{1, 5, 40} {
		rates, err := j.Rates(context.Background(), first, last, parts)
		require.NoError(l, err)
		require.Len(l, rates, parts)
		want := make([]int64, parts)
		for _, e := range list {
			at := parts - 1
			for at > 0 && e.Time.Before(rates[at].From) {
				at--
			}
			want[at]++
		}
		var got []int64
		for _, r := range rates {
			got = append(got, r.Transactions)
		}
		assert.Equal(l, want, got)
	}
}
