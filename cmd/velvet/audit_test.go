package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/inventory"
	"velvetrewind/testbed"
)

// TestAudit breaks a store in every way and reads what the audit says of it.
func TestAudit(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.commit(1)
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	for n := range 3 {
		s.commit(10 + n)
		testbed.One[string](s.Bed, s.db, "select pg_switch_wal()::text")
	}
	s.commit(20)
	s.captured()
	s.Eventually("finished segments are in the store", func() bool { k := s.cluster(); return k.Capture.Stored+16<<20 > k.Capture.Flushed })
	for _, how := range [][]string{{"store", "audit"}, {"store", "audit", "--full"}} {
		assert.Contains(t, s.service.Must(how...), "Everything that is needed is there, and nothing else.")
	}

	var backups []api.Backup
	s.service.JSON(&backups, "backup", "list", "ferries")
	k := s.cluster()
	below := func(names ...string) string {
		return filepath.Join(append([]string{s.Path("home", "store"), "clusters", k.ID}, names...)...)
	}
	pack, err := os.ReadFile(below("packs", backups[1].ID+"-000001"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(below("packs", backups[1].ID+"-000001")))
	require.NoError(t, os.WriteFile(s.Path("home", "store", "letters"), []byte("to nobody"), 0o600))
	require.NoError(t, os.WriteFile(below("packs", backups[0].ID+"-000099"), []byte("of nothing"), 0o600))
	var l api.Located
	s.service.JSON(&l, "segment", "locate", "tx "+s.commitBefore(), "--cluster", "ferries")
	require.Equal(t, "store", l.Where)
	content, err := os.ReadFile(below("wal", "00000001", l.Segment))
	require.NoError(t, err)
	content[len(content)/2] ^= 1
	require.NoError(t, os.WriteFile(below("wal", "00000001", l.Segment), content, 0o600))
	require.NoError(t, os.Remove(below("journal", "00000001", l.Segment)))

	r := s.service.Velvet("store", "audit")
	assert.Equal(t, 1, r.Code, "something is lost")
	for _, text := range []string{"-000001", "letters", "of no cluster that is known here", "-000099",
		"no backup and no record refers to it", "cannot be restored: " + backups[1].ID + ", " + backups[0].ID,
		"ferries can no longer be rewound"} {
		assert.Contains(t, r.Out, text)
	}
	assert.NotContains(t, r.Out, "damaged")
	r = s.service.Velvet("store", "audit", "--full", "--output", "json")
	assert.Equal(t, 1, r.Code)
	var tasks []api.Task
	s.service.JSON(&tasks, "task", "list")
	var found api.AuditResult
	status, text := s.call("GET", "/store/audits/"+tasks[0].ID, nil)
	require.Equal(t, 200, status)
	s.decode(text, &found)
	require.NotEmpty(t, found.Findings)
	assert.Equal(t, string(inventory.Damaged), found.Findings[0].Kind)
	assert.Contains(t, found.Findings[0].Key, l.Segment)
	require.Len(t, found.Losses, 1)
	assert.Equal(t, []string{backups[1].ID, backups[0].ID}, found.Losses[0].Backups, "the newer one shares the pack")
	assert.NotEmpty(t, found.Losses[0].Reach, "the moments after the damaged segment")
	assert.FileExists(t, s.Path("home", "store", "letters"), "an audit changes nothing")
	s.goOnWithoutWhatIsLost(backups, func() {
		require.NoError(t, os.WriteFile(below("packs", backups[1].ID+"-000001"), pack, 0o600))
		content[len(content)/2] ^= 1
		require.NoError(t, os.WriteFile(below("wal", "00000001", l.Segment), content, 0o600))
	})
	s.dropWhatIsLost(below("bases", backups[1].ID, "manifest"), backups[0], backups[1])
}

// goOnWithoutWhatIsLost holds that nothing is planned through what an audit could not
// read, and nothing new stands on it, until it was fixed and read again.
func (s *stage) goOnWithoutWhatIsLost(backups []api.Backup, fix func()) {
	reached := func() string { return s.service.Must("reach", "ferries") }
	assert.Contains(s, reached(), "it cannot be read, as the audit of")
	assert.Contains(s, s.service.Must("backup", "list", "ferries"), "(unreadable)")
	assert.Contains(s, s.service.Must("cluster", "list"), "2 base backups cannot be read, as an audit found")
	s.refused(1, []string{"no base backup of ferries can be read"}, "restore", "plan", "ferries", "latest")
	assert.Contains(s, s.service.Must("keep", "preview", "ferries", "--span", "1h", "--as-of", "2099-01-01"),
		"no base backup of the cluster can be read")
	assert.Equal(s, 1, s.service.Velvet("store", "audit").Code) // which does not read all of it, and takes nothing back
	var fresh api.Backup
	s.service.JSON(&fresh, "backup", "take", "ferries", "--checkpoint", "fast")
	assert.Equal(s, "full", fresh.Kind, "nothing is shared with what is lost")
	assert.Zero(s, fresh.BytesShared)
	assert.NotContains(s, s.service.Must("backup", "show", fresh.ID), "(unreadable)")
	s.commit(30)
	s.captured()
	k, conn := s.restore("latest")
	assert.Equal(s, fresh.ID, k.Plan.Base)
	assert.Equal(s, "1,10,11,12,20,30", testbed.One[string](s.Bed, conn, numbersOf))
	s.discard(k)
	s.refused(1, []string{"cannot be read, as an audit found"}, "restore", "plan", "ferries", "base "+backups[0].ID)

	fix()
	assert.Contains(s, reached(), "it cannot be read", "nobody has looked yet")
	s.service.Must("store", "audit", "--full")
	assert.NotContains(s, reached(), "it cannot be read")
	assert.NotContains(s, s.service.Must("backup", "list", "ferries"), "(unreadable)")
	s.service.Must("restore", "plan", "ferries", "base "+backups[0].ID)
}

// dropWhatIsLost drops base backups of which one cannot even be looked into, and another
// beside it: the space is freed when it is known again what the rest needs.
func (s *stage) dropWhatIsLost(manifest string, sound, lost api.Backup) {
	content, err := os.ReadFile(manifest)
	require.NoError(s, err)
	content[len(content)/2] ^= 1
	require.NoError(s, os.WriteFile(manifest, content, 0o600))
	assert.Equal(s, 1, s.service.Velvet("store", "audit", "--full").Code)
	s.service.Must("keep", "preview", "ferries")
	assert.Contains(s, s.service.Must("backup", "show", sound.ID), "what another base backup needs cannot be read")
	s.refused(1, []string{"what the base backup holds cannot be read", "velvet store audit --full"}, "backup", "show", lost.ID)
	s.refused(3, []string{"frees nothing yet", "cannot be read"}, "backup", "drop", sound.ID)
	r := s.service.Velvet("backup", "drop", sound.ID, "--confirm", "ferries")
	assert.Zero(s, r.Code, r.Err)
	assert.Contains(s, r.Out+r.Err, "the space is not freed yet")
	assert.Contains(s, s.service.Must("backup", "drop", lost.ID, "--confirm", "ferries"), "that no backup needs")
	for _, id := range []string{sound.ID, lost.ID} {
		left, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "*", id+"*"))
		require.NoError(s, err)
		assert.Empty(s, left)
	}
	s.service.Must("store", "audit", "--full")
}

