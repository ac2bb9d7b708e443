package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/service"
	"velvetrewind/testbed"
)

// clock is a clock that a test sets forward.
type clock struct{ ahead atomic.Int64 }

func (c *clock) now() time.Time      { return time.Now().Add(time.Duration(c.ahead.Load())) }
func (c *clock) setTo(t time.Time)   { c.ahead.Store(int64(time.Until(t))) }
func (c *clock) day(n int) time.Time { return simulated.AddDate(0, 0, n) }
func (c *clock) begin(t testing.TB) {
	c.setTo(c.day(0))
	require.WithinDuration(t, c.day(0), c.now(), time.Minute)
}
func (c *clock) forward(n int) string { c.setTo(c.day(n)); return c.day(n).Format("2006-01-02") }

// simulated is the first of the simulated days: at noon in Lisbon, eighteen days before the
// clocks there are set forward.
var simulated = time.Date(2027, 3, 10, 12, 0, 0, 0, time.UTC)

// TestMain stands in for the program where recovering servers call it: the service that
// serveHere runs installs the program that it runs in.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "segment" {
		main()
		return
	}
	os.Exit(m.Run())
}

// serveHere runs the service in this process, on a clock of the test's, in the place of
// the stage's own. The stage's commands reach it as they reached that.
func (s *stage) serveHere(t *testing.T, c *clock) {
	s.service.Stop()
	log, err := os.OpenFile(s.Path("service.log"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		ended <- service.Run(ctx, service.Config{
			Home: s.Path("home"), Catalogue: s.service.Catalogue, StoreKey: s.service.StoreKey, Listen: "127.0.0.1:0",
			Now: c.now, LookEvery: 50 * time.Millisecond,
		}, "test", slog.New(slog.NewTextHandler(log, nil)), func(string, string) { close(ready) })
	}()
	t.Cleanup(func() { cancel(); require.NoError(t, <-ended) })
	select {
	case <-ready:
	case err := <-ended:
		require.NoError(t, err)
	}
}

// TestThirtyDays lets a calendar take base backups and apply the keep rule for thirty
// simulated days, over a change of clocks. Every promised moment can be reached all the
// while, what the rule does not need is gone, and samples are restored.
func TestThirtyDays(t *testing.T) {
	s := newStage(t)
	s.protect()
	s.exec("alter system set checkpoint_completion_target = 0") // the calendar lets checkpoints take their time
	s.exec("select pg_reload_conf()")
	c := new(clock)
	c.begin(t)
	s.serveHere(t, c)
	s.streaming()
	s.service.Must("keep", "set", "ferries", "--span", "5d", "--weekly", "3", "--monthly", "1", "--zone", "Europe/Lisbon")
	s.service.Must("calendar", "add", "backup", "--cluster", "ferries", "--at", "01:30", "--zone", "Europe/Lisbon")
	s.service.Must("calendar", "add", "keep", "--cluster", "ferries", "--at", "04:00", "--zone", "Europe/Lisbon")
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "The calendar applies the rule next at 2027-03-11 04:00:00")
	s.Eventually("what was due since the cluster was added is caught up once",
		func() bool { return len(s.lastRuns()) == 2 && len(s.active()) == 0 })
	ends := []string{s.endOfDay(0)} // where each day ended
	for day := 1; day <= 30; day++ {
		before := s.lastRuns()
		c.forward(day)
		s.Eventually("the day's work is begun", func() bool {
			now := s.lastRuns()
			return len(now) == 2 && now["backup"].After(before["backup"]) && now["keep"].After(before["keep"])
		})
		s.Eventually("the day's work is done", func() bool { return len(s.active()) == 0 })
		ends = append(ends, s.endOfDay(day))
		if day == 12 {
			s.service.Must("keep", "pin", s.newest(), "--reason", "before the works at the slipway")
		}
	}
	// The calendar's keep run of the last day began beside its base backup; now nothing is under way.
	if r := s.service.Velvet("keep", "apply", "ferries", "--confirm", "ferries"); r.Code != 0 {
		require.Fail(t, r.Out+r.Err)
	}
	var p api.KeepPreview
	s.preview(&p)
	assert.Empty(t, releasable(p))
	for _, w := range p.WAL {
		assert.True(t, w.Needed, "%v", w)
	}
	assert.True(t, p.Held)
	assert.Less(t, len(p.Bases), 12, "five days, their carrier, three weeks, a month and the pin")
	kinds := make(map[string]int)
	for _, b := range p.Bases {
		for _, r := range b.Reasons {
			kinds[r.Kind]++
		}
	}
	assert.Equal(t, 3, kinds["week"])
	assert.Equal(t, 1, kinds["month"])
	assert.Equal(t, 1, kinds["pin"])
	assert.GreaterOrEqual(t, kinds["span"], 5)
	for day, end := range ends {
		r := s.service.Velvet("restore", "plan", "ferries", "lsn "+end)
		if day >= 26 {
			assert.Zero(t, r.Code, "day %d is promised: %s", day, r.Err)
		}
	}
	r := s.service.Velvet("restore", "plan", "ferries", "lsn "+ends[5])
	assert.NotZero(t, r.Code, "day 5 was deleted")
	s.Eventually("what was deleted is gone from the store", func() bool {
		return strings.Contains(s.service.Velvet("store", "audit").Out,
			"and nothing else")
	})
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")

	var pinned api.Keep
	s.service.JSON(&pinned, "keep", "show", "ferries")
	require.Len(t, pinned.Pins, 1)
	for moment, days := range map[string]int{"lsn " + ends[27]: 27, "latest": 30, "base " + pinned.Pins[0].Backup: 11} {
		k, conn := s.restore(moment)
		assert.Equal(t, days+1, s.daysIn(conn), moment)
		verdict := "verdict: passed"
		if days == 11 { // the WAL after it was deleted
			verdict = "WAL between the boundary and"
		}
		assert.Contains(t, s.service.Velvet("prove", "run", k.ID).Out, verdict)
		require.NoError(t, conn.Close(context.Background()))
		s.discard(k)
	}
	text := s.service.Must("reach", "ferries")
	assert.Contains(t, text, "deleted by the keep rule")
	assert.Contains(t, text, "held: yes")

	// A clock that is far ahead must not delete everything.
	s.service.JSON(&p, "keep", "preview", "ferries")
	var entries []api.Entry
	s.service.JSON(&entries, "calendar", "list")
	for _, e := range entries {
		if e.Work == "backup" {
			s.service.Must("calendar", "pause", e.ID)
		}
	}
	c.forward(400)
	var last api.Task
	s.Eventually("a keep run has failed", func() bool {
		var list []api.Task
		s.service.JSON(&list, "task", "list", "--kind", "keep run", "--limit", "1")
		last = list[0]
		return last.State == "failed"
	})
	assert.Contains(t, s.service.Must("task", "show", last.ID), "nothing was captured within the 5 days that are promised")
	var after api.KeepPreview
	s.preview(&after)
	assert.Len(t, after.Bases, len(p.Bases), "nothing was deleted")
}

