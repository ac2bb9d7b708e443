package changes_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// TestOneScript has a script and somebody else delete from one table: the moment is ambiguous, the candidates say who did
// each, and the script's are offered as one.
func TestOneScript(t *testing.T) {
	ctx := context.Background()
	l := &life{Cluster: clusterbed.New(testbed.New(t))}
	l.Server.Exec("postgres", "create table tally (n int)", "insert into tally select n from generate_series(1, 900) n")
	l.Capture()
	l.Eventually("capture streams", func() bool { return l.State().Receives() })
	script := l.Server.Connect("postgres")
	var first pg.FullXID
	for n := range 3 {
		tx, err := script.Begin(ctx)
		require.NoError(t, err)
		_, err = tx.Exec(ctx, fmt.Sprintf("set application_name = 'purge'; delete from tally where n %% 9 = %d; select pg_sleep(1.5)", n))
		require.NoError(t, err)
		var xid int64
		require.NoError(t, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&xid))
		require.NoError(t, tx.Commit(ctx))
		if n == 0 {
			first = pg.FullXID(xid)
		}
	}
	l.commit("delete from tally where n % 9 = 4", "select pg_sleep(1.5)")
	l.Captured()
	l.Eventually("the authors are kept", func() bool {
		_, _, err := l.resolve(l.open(), "before delete of tally")
		require.Error(t, err)
		return strings.Count(err.Error(), ", by ") == 4 && strings.Contains(err.Error(), fmt.Sprintf("\nbefore tx %d is before all 3 that "+
			"%s (purge) from 127.0.0.1 did in one session\nbefore tx %d is before all 4 of them", first, testbed.Superuser, first))
	})
}