// TestAuditBesideWork looks through a store while backups are taken and dropped and WAL
// comes: what is on its way is no finding.
func TestAuditBesideWork(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	ctx, cancel := context.WithCancel(t.Context())
	work := func(do func(n int) error) <-chan error {
		ended := make(chan error, 1)
		go func() {
			for n := 0; ctx.Err() == nil; n++ {
				if err := do(n); err != nil {
					ended <- err
					return
				}
			}
			ended <- nil
		}()
		return ended
	}
	writer := s.ferries.Connect("postgres")
	written := work(func(int) error {
		_, err := writer.Exec(context.Background(), "select pg_switch_wal(), pg_create_restore_point('buoy')")
		return err
	})
	changer := s.ferries.Connect("postgres")
	backups := work(func(n int) error {
		// Much that is new and does not shrink: packs that no manifest names yet.
		const rows = "create table foam%d as select n, (select string_agg(sha256((n::text || m || random())::bytea)::text, '') from " +
			"generate_series(1, 12) m) from generate_series(1, 40000) n"
		if _, err := changer.Exec(context.Background(), fmt.Sprintf("drop table if exists foam%d; "+rows, n, n+1)); err != nil {
			return err
		}
		r := s.service.Velvet("backup", "take", "ferries", "--checkpoint", "fast", "--output", "json")
		var b api.Backup
		if err := json.Unmarshal([]byte(r.Out), &b); err != nil {
			return fmt.Errorf("%w: %s%s", err, r.Out, r.Err)
		}
		if n%2 == 0 {
			return nil
		}
		if r := s.service.Velvet("backup", "drop", b.ID, "--confirm", "ferries"); r.Code != 0 {
			return errors.New(r.Err)
		}
		return nil
	})
	for range 20 {
		r := s.service.Velvet("store", "audit")
		if !assert.Contains(t, r.Out, "Everything that is needed is there, and nothing else.", r.Err) {
			break
		}
	}
	cancel()
	require.NoError(t, <-written)
	require.NoError(t, <-backups)
}

// TestDrop deletes base backups, one after the other.
func TestDrop(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	first := s.commit(1)
	s.commit(2)
	s.captured()
	k, conn := s.restore("before tx " + first)
	require.NoError(t, conn.Close(t.Context()))
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	second := s.commit(3)
	s.commit(4)
	s.captured()
	var backups []api.Backup
	s.service.JSON(&backups, "backup", "list", "ferries")
	newest, oldest := backups[0].ID, backups[1].ID

	s.refused(3, []string{"base " + oldest, "can no longer be rewound to moments from " + backups[1].Stop.String() + " to " +
		backups[0].Stop.String(), "confirm with the cluster's name"}, "backup", "drop", oldest)
	s.refused(3, []string{"every moment can still be reached with the others"}, "backup", "drop", newest)
	s.refused(3, nil, "backup", "drop", oldest, "--confirm", "another")
	s.service.Must("backup", "drop", oldest, "--confirm", "ferries")
	s.refused(1, []string{"no such base backup"}, "backup", "drop", oldest, "--confirm", "ferries")
	s.service.JSON(&backups, "backup", "list", "ferries")
	require.Len(t, backups, 1)
	assert.Contains(t, s.service.Must("store", "audit"), "and nothing else", "nothing of it is left")
	assert.Contains(t, s.service.Must("copy", "show", k.ID), "paused", "a copy that was made from it stands")
	s.refused(1, []string{"out of reach"}, "restore", "plan", "ferries", "tx "+first)
	other, conn := s.restore("tx " + second)
	assert.Equal(t, "1,2,3", testbed.One[string](s.Bed, conn, numbersOf))
	s.discard(other)
	s.discard(k)
	s.service.Must("backup", "drop", newest, "--confirm", "ferries")
	assert.Contains(t, s.service.Must("reach", "ferries"), "No moment can be reached yet")
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	assert.Len(t, s.cluster().Reach, 1)
}

const numbersOf = "select string_agg(n::text, ',' order by n) from journal"
