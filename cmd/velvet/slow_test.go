package main

import (
	"context"
	"net"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/testbed"
)

// link is a bad way to a server: what the server sends passes at no more than so many bytes a
// second, may be changed, and ends anywhere.
type link struct {
	port   int
	pace   atomic.Int64
	spoil  atomic.Bool  // one byte of the next large piece is another one
	cut    atomic.Int64 // after so many bytes more the connection that carries the last of them ends; 0 for never
	mute   atomic.Bool  // nothing passes either way, and nothing is closed
	server string
}

func newLink(t *testing.T, port int) *link {
	l := &link{server: net.JoinHostPort("127.0.0.1", strconv.Itoa(port))}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	l.port = listener.Addr().(*net.TCPAddr).Port
	l.pace.Store(1 << 40)
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			go l.carry(client)
		}
	}()
	return l
}

func (l *link) carry(client net.Conn) {
	defer func() { _ = client.Close() }()
	server, err := net.Dial("tcp", l.server)
	if err != nil {
		return
	}
	defer func() { _ = server.Close() }()
	go func() {
		defer func() { _ = server.Close() }()
		buf := make([]byte, 16<<10)
		for {
			n, err := client.Read(buf)
			l.wait()
			if _, failed := server.Write(buf[:n]); err != nil || failed != nil {
				return
			}
		}
	}()
	buf := make([]byte, 16<<10)
	for {
		n, err := server.Read(buf)
		if n > 12<<10 && l.spoil.CompareAndSwap(true, false) {
			buf[n/2] ^= 0x20
		}
		l.wait()
		if left := l.cut.Load(); left > 0 {
			if n = min(n, int(left)); l.cut.Add(int64(-n)) <= 0 {
				_, _ = client.Write(buf[:n])
				l.cut.Store(0)
				return
			}
		}
		if n > 0 {
			time.Sleep(time.Duration(int64(n) * int64(time.Second) / l.pace.Load())) // the pace of the link
			if _, err := client.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

func (l *link) wait() {
	for l.mute.Load() {
		time.Sleep(20 * time.Millisecond)
	}
}

// protectOver registers the ferries through a link, and takes a first base backup.
func (s *stage) protectOver(t *testing.T) *link {
	l := newLink(t, s.ferries.Port)
	through := strings.Replace(s.ferries.DSN("velvet", "postgres"), strconv.Itoa(s.ferries.Port), strconv.Itoa(l.port), 1)
	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "add", "ferries", "--connect", through, "--password-file", "-", "--no-base")
	require.Zero(t, r.Code, r.Err)
	s.streaming()
	s.service.Must("backup", "take", "ferries")
	return l
}

// TestCompleteIsTrueOverASlowLink captures over a link that is slower than what the server
// writes: what is said to be complete never goes beyond what is here, and the lag is told.
func TestCompleteIsTrueOverASlowLink(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	slow := s.protectOver(t)
	slow.pace.Store(6 << 20)
	s.ferries.Exec("postgres", "create table cargo (id int, note text)",
		"insert into cargo select n, repeat('c', 500) from generate_series(1, 60000) n")
	last := s.commit(1)
	var committed time.Time
	require.NoError(t, s.db.QueryRow(context.Background(), "select clock_timestamp()").Scan(&committed))
	end, err := pg.ParseLSN(testbed.One[string](s.Bed, s.db, "select pg_current_wal_flush_lsn()::text"))
	require.NoError(t, err)
	behind := 0
	s.Eventually("capture has caught up", func() bool {
		var k api.Cluster
		s.service.JSON(&k, "cluster", "show", "ferries")
		if k.Capture.Flushed < end {
			behind++
			if k.Capture.CompleteTo != nil {
				assert.True(t, k.Capture.CompleteTo.Before(committed),
					"complete to %s, with %d bytes of what was committed until %s missing", k.Capture.CompleteTo,
					end-k.Capture.Flushed, committed)
			}
		}
		return k.Capture.CompleteTo != nil && k.Capture.CompleteTo.After(committed)
	})
	assert.Greater(t, behind, 3, "the link was slow")
	for range 3 { // the rest of a segment after a switch comes last, and is not needed
		s.ferries.Exec("postgres", "update booking set note = note || '.' where id % 500 = 0", "select pg_switch_wal()")
		s.service.Must("restore", "plan", "ferries", "latest")
	}
	k, conn := s.restore("tx " + last)
	assert.Equal(t, 60000, testbed.One[int](s.Bed, conn, "select count(*) from cargo"))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
}

// TestDamageOnTheWayHoldsNothingUp has a byte of the WAL change on its way: the segment is stored
// as it came and is a hole, everything after it is captured, and a base backup ends it.
func TestDamageOnTheWayHoldsNothingUp(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	way := s.protectOver(t)
	before := s.commit(1)
	testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	s.commit(2)
	s.captured()
	way.spoil.Store(true)
	s.ferries.Exec("postgres", "create table cargo (id int, note text)",
		"insert into cargo select n, repeat('c', 500) from generate_series(1, 30000) n")
	for range 3 {
		testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
		s.ferries.Exec("postgres", "update booking set note = note || '.' where id % 500 = 0")
	}
	require.False(t, way.spoil.Load(), "a byte was changed")
	s.captured()
	s.Eventually("the hole is told, and what comes after it is stored", func() bool {
		k := s.cluster()
		return len(k.Holes) == 1 && k.Capture.State == "streaming" && k.Capture.Stored+pg.LSN(pg.DefaultSegmentSize) > k.Capture.Flushed
	})
	hole := s.cluster().Holes[0]
	assert.EqualValues(t, pg.DefaultSegmentSize, hole.To-hole.From, "no more than one segment")
	assert.Contains(t, hole.Cause, "cannot be read: the WAL cannot be replayed from")
	assert.Contains(t, s.service.Must("cluster", "list"), "velvet backup take ferries", "it needs attention")
	later := s.commit(3)
	s.captured()
	s.refused(1, []string{"out of reach"}, "restore", "plan", "ferries", "tx "+later)
	k, conn := s.restore("tx " + before)
	assert.Equal(t, "1", testbed.One[string](s.Bed, conn, numbersOf), "what lies before the hole is still reached")
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	last := s.commit(4)
	s.captured()
	k, conn = s.restore("tx " + last)
	assert.Equal(t, "1,2,3,4", testbed.One[string](s.Bed, conn, numbersOf))
	require.NoError(t, conn.Close(context.Background()))
	s.discard(k)
	assert.NotContains(t, s.service.Must("cluster", "list"), "velvet backup take ferries", "the base backup ended it")
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "Everything that is needed is there")
	assert.Len(t, s.cluster().Holes, 1, "an audit reads bytes, not records: it takes nothing back")

	s.service.Stop()
	s.service.UseDatabase("")
	s.service.With("--adopt-store")
	s.service.Start()
	s.service.Must("store", "rebuild")
	require.Len(t, s.cluster().Holes, 1, "a rebuild knows it, too")
	assert.Contains(t, s.cluster().Holes[0].Cause, "cannot be read: the WAL cannot be replayed from")
}
