package prove_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/proof"
	"velvetrewind/testbed"
	"velvetrewind/testbed/clusterbed"
)

// TestRandomRightCopies has random traffic, with savepoints, rollbacks, truncations, partitions and DDL, and proves copies of
// random transactions of it: they are right, and no check fails. VELVET_COPIES says how many.
func TestRandomRightCopies(t *testing.T) {
	copies := 4
	if n, err := strconv.Atoi(os.Getenv("VELVET_COPIES")); err == nil {
		copies = n
	}
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		seed := rand.Uint64()
		if n, err := strconv.ParseUint(os.Getenv("VELVET_SEED"), 10, 64); err == nil {
			seed = n
		}
		t.Logf("seed %d", seed)
		random := rand.New(rand.NewPCG(seed, 7))
		s := &scene{Cluster: clusterbed.NewWith(b, random.IntN(2) == 0)}
		s.Server.Exec(
			"postgres",
			"create table harbor (id serial primary key, name text not null)",
			`create table berth (id serial primary key, harbor int references harbor on delete cascade, note text,
				width numeric check (width > 0))`,
			"create index on berth (note)",
			"create index on berth (harbor desc, width)",
			"create table fare (day int, price int, primary key (day, price)) partition by range (day)",
			"create table fare_low partition of fare for values from (0) to (100)",
			"create table fare_high partition of fare default",
			"insert into harbor (name) select 'h' || n from generate_series(1, 20) n",
			"insert into berth (harbor, note, width) select 1 + n % 20, repeat('b', n % 3000), n from generate_series(1, 500) n",
			"insert into fare select n, n from generate_series(0, 199) n",
		)
		s.Capture()
		s.Eventually("capture streams", func() bool { return s.State().Receives() })
		s.maker = s.Maker()
		var ids []int64
		s.Take(layout.Full)
		for n := range copies * 30 {
			ids = append(ids, s.act(random, n))
		}
		s.Captured()
		for range (copies + 4) / 5 {
			moment := fmt.Sprintf("tx %d", ids[random.IntN(len(ids))])
			if random.IntN(2) == 0 {
				moment = "before " + moment
			}
			k := s.Copy(s.maker, moment)
			require.Empty(t, failing(s.checks(s.prover(), k), proof.Failed, proof.CouldNotRun), "%s, seed %d", moment, seed)
			require.NoError(t, s.maker.Remove(ctx, s.Record, k))
		}
	})
}

// act runs one random transaction, and gives its id: several statements after savepoints, or one that changes what tables are.
func (s *scene) act(random *rand.Rand, n int) (id int64) {
	tx, err := s.SQL.Begin(ctx)
	require.NoError(s, err)
	require.NoError(s, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&id))
	whole := []string{"truncate berth", fmt.Sprintf("create table ebb_%d as select generate_series(1, 10) n", n), "analyze berth",
		fmt.Sprintf("alter table berth add column c%d int default 3", n), "alter table harbor alter name set default 'tide'"}
	rows := []string{"insert into berth (harbor, note, width) select min(id), 'new', 5 from harbor",
		"update berth set note = note || '.' where id % 7 = 3", "delete from berth where id % 11 = 5",
		fmt.Sprintf("update fare set day = (day + 90) %% 200 where price = %d", n%200), "insert into harbor (name) values ('late')",
		"insert into berth (harbor, note, width) select max(id), repeat(md5(random()::text), 300), 2 from harbor",
		"savepoint tide; insert into harbor (name) values ('undone'); rollback to tide", "select lo_from_bytea(0, 'tide')",
		"delete from harbor where id = (select max(id) from harbor)",
		"insert into berth (harbor, note, width) select 1 + g % 15, 'many', g from generate_series(1, 300) g"}
	if random.IntN(4) == 0 {
		_, err := tx.Exec(ctx, whole[random.IntN(len(whole))])
		require.NoError(s, err)
	} else {
		for range 1 + random.IntN(3) {
			_, err := tx.Exec(ctx, "savepoint step")
			require.NoError(s, err)
			if _, err := tx.Exec(ctx, rows[random.IntN(len(rows))]); err != nil { // a key that is there already
				_, err := tx.Exec(ctx, "rollback to step")
				require.NoError(s, err)
			}
		}
	}
	if random.IntN(5) == 0 {
		s.Server.Exec("postgres", "insert into fare values (1000 + nextval('harbor_id_seq')::int, 1)") // beside it
	}
	require.NoError(s, tx.Commit(ctx))
	if random.IntN(10) == 0 {
		s.Server.Exec("postgres", "vacuum berth", "checkpoint")
	}
	return id
}