// lastRuns tells when each work of the calendar was due that was begun last.
func (s *stage) lastRuns() map[string]time.Time {
	var entries []api.Entry
	s.service.JSON(&entries, "calendar", "list")
	last := make(map[string]time.Time)
	for _, e := range entries {
		if e.Last != nil && e.Last.Problem == "" {
			last[e.Work] = e.Last.Due
		}
	}
	return last
}

func (s *stage) preview(p *api.KeepPreview) {
	s.Helper()
	s.service.JSON(p, "keep", "preview", "ferries")
}

// endOfDay writes the day's bookings, and fills the segment so that the WAL moves on.
func (s *stage) endOfDay(n int) string {
	s.exec(fmt.Sprintf("insert into journal values (%d)", 100_000+n))
	s.exec(fmt.Sprintf("update booking set note = 'day %d' where id %% 40 = %d", n, n))
	end := testbed.One[string](s.Bed, s.db, "select pg_current_wal_flush_lsn()::text")
	s.exec("select pg_switch_wal()")
	s.captured()
	return end
}

func (s *stage) daysIn(conn *pgx.Conn) int {
	return testbed.One[int](s.Bed, conn, "select count(*)::int from journal where n >= 100000")
}

// TestKeepRefusals holds that what would lose something, or has changed, is refused with
// one clear answer.
func TestKeepRefusals(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	for range 2 {
		s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
		s.exec("insert into journal select coalesce(max(n), 0) + 1 from journal")
		s.exec("select pg_switch_wal()")
		s.captured()
	}
	s.refused(1, []string{"keeps nothing"}, "keep", "set", "ferries", "--newest", "0")
	s.refused(1, []string{"no time zone"}, "keep", "set", "ferries", "--span", "3d", "--zone", "Atlantis/Pier")
	s.refused(1, []string{"31d or 36h"}, "keep", "set", "ferries", "--span", "soon")
	out := s.service.Must("keep", "set", "ferries", "--span", "31d")
	assert.Contains(t, out, "reaches further back than the cluster does", "a promise longer than the reach")
	s.refused(1, []string{"no such base backup"}, "keep", "pin", "01m00000000000000000000000", "--reason", "none")
	s.refused(1, []string{"is past"}, "keep", "pin", s.newest(), "--reason", "late", "--until", "2020-01-01")
	s.refused(1, []string{"never run"}, "calendar", "add", "backup", "--cluster", "ferries", "--cron", "0 0 30 2 *")
	s.refused(1, []string{"whole store"}, "calendar", "add", "audit", "--cluster", "ferries", "--every-hours", "5")
	assert.Contains(t, s.service.Must("calendar", "add", "backup", "--cluster", "ferries", "--at", "01:30", "--zone", "Europe/Lisbon",
		"--preview"), "01:30:00")
	assert.Contains(t, s.service.Must("calendar", "list"), "Nothing is scheduled yet", "a preview saves nothing")

	var begun api.Task
	s.service.JSON(&begun, "backup", "take", "ferries", "--detach") // a spread checkpoint: it takes its time
	s.refused(1, []string{"a task of it is under way", "velvet task cancel " + begun.ID}, "cluster", "remove", "ferries",
		"--confirm", "ferries")
	s.service.Must("task", "cancel", begun.ID)
	s.Eventually("the backup is cancelled", func() bool { return len(s.active()) == 0 })
	s.refused(1, []string{"no such task"}, "task", "retry", "01m00000000000000000000000")
	var again api.Task
	s.service.JSON(&again, "task", "retry", begun.ID, "--detach")
	assert.Equal(t, "backup", again.Kind)
	s.refused(1, []string{"has not ended"}, "task", "retry", again.ID)
	s.service.Must("task", "cancel", again.ID)
	s.Eventually("it is cancelled too", func() bool { return len(s.active()) == 0 })

	first := s.oldest()
	s.service.Must("keep", "pin", first, "--reason", "the auditors")
	assert.Contains(t, s.service.Must("keep", "preview", "ferries", "--newest", "1"), "pinned: the auditors")
	s.refused(3, []string{"the auditors"}, "backup", "drop", first)
	s.service.Must("keep", "unpin", first)
	s.service.Must("keep", "set", "ferries", "--newest", "1")
	var p api.KeepPreview
	s.preview(&p)
	require.Equal(t, []string{first}, releasable(p))
	require.True(t, slices.ContainsFunc(p.WAL, func(w api.KeepWAL) bool { return !w.Needed }))
	s.refused(3, []string{"1 base backup", "WAL segment", "it is gone at once"}, "keep", "apply", "ferries")
	s.refused(3, []string{"would be deleted"}, "keep", "apply", "ferries", "--confirm", "harbour")
	k, conn := s.restore("base " + first) // a copy from a base that would be deleted
	require.NoError(t, conn.Close(context.Background()))
	var used api.KeepPreview
	s.preview(&used)
	assert.Empty(t, releasable(used), "a copy needs it")
	assert.NotEqual(t, p.Token, used.Token)
	s.discard(k)

	s.service.Velvet("keep", "apply", "ferries", "--confirm", "ferries", "--detach")
	s.service.Kill() // at any moment: what was begun is finished or was not begun
	s.service.Start()
	s.streaming()
	s.Eventually("it is whole again", func() bool {
		return len(s.active()) == 0 && strings.Contains(s.service.Velvet("store", "audit").Out,
			"Everything that is needed is there, and nothing else.")
	})
	out = s.service.Must("keep", "apply", "ferries", "--confirm", "ferries")
	assert.Contains(t, s.service.Must("keep", "apply", "ferries"), "nothing would be deleted", out)
	k, conn = s.restore("latest")
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
}

func (s *stage) oldest() string {
	var list []api.Backup
	s.service.JSON(&list, "backup", "list", "ferries")
	return list[len(list)-1].ID
}

// releasable lists the base backups that would be deleted.
func releasable(p api.KeepPreview) (ids []string) {
	for _, b := range p.Bases {
		if !b.Needed {
			ids = append(ids, b.ID)
		}
	}
	return ids
}
