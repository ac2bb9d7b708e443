package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/testbed"
)

// TestPartialCopies holds partial copies against whole ones at random boundaries of a random workload, on every version: one in the
// tests, VELVET_PARTIALS of them in the long form.
func TestPartialCopies(t *testing.T) {
	t.Parallel()
	rounds := 1
	if n, err := strconv.Atoi(os.Getenv("VELVET_PARTIALS")); err == nil {
		rounds = n
	}
	seed := rand.Uint64()
	if n, err := strconv.ParseUint(os.Getenv("VELVET_SEED"), 10, 64); err == nil {
		seed = n
	}
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		t.Logf("seed %d", seed)
		partialAtRandom(newStageOn(b), rand.New(rand.NewPCG(seed, 6)), rounds)
	})
}

func partialAtRandom(s *stage, random *rand.Rand, rounds int) {
	s.protect()
	w := &workload{stage: s, random: random, alone: true} // of databases copied as files no partial copy can be made
	for n := range 4 {
		w.run("postgres", fmt.Sprintf("create table t%[1]d (id int, note text, wide text); create index t%[1]d_id on t%[1]d (id);"+
			"create index t%[1]d_note on t%[1]d using hash (note);"+
			"insert into t%[1]d select n, 'ebb', null from generate_series(1, 9000) n", n))
	}
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	log, moments := []string{}, []string{}
	for range 3*rounds + 6 {
		log = append(log, w.step())
		if random.IntN(3) == 0 {
			s.checkpointAmid(fmt.Sprintf("create table if not exists t%[1]d (id int, note text, wide text); "+
				"insert into t%[1]d select n, 'flood' from generate_series(1, 60000) n", random.IntN(4)))
			log[len(log)-1] += ", a checkpoint amid a long insert"
		}
		moments = append(moments, "tx "+s.commit(len(moments)+1))
	}
	s.captured()
	partly, refused := 0, 0
	for range rounds {
		moment, table := moments[random.IntN(len(moments))], fmt.Sprintf("t%d", random.IntN(4))
		whole, all := s.restore(moment)
		part, some := s.stands(moment, "restore", "start", "ferries", moment, "--only", table, "--database", "postgres")
		what := fmt.Sprintf("%s, %s after %s", table, moment, strings.Join(log, "; "))
		if part.Partial != nil {
			partly++
		}
		for n := range 4 {
			name := fmt.Sprintf("t%d", n)
			want, failed := held(all, name)
			require.NoError(s, failed, what)
			got, err := held(some, name)
			if err != nil && name != table && part.Partial != nil {
				require.ErrorContains(s, err, "could not open file", what)
				refused++
				continue
			}
			require.NoError(s, err, what)
			require.Equal(s, want, got, what)
		}
		require.NoError(s, all.Close(context.Background()))
		s.recoversFrom(some, part, table)
		s.discard(whole)
		s.discard(part)
	}
	require.Equal(s, rounds, partly, "none has become a whole one: %s", strings.Join(log, "; "))
	s.Logf("%d copies refused %d queries", partly, refused)
}

// checkpointAmid has a checkpoint begin while a statement writes.
func (s *stage) checkpointAmid(statement string) {
	done := make(chan error, 1)
	conn := s.ferries.Connect("postgres")
	go func() {
		_, err := conn.Exec(context.Background(), statement)
		done <- errors.Join(err, conn.Close(context.Background()))
	}()
	time.Sleep(20 * time.Millisecond)
	s.ferries.Exec("postgres", "checkpoint")
	require.NoError(s, <-done)
}

