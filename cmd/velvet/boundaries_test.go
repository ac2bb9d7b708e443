package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/testbed"
)

// TestRandomBoundaries commits transactions of several sessions in a known order,
// steps a copy to both sides of some of them, and compares the rows with a model.
func TestRandomBoundaries(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.ferries.Exec("postgres", "create table ledger (id int primary key, n int)")
	s.protect()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	random := rand.New(rand.NewPCG(3, uint64(time.Now().UnixNano())))
	commits := s.randomCommits(random, 120)
	s.captured()
	k, conn := s.restore("latest")
	assert.Equal(t, commits[len(commits)-1].rows, testbed.One[string](s.Bed, conn, ledger))
	for range 4 {
		at := random.IntN(len(commits)-1) + 1
		for moment, want := range map[string]string{"before tx " + commits[at].xid: commits[at-1].rows, "tx " +
			commits[at].xid: commits[at].rows} {
			k, conn = s.step(k, moment)
			assert.Equal(t, want, testbed.One[string](s.Bed, conn, ledger), "%s, the %dth commit", moment, at)
		}
	}
	s.discard(k)
}

const ledger = "select coalesce(string_agg(id || ':' || n, ',' order by id), '') from ledger"

type committed struct{ xid, rows string } // rows as they were after it

// randomCommits interleaves transactions of three sessions, each with rows of its own.
func (s *stage) randomCommits(random *rand.Rand, n int) []committed {
	ctx := context.Background()
	state := make(map[int]int)
	rows := func() string {
		ids := make([]int, 0, len(state))
		for id := range state {
			ids = append(ids, id)
		}
		slices.Sort(ids)
		var parts []string
		for _, id := range ids {
			parts = append(parts, fmt.Sprintf("%d:%d", id, state[id]))
		}
		return strings.Join(parts, ",")
	}
	var conns []*pgx.Conn
	for range 3 {
		conns = append(conns, s.ferries.Connect("postgres"))
	}
	open := make([]*session, len(conns))
	var list []committed
	for len(list) < n {
		i := random.IntN(len(conns))
		if open[i] == nil {
			tx, err := conns[i].Begin(ctx)
			require.NoError(s, err)
			open[i] = &session{tx: tx, changes: make(map[int]*int)}
		}
		open[i].step(s, random, i*1000, state)
		if random.IntN(3) > 0 {
			continue
		}
		if xid, done := open[i].end(s, random); done {
			open[i].apply(state)
			list = append(list, committed{xid, rows()})
		}
		open[i] = nil
	}
	for _, o := range open {
		if o != nil {
			require.NoError(s, o.tx.Rollback(ctx))
		}
	}
	return list
}

// session is an open transaction and what it will have changed.
type session struct {
	tx      pgx.Tx
	changes map[int]*int // nil where the row is deleted
}

func (o *session) step(s *stage, random *rand.Rand, first int, state map[int]int) {
	id, n := first+random.IntN(6), random.IntN(1000)
	ctx := context.Background()
	point, err := o.tx.Begin(ctx)
	require.NoError(s, err)
	before, had := o.changes[id]
	if random.IntN(3) == 0 {
		_, err = point.Exec(ctx, "delete from ledger where id = $1", id)
		o.changes[id] = nil
	} else {
		_, err = point.Exec(ctx, "insert into ledger values ($1, $2) on conflict (id) do update set n = excluded.n", id, n)
		o.changes[id] = &n
	}
	require.NoError(s, err)
	if random.IntN(4) > 0 {
		require.NoError(s, point.Commit(ctx))
		return
	}
	require.NoError(s, point.Rollback(ctx))
	if o.changes[id] = before; !had {
		delete(o.changes, id)
	}
}

// end commits, in one phase or two, or rolls back.
func (o *session) end(s *stage, random *rand.Rand) (xid string, committed bool) {
	ctx := context.Background()
	require.NoError(s, o.tx.QueryRow(ctx, "select pg_current_xact_id()::text").Scan(&xid))
	switch random.IntN(6) {
	case 0:
		require.NoError(s, o.tx.Rollback(ctx))
		return xid, false
	case 1:
		conn := o.tx.Conn()
		_, err := conn.Exec(ctx, "prepare transaction '"+xid+"'")
		require.NoError(s, err)
		_ = o.tx.Rollback(ctx)
		_, err = conn.Exec(ctx, "commit prepared '"+xid+"'")
		require.NoError(s, err)
	default:
		require.NoError(s, o.tx.Commit(ctx))
	}
	return xid, true
}

func (o *session) apply(state map[int]int) {
	for id, n := range o.changes {
		if n == nil {
			delete(state, id)
		} else {
			state[id] = *n
		}
	}
}

// TestOthersCommitWhileTablesAreLocked goes to before a transaction that held a table exclusively while another
// committed: what the other did is in, although the copy then cannot be asked for that table.
func TestOthersCommitWhileTablesAreLocked(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.take()
	locking := s.ferries.Connect("postgres")
	defer func() { _ = locking.Close(context.Background()) }()
	begin, err := locking.Begin(t.Context())
	require.NoError(t, err)
	_, err = begin.Exec(t.Context(), "truncate payment")
	require.NoError(t, err)
	s.commit(1)
	require.NoError(t, begin.Commit(t.Context()))
	s.commit(2)
	s.captured()
	const moment = "before truncate of payment"
	assert.Contains(t, s.service.Must("moment", moment, "--cluster", "ferries"), "others committed while tx")
	k, conn := s.restore(moment)
	assert.Equal(t, "1", testbed.One[string](s.Bed, conn, numbersOf), "what was committed before the table was truncated")
	_, err = conn.Exec(t.Context(), "set statement_timeout = '2s'; select count(*) from payment")
	assert.ErrorContains(t, err, "statement timeout", "it is locked")
	s.service.Must("copy", "open", k.ID)
	opened := s.connect(k.Port, "postgres")
	defer func() { _ = opened.Close(context.Background()) }()
	assert.Equal(t, 1000, testbed.One[int](s.Bed, opened, "select count(*) from payment"), "and whole once the copy is open")
	s.discard(k)
}
