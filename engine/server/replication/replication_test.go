package replication

import (
	"archive/tar"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/engine/server/access"
	"velvetrewind/testbed"
)

func TestStreamMessages(t *testing.T) {
	at := time.Date(2026, 11, 23, 14, 3, 7, 0, time.UTC)
	u64 := func(b []byte, v uint64) []byte { return binary.BigEndian.AppendUint64(b, v) }
	data := u64(u64(u64([]byte{'w'}, 0x100), 0x300), uint64(pg.ToTimestamp(at)))
	m, err := parseMessage(append(data, "tide"...))
	require.NoError(t, err)
	assert.Equal(t, Message{Start: 0x100, Data: []byte("tide"), ServerEnd: 0x300, ServerTime: at}, m)
	m, err = parseMessage(append(u64(u64([]byte{'k'}, 0x300), uint64(pg.ToTimestamp(at))), 1))
	require.NoError(t, err)
	assert.Equal(t, Message{ServerEnd: 0x300, ServerTime: at, ReplyNow: true}, m)
	for _, bad := range [][]byte{nil, {'w'}, {'k', 1}, {'x'}, data[:20]} {
		_, err := parseMessage(bad)
		assert.Error(t, err, "%q", bad)
	}
	var end *EndOfTimeline
	require.ErrorAs(t, endOfTimeline([][]byte{[]byte("2"), []byte("0/3000158")}), &end)
	assert.Equal(t, Next{Timeline: 2, At: 0x3000158}, end.Next)
	assert.False(t, errors.As(endOfTimeline([][]byte{[]byte("2")}), &end))
	a, err := newArchive([]byte("16400.tar\x00/ledger\x00"))
	require.NoError(t, err)
	assert.Equal(t, uint32(16400), a.tablespace)
	for _, bad := range []string{"16400.zip\x00", "base.tar", "x.tar\x00"} {
		_, err := newArchive([]byte(bad))
		assert.ErrorContains(t, err, "unknown archive", bad)
	}
}

// TestSessions speaks to a real server: who it is, slots, history, a stream and a backup that is broken off.
func TestSessions(t *testing.T) { testbed.EachVersion(t, testSessions) }

func testSessions(t *testing.T, b *testbed.Bed) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	p := b.Postgres("original", true)
	require.NoError(t, b.Host.MakeDir(b.Path("original", "ledger"), 0o700))
	p.Exec("postgres", "create tablespace ledger location '"+b.Path("original", "ledger")+"'",
		"create table payment (n int) tablespace ledger")
	a := access.Access{ConnString: p.DSN(testbed.Superuser, "postgres"), Password: testbed.Password}
	open := func() *Session {
		s, err := Open(ctx, a)
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.Close(context.Background()) })
		return s
	}
	s := open()
	sys, err := s.Identify(ctx)
	require.NoError(t, err)
	assert.Equal(t, pg.Timeline(1), sys.Timeline)
	_, ok, err := s.ReadSlot(ctx, "tide")
	require.NoError(t, err)
	assert.False(t, ok)
	require.NoError(t, s.CreateSlot(ctx, "tide"))
	slot, ok, err := s.ReadSlot(ctx, "tide")
	require.NoError(t, err)
	assert.True(t, ok && slot.Restart > 0)
	assert.ErrorContains(t, s.CreateSlot(ctx, "tide"), "already exists")
	_, err = s.History(ctx, 7)
	assert.ErrorContains(t, err, "TIMELINE_HISTORY")

	from := pg.DefaultSegmentSize.Start(pg.DefaultSegmentSize.Number(slot.Restart))
	st, err := open().Start(ctx, "tide", 1, from)
	require.NoError(t, err)
	soon := time.Now().Add(time.Minute)
	m, err := st.Receive(soon)
	for err == nil && len(m.Data) == 0 {
		m, err = st.Receive(soon)
	}
	require.NoError(t, err)
	assert.Equal(t, from, m.Start)
	require.NoError(t, st.Report(from+8, true))
	b.Eventually("the server knows what was flushed", func() bool {
		return testbed.One[string](b, p.Connect("postgres"),
			"select coalesce(max(flush_lsn::text), '') from pg_stat_replication") == (from + 8).String()
	})
	require.NoError(t, st.Close())
	require.NoError(t, s.DropSlot(ctx, "tide"))
	require.NoError(t, s.DropSlot(ctx, "tide"), "one that is gone is no error")
	_, err = open().Start(ctx, "tide", 1, from)
	assert.ErrorContains(t, err, "does not exist")

	whole, err := open().BaseBackup(ctx, BaseBackupOptions{Label: "high tide", Fast: true})
	require.NoError(t, err)
	files := make(map[string]bool)
	for {
		a, err := whole.NextArchive()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		for entries := tar.NewReader(a); ; {
			h, err := entries.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err)
			files[fmt.Sprint(a.Tablespace, " ", h.Name)] = true
		}
	}
	listed := 0
	_, err = pg.ReadManifest(whole.Manifest(), func(f pg.ManifestFile) error {
		if !strings.HasPrefix(f.Path, "pg_tblspc/") {
			assert.True(t, files["0 "+f.Path], f.Path)
		}
		listed++
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, listed, 500)
	space := testbed.One[uint32](b, p.Connect("postgres"), "select oid from pg_tablespace where spcname = 'ledger'")
	assert.True(t, files[fmt.Sprint(space, " ", pg.Major(b.Major).TablespaceDirectory())] ||
		files[fmt.Sprint(space, " ", pg.Major(b.Major).TablespaceDirectory(), "/")], "the tablespace has an archive")
	stopAt, err := whole.Finish()
	require.NoError(t, err)
	assert.Greater(t, stopAt, whole.Start)

	breaking, stop := context.WithCancel(ctx)
	base, err := open().BaseBackup(breaking, BaseBackupOptions{Label: "it's low tide", Fast: true})
	require.NoError(t, err)
	archive, err := base.NextArchive()
	for err == nil && archive.Tablespace != 0 {
		archive, err = base.NextArchive()
	}
	require.NoError(t, err)
	_, err = io.CopyN(io.Discard, archive, 1000)
	require.NoError(t, err)
	stop()
	for err == nil {
		_, err = io.CopyN(io.Discard, archive, 1<<20)
	}
	assert.NotErrorIs(t, err, io.EOF, "a backup that was broken off has no end")
}