// recoversFrom has the server of a copy go through recovery once more, from the last checkpoint that it had replayed: what it was given
// had records joined across that.
func (s *stage) recoversFrom(conn *pgx.Conn, k api.Copy, table string) {
	before, err := held(conn, table)
	require.NoError(s, err)
	_, err = conn.Exec(context.Background(), "checkpoint")
	require.NoError(s, err)
	require.NoError(s, syscall.Kill(int(conn.PgConn().PID()), syscall.SIGKILL))
	address := fmt.Sprintf("host=127.0.0.1 port=%d user=%s password='%s' dbname=postgres", k.Port, testbed.Superuser, testbed.Password)
	s.Eventually("it recovers from the crash of a session", func() bool {
		again, err := pgx.Connect(context.Background(), address)
		if err != nil {
			return false
		}
		defer func() { _ = again.Close(context.Background()) }()
		after, err := held(again, table)
		return err == nil && after == before
	})
}

// held is what a table of a copy holds, read as a whole and by each of its indexes; that there is none is an answer, too.
func held(conn *pgx.Conn, table string) (out string, err error) {
	ctx := context.Background()
	var there bool
	if err := conn.QueryRow(ctx, "select to_regclass($1) is not null", table).Scan(&there); err != nil || !there {
		return "no table", err
	}
	for _, query := range []string{"set enable_seqscan = on",
		"select count(*) || ' ' || coalesce(sum(hashtext(x::text)), 0) from " + table + " x", "set enable_seqscan = off",
		"select count(*) || ' ' || coalesce(sum(id), 0) from " + table + " where id > 0",
		"select count(*) || ' ' || coalesce(sum(id), 0) from " + table + " where note = 'ebb'",
	} {
		var sum string
		if strings.HasPrefix(query, "set") {
			_, err = conn.Exec(ctx, query)
		} else {
			err = conn.QueryRow(ctx, query).Scan(&sum)
		}
		if err != nil {
			return "", err
		}
		out += sum + "; "
	}
	return out, nil
}

// TestAPartialCopyIsNoWhole has everything refused that a partial copy cannot do.
func TestAPartialCopyIsNoWhole(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.exec("create table pier (id int); insert into pier values (1)")
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	last := s.commit(1)
	s.captured()
	s.refused(1, []string{"no table was ever called piers", "There are: public.pier"}, "restore", "start", "ferries", "tx "+last, "--only",
		"piers")
	s.refused(1, []string{"a partial copy is not made over the original's files"}, "restore", "start", "ferries", "tx "+last, "--only",
		"pier", "--over-original")
	k, conn := s.stands("tx "+last, "restore", "start", "ferries", "tx "+last, "--only", "pier")
	require.Equal(t, &api.Partial{Database: "postgres", Tables: []string{"public.pier"}}, k.Partial)
	require.Equal(t, 1, testbed.One[int](s.Bed, conn, "select count(*) from pier"))
	for _, query := range []string{"select * from booking", "select count(*) from payment"} {
		_, err := conn.Exec(context.Background(), query)
		require.ErrorContains(t, err, "could not open file", query)
	}
	for _, c := range [][]string{{"copy", "open", k.Name}, {"copy", "step", k.Name, "latest"}, {"prove", "run", k.Name},
		{"restore", "takeover", k.Name}} {
		s.refused(1, []string{"is partial: it holds only public.pier", "velvet restore start"}, c...)
	}
	assert.Contains(t, s.service.Must("copy", "show", k.Name), "holds only    public.pier of database postgres")
	s.exec("create database copied strategy file_copy")
	later := s.commit(2)
	s.captured()
	whole, _ := s.stands("tx "+later, "restore", "start", "ferries", "tx "+later, "--only", "pier")
	assert.Nil(t, whole.Partial)
	assert.Contains(t, s.service.Must("task", "show", whole.Task), "a partial copy could not be made, so that it becomes a whole one")
	assert.Contains(t, s.service.Must("task", "show", whole.Task), "a database is copied as files")
	_, err := conn.Exec(context.Background(), "select pg_wal_replay_resume()")
	require.NoError(t, err)
	s.Eventually("somebody has opened it by hand", func() bool { return !testbed.One[bool](s.Bed, conn, "select pg_is_in_recovery()") })
	_, err = conn.Exec(context.Background(), "insert into pier values (2)")
	require.ErrorContains(t, err, "read-only transaction", "and it is still not written to")
	s.discardAll()
}
