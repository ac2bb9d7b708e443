package capture_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// TestAuthors has a hundred sessions write at once, each as another, in transactions longer than a look: each is attributed to
// whoever did it, and none to another. Statements are kept only where that is asked for, and a role that may not look says so.
func TestAuthors(t *testing.T) {
	ctx := context.Background()
	l := &life{T: t, Cluster: clusterbed.New(testbed.New(t), "max_connections = 130")}
	l.Server.Exec("postgres", "create table cargo (n int, note text)", "grant insert, delete on cargo to public")
	require.NoError(t, l.Catalog.SetAuthors(ctx, l.Record.ID, journal.AuthorRule{Days: 1, Statement: 25}))
	old := store.AuthorsKey(l.Record.ID, time.Now().AddDate(0, 0, -9))
	l.capture()
	const sessions = 100
	did := make([]pg.FullXID, sessions)
	var begun, wg sync.WaitGroup
	seen := make(chan struct{})
	seenBy := func(word string) []pg.FullXID {
		_, j := l.Journal()
		ids, err := j.By(ctx, word, time.Time{}, time.Time{})
		require.NoError(t, err)
		return ids
	}
	begun.Add(sessions)
	for n := range sessions {
		l.Server.Exec("postgres", fmt.Sprintf("create role clerk_%d login password '%s'", n, testbed.Password))
	}
	for n := range sessions {
		wg.Go(func() {
			hasBegun := sync.OnceFunc(begun.Done)
			defer hasBegun()
			conn, err := pgx.Connect(ctx, l.Server.DSN(fmt.Sprintf("clerk_%d", n), "postgres")+
				fmt.Sprintf(" password='%s' application_name=desk-%d", testbed.Password, n))
			if !assert.NoError(t, err) {
				return
			}
			defer func() { _ = conn.Close(ctx) }()
			var xid int64
			assert.NoError(t, conn.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&xid), "ends at once")
			tx, err := conn.Begin(ctx)
			if !assert.NoError(t, err) {
				return
			}
			assert.NoError(t, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&xid))
			did[n] = pg.FullXID(xid)
			_, err = tx.Exec(ctx, fmt.Sprintf("insert into cargo select %d, 'a bale of reeds'", n))
			assert.NoError(t, err)
			hasBegun()
			<-seen
			assert.NoError(t, tx.Commit(ctx))
		})
	}
	begun.Wait()
	l.Eventually("all were looked at", func() bool { return len(seenBy("desk-")) >= sessions })
	close(seen)
	wg.Wait()
	l.Captured()
	l.stop() // what was seen is in the store then
	_, j := l.Journal()
	list, _, err := j.List(ctx, journal.Filter{Empty: true}, true, 5000)
	require.NoError(t, err)
	found, err := j.Authors(ctx, list)
	require.NoError(t, err)
	for n, xid := range did {
		who, is := found[xid]
		require.True(t, is, "tx %d", xid)
		assert.Equal(t, fmt.Sprintf("clerk_%d (desk-%d) from 127.0.0.1", n, n), who.String())
		assert.Equal(t, "postgres", who.Database)
		assert.Equal(t, fmt.Sprintf("insert into cargo select %d, 'a bale of reeds'", n)[:25], who.Statement)
		assert.False(t, who.Last.Before(who.First))
	}
	for xid, who := range found {
		assert.Equal(t, xid, who.XID)
	}
	assert.Positive(t, l.State().AuthorsLook)
	for word, want := range map[string][]pg.FullXID{"desk-42": {did[42]}, "CLERK_7 ": {did[7]}, "nobody": nil} {
		ids, err := j.By(ctx, word, time.Time{}, time.Time{})
		require.NoError(t, err)
		assert.Equal(t, want, ids, word)
		only, _, err := j.List(ctx, journal.Filter{Empty: true, XIDs: append([]pg.FullXID{}, ids...)}, true, 50)
		require.NoError(t, err)
		assert.Len(t, only, len(want), word)
	}
	ids, err := j.By(ctx, "clerk", time.Now().Add(time.Hour), time.Time{})
	require.NoError(t, err)
	assert.NotEmpty(t, ids, "the newest object may go on")
	ids, err = j.By(ctx, "clerk", time.Time{}, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	assert.Empty(t, ids)

	// An incident says who it was. Of long ago nothing is kept, of statements nothing any more.
	_, err = l.Store.Put(ctx, old, l.Supervisor.Codec, nil)
	require.NoError(t, err)
	require.NoError(t, l.Catalog.SetAuthors(ctx, l.Record.ID, journal.AuthorRule{Days: 1}))
	l.Server.Exec("postgres", "insert into cargo select generate_series(1, 20000)")
	l.capture()
	conn := l.Server.Connect("postgres")
	tx, err := conn.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "delete from cargo")
	require.NoError(t, err)
	xid := pg.FullXID(testbed.One[int64](l.Bed, conn, "select pg_current_xact_id()::text::bigint"))
	l.Eventually("whoever deletes is looked at", func() bool { return slices.Contains(seenBy(testbed.Superuser), xid) })
	require.NoError(t, tx.Commit(ctx))
	l.Eventually("nothing is kept of long ago", func() bool {
		_, err := l.Store.Stat(ctx, old)
		return errors.Is(err, store.ErrNotFound)
	})
	l.Eventually("the incident says who it was", func() bool {
		incidents, err := l.Catalog.Incidents(ctx, l.Record.ID)
		return err == nil && len(incidents) == 1 && incidents[0].Author != ""
	})
	incidents, err := l.Catalog.Incidents(ctx, l.Record.ID)
	require.NoError(t, err)
	assert.Contains(t, incidents[0].Author, testbed.Superuser)
	l.stop()

	l.Supervisor.Access = func(catalog.Cluster) (access.Access, error) {
		return access.Access{ConnString: l.Server.DSN("lookout", "postgres"), Password: testbed.Password}, nil
	}
	l.Server.Exec("postgres", fmt.Sprintf("create role lookout login replication password '%s'", testbed.Password))
	l.stop = l.Capture()
	l.Eventually("that it may not look is told", func() bool {
		return l.State().AuthorsProblem == "the role lookout may not see who writes: GRANT pg_read_all_stats TO lookout"
	})
}
