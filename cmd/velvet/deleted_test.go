package main

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// TestTakenBack deletes base backups, WAL and a whole cluster, and takes all of it back, also from a
// catalogue that says that it has waited long enough. After its time it is gone.
func TestTakenBack(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--delete-after", "1h")
	s.protect()
	s.take("--kind", "full")
	first := s.commit(1)
	s.ferries.Exec("postgres", "select pg_switch_wal()")
	s.commit(2)
	s.take("--kind", "full")
	second := s.commit(3)
	s.captured()
	s.Eventually("WAL and its journal are in the store", func() bool { _, complete := s.indexes(); return complete })
	root := s.Path("home", "store")
	everything := len(s.objects(root))
	var bases []api.Backup
	s.service.JSON(&bases, "backup", "list", "ferries")
	require.Len(t, bases, 2)
	back := func() {
		t.Helper()
		for _, xid := range []string{first, second} {
			k, conn := s.restore("tx " + xid)
			assert.NotZero(t, testbed.One[int](s.Bed, conn, "select count(*) from journal"))
			require.NoError(t, conn.Close(context.Background()))
			s.discard(k)
		}
		assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else")
	}

	// One base backup.
	s.refused(3, []string{"it can be taken back for 1 hour: velvet keep undo ferries"}, "backup", "drop", bases[1].ID)
	assert.Contains(t, s.service.Must("backup", "drop", bases[1].ID, "--confirm", "ferries"), "velvet keep undo ferries")
	assert.NotContains(t, s.service.Must("backup", "list", "ferries"), bases[1].ID)
	s.refused(1, []string{"out of reach"}, "restore", "plan", "ferries", "tx "+first)
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "Until then it can be taken back: velvet keep undo ferries")
	assert.Contains(t, s.service.Must("store", "audit", "--full"), "and nothing else", "what waits is no finding")
	assert.Contains(t, s.service.Must("keep", "undo", "ferries"), "What was deleted of ferries is back")
	back()
	s.refused(1, []string{"nothing of ferries waits to be permanently deleted"}, "keep", "undo", "ferries")

	// What a rule does not need, and then whoever writes to the catalogue is in a hurry.
	s.service.Must("keep", "set", "ferries", "--newest", "1")
	s.service.Must("keep", "apply", "ferries", "--confirm", "ferries")
	assert.Contains(t, s.service.Must("keep", "show", "ferries"), "WAL segment")
	records := s.service.Records.Connect("postgres")
	for _, q := range []string{
		"update velvet.backups set dropped_at = now() - interval '30 days' where dropped_at is not null",
		"update velvet.released set released_at = now() - interval '30 days', due_at = null",
		"update velvet.clusters set tidy_after = null, tidy_due = true",
	} {
		_, err := records.Exec(context.Background(), q)
		require.NoError(t, err)
	}
	require.NoError(t, records.Close(context.Background()))
	s.service.Stop()
	s.service.Start() // looks after its store
	s.streaming()
	s.Eventually("the notices were looked at", func() bool {
		c := s.service.Records.Connect("postgres")
		defer func() { _ = c.Close(context.Background()) }()
		return testbed.One[bool](s.Bed, c, "select tidy_after is not null from velvet.clusters")
	})
	_, err := os.Stat(filepath.Join(root, "clusters", s.cluster().ID, "bases", bases[1].ID, "manifest"))
	testbed.Attack(t, "writer of the catalogue, base backups and WAL that have waited long enough", err != nil)
	s.service.Must("keep", "undo", "ferries")
	back()
	assert.GreaterOrEqual(t, len(s.objects(root)), everything)

	// The whole cluster.
	for _, b := range bases {
		s.service.Must("backup", "drop", b.ID, "--confirm", "ferries")
	}
	s.service.Must("capture", "stop", "ferries")
	s.service.Must("cluster", "remove", "ferries", "--confirm", "ferries")
	assert.GreaterOrEqual(t, len(s.objects(root)), everything-1)
	assert.Contains(t, s.service.Must("store", "audit"), "and nothing else")
	s.service.Must("store", "rebuild")
	s.Eventually("its base backups are known", func() bool {
		s.service.JSON(&bases, "backup", "list", "ferries")
		return len(bases) == 2
	})

	// After its time.
	s.service.Must("backup", "drop", bases[1].ID, "--confirm", "ferries")
	s.service.Stop()
	s.service.With("--delete-after", "1s")
	s.service.Start()
	s.Eventually("it is gone", func() bool {
		_, err := os.Stat(filepath.Join(root, "clusters", s.cluster().ID, "bases", bases[1].ID, "manifest"))
		return os.IsNotExist(err)
	})
	s.refused(1, []string{"nothing of ferries waits to be permanently deleted"}, "keep", "undo", "ferries")
}

// TestClonedCatalogue has a copy of the catalogue begin to use the store: whoever used it last may delete
// and replace what is there, and the other may not.
func TestClonedCatalogue(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.take("--kind", "full")
	s.commit(1)
	s.take("--kind", "full")
	s.captured()
	var bases []api.Backup
	s.service.JSON(&bases, "backup", "list", "ferries")
	s.service.Stop()
	admin := s.service.Records.Connect("template1")
	_, err := admin.Exec(context.Background(), "create database clone template postgres")
	require.NoError(t, err)
	require.NoError(t, admin.Close(context.Background()))
	s.service.Start()
	s.streaming()

	clone := s.service.Another("clone-home")
	clone.UseDatabase(s.service.Records.DSN(testbed.Superuser, "clone") + " password='" + testbed.Password + "'")
	clone.With("--store", s.Path("home", "store"))
	out := clone.Refuses()
	assert.Contains(t, out, "another catalogue, or a later state of this one, has used the store since")
	clone.With("--store", s.Path("home", "store"), "--adopt-store")
	clone.Start()

	before := s.objects(s.Path("home", "store"))
	r := s.service.Velvet("backup", "drop", bases[1].ID, "--confirm", "ferries")
	assert.NotZero(t, r.Code)
	assert.Contains(t, r.Out+r.Err, "nothing in the store was deleted or replaced")
	r = s.service.Velvet("store", "deposit")
	assert.NotZero(t, r.Code, r.Out)
	s.Eventually("that is what needs attention", func() bool {
		needs := s.cluster().Needs
		return len(needs) > 0 && needs[0].Kind == "store"
	})
	gone := false
	for path := range before {
		_, err := os.Stat(path)
		gone = gone || err != nil
	}
	testbed.Attack(t, "copy of the catalogue, deletes what the other one needs", gone)
	s.service.Stop()
	assert.Contains(t, s.service.Refuses(), "has used the store since")
	r = clone.Velvet("backup", "drop", bases[1].ID, "--confirm", "ferries")
	assert.Zero(t, r.Code, r.Err)
	clone.Stop()
	clone.With("--store", s.Path("home", "store"))
	clone.Start() // again, as itself
	clone.Must("store", "audit")
	s.service = clone
}
