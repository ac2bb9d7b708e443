package capture

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/testbed"
)

// workload makes WAL of many kinds.
var workload = []string{
	"create extension pg_walinspect",
	"create table t (id serial primary key, a int, b text, c int[], p point)",
	"create index on t using hash (a)", "create index on t using gin (c)", "create index on t using gist (p)",
	"create index on t using brin (id)", "create index on t using spgist (p)",
	"insert into t (a, b, c, p) select n % 100, repeat('x', n % 300), array[n, n % 7], point(n, n % 13) from generate_series(1, 20000) n",
	"begin; insert into t (a) values (1); savepoint s; insert into t (a) values (2); rollback to s; insert into t (a) values (3); commit",
	"begin; insert into t (a) select n from generate_series(1, 100) n; rollback",
	"insert into t (b) select string_agg(md5(n::text), '') from generate_series(1, 3000) n", // out of line
	"update t set a = a + 1 where id % 3 = 0", "delete from t where id % 5 = 0", "vacuum t", "select * from t where id = 1 for update",
	"begin; insert into t (a) values (9); prepare transaction 'one'", "commit prepared 'one'",
	"begin; insert into t (a) values (9); prepare transaction 'two'", "rollback prepared 'two'",
	"create table parts (n int) partition by range (n)", "create table low partition of parts for values from (0) to (100)", "insert into parts select n from generate_series(0, 99) n",
	"create unlogged table u (n int)", "insert into u values (1)", "create temporary table tt as select 1",
	"vacuum full t", "truncate parts", "cluster t using t_pkey", "alter table t add column d int default 7", "drop table parts",
	"create database by_log strategy wal_log", "create database by_file strategy file_copy", "drop database by_file",
	"create sequence s", "select nextval('s') from generate_series(1, 100)",
	"copy t (b) from program 'seq 1 5000'", "select pg_create_restore_point('low tide')", "select pg_switch_wal()", "checkpoint",
	"insert into t (a) select n from generate_series(1, 5000) n", "reindex table t", "analyze t", "select pg_logical_emit_message(true, 'p', repeat('m', 20000))",
	"comment on table t is 'tide'", "begin; lock table t; commit", "select txid_current()",
}

// TestReaderAgainstTheServer holds every record that our reader finds against what
// the server itself says of the same range: place, length, transaction, manager and
// the pages that it refers to.
func TestReaderAgainstTheServer(t *testing.T) {
	b := testbed.New(t)
	p := b.Postgres("original", true, "max_prepared_transactions = 5", "wal_level = logical", "wal_keep_size = '2GB'", "wal_compression = lz4", "autovacuum = off")
	conn := p.Connect("postgres")
	from := testbed.One[string](b, conn, "select pg_current_wal_insert_lsn()::text")
	for _, q := range workload {
		_, err := conn.PgConn().Exec(context.Background(), q).ReadAll()
		require.NoError(t, err, q)
	}
	out, err := p.Program("pgbench", "-i", "-q", "-s", "3", "postgres").CombinedOutput()
	require.NoError(t, err, string(out))
	out, err = p.Program("pgbench", "-c", "2", "-t", "2000", "-n", "postgres").CombinedOutput()
	require.NoError(t, err, string(out))
	to := testbed.One[string](b, conn, "select pg_switch_wal()::text")

	judge := p.Connect("postgres")
	rows, err := judge.Query(context.Background(), `select start_lsn::text, end_lsn::text, prev_lsn::text, xid::text::bigint, resource_manager || ' ' || record_type, record_length,
		coalesce(block_ref, '') from pg_get_wal_records_info($1::text::pg_lsn, $2::text::pg_lsn)`, from, to)
	require.NoError(t, err)
	defer rows.Close()
	ours := openWAL(t, p, from)
	seen, differ := 0, 0
	for rows.Next() {
		var start, end, prev pg.LSN
		var xid, length int64
		var manager, blocks string
		require.NoError(t, rows.Scan(&start, &end, &prev, &xid, &manager, &length, &blocks))
		rec, err := ours.Next()
		require.NoError(t, err, "at %s", start)
		seen++
		want := fmt.Sprintf("%s %s %s %d %s %d %s", start, end, prev, xid, manager, length, blocks)
		got := fmt.Sprintf("%s %s %s %d %s %d %s", rec.Start, rec.End, rec.Prev, rec.XID, rec.Manager.String()+" "+rec.Kind(ours.Version()), rec.Length, refer(rec))
		if want != got {
			if differ++; differ < 10 {
				assert.Equal(t, want, got)
			}
		}
	}
	require.NoError(t, rows.Err())
	t.Logf("%d records compared, %d differ", seen, differ)
	assert.Greater(t, seen, 50_000)
	assert.Zero(t, differ)
}

// refer writes a record's block references as the server does.
func refer(r *wal.Record) string {
	s := ""
	forks := []string{"main", "fsm", "vm", "init"}
	for _, b := range r.Blocks {
		if b.ID > 0 {
			s += " "
		}
		s += fmt.Sprintf("blkref #%d: rel %d/%d/%d fork %s blk %d", b.ID, b.Space, b.Database, b.Filenode, forks[b.Fork], b.Number)
		if len(b.Image) > 0 {
			s += " (FPW"
			if b.ImageInfo&0x02 == 0 {
				s += " for WAL verification"
			}
			s += fmt.Sprintf("); hole: offset: %d, length: %d", b.HoleStart, b.HoleSize)
			if b.ImageInfo&0x1c != 0 {
				s += fmt.Sprintf(", compression saved: %d, method: lz4", pg.BlockSize-int(b.HoleSize)-len(b.Image))
			}
		}
	}
	return s
}

// openWAL reads the server's own segments from the first record at or after a place.
func openWAL(t *testing.T, p *testbed.Postgres, from string) *wal.Reader {
	at, err := pg.ParseLSN(from)
	require.NoError(t, err)
	z := pg.DefaultSegmentSize
	var files []io.Reader
	for n := z.Number(at); ; n++ {
		f, err := os.Open(filepath.Join(p.DataDir, "pg_wal", pg.Segment{Timeline: 1, Number: n}.Name(z)))
		if errors.Is(err, os.ErrNotExist) {
			break
		}
		require.NoError(t, err)
		t.Cleanup(func() { _ = f.Close() })
		files = append(files, f)
	}
	r := wal.NewReader(io.MultiReader(files...), wal.Options{Start: z.Start(z.Number(at)), SegmentSize: z})
	for {
		before := r.Position()
		if before >= at && before != 0 {
			return r
		}
		rec, err := r.Next()
		require.NoError(t, err)
		if rec.End >= at {
			return r
		}
	}
}

// TestRowCountsEqualTheStatements runs random statements, with savepoints, and holds
// the rows that each committed transaction reported against the journal.
func TestRowCountsEqualTheStatements(t *testing.T) {
	b := testbed.New(t)
	p := b.Postgres("original", true)
	p.Exec("postgres", "create table booking (id int primary key, season int, note text)", "create index on booking (season)")
	conn := p.Connect("postgres")
	filenode := testbed.One[uint32](b, conn, "select pg_relation_filenode('booking')")
	from := testbed.One[string](b, conn, "select pg_current_wal_insert_lsn()::text")
	random := rand.New(rand.NewPCG(7, 42))
	want := make(map[pg.XID]journal.Change)
	for n := range 150 {
		xid, c, committed := randomTransaction(t, conn, random, n)
		if committed && (c.Inserted|c.Updated|c.Deleted) != 0 {
			want[xid] = c
		}
	}
	testbed.One[string](b, conn, "select pg_switch_wal()::text")
	reader := openWAL(t, p, from)
	builder := journal.NewBuilder(journal.State{})
	compared := 0
	for {
		rec, err := reader.Next()
		if err != nil {
			require.True(t, errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten), "%v", err)
			break
		}
		tx, err := builder.See(rec, reader.Version())
		require.NoError(t, err)
		if tx == nil || !tx.Committed {
			continue
		}
		for _, c := range tx.Changes {
			if c.Relation.Filenode == filenode {
				expected := want[pg.XID(tx.XID)]
				expected.Relation = c.Relation
				assert.Equal(t, expected, c, "tx %d", tx.XID)
				delete(want, pg.XID(tx.XID))
				compared++
			}
		}
	}
	assert.Empty(t, want, "transactions that the journal does not know")
	assert.Greater(t, compared, 80)
	assert.Empty(t, builder.State().Open)
}

// randomTransaction does a few things to bookings and returns what the server reported of them.
func randomTransaction(t *testing.T, conn *pgx.Conn, random *rand.Rand, n int) (xid pg.XID, total journal.Change, committed bool) {
	ctx := context.Background()
	tx, err := conn.Begin(ctx)
	require.NoError(t, err)
	var id uint32
	require.NoError(t, tx.QueryRow(ctx, "select pg_current_xact_id()::text::bigint").Scan(&id))
	for step := range 1 + random.IntN(5) {
		before := total
		point, err := tx.Begin(ctx) // a savepoint
		require.NoError(t, err)
		first := n*100_000 + step*10_000
		switch random.IntN(5) {
		case 0:
			tag, err := point.Exec(ctx, "insert into booking select n, n % 9, repeat('n', n % 200) from generate_series($1::int, $2::int) n", first, first+random.IntN(400))
			require.NoError(t, err)
			total.Inserted += tag.RowsAffected()
		case 1:
			rows, err := point.CopyFrom(ctx, pgx.Identifier{"booking"}, []string{"id", "season"}, pgx.CopyFromSlice(random.IntN(900), func(i int) ([]any, error) { return []any{first + i, i % 9}, nil }))
			require.NoError(t, err)
			total.Inserted += rows
		case 2:
			tag, err := point.Exec(ctx, "update booking set season = season + 1 where id % 7 = $1", random.IntN(7))
			require.NoError(t, err)
			total.Updated += tag.RowsAffected()
		case 3:
			tag, err := point.Exec(ctx, "update booking set note = note || 'x' where id % 11 = $1", random.IntN(11))
			require.NoError(t, err)
			total.Updated += tag.RowsAffected()
		case 4:
			tag, err := point.Exec(ctx, "delete from booking where id % 5 = $1", random.IntN(5))
			require.NoError(t, err)
			total.Deleted += tag.RowsAffected()
		}
		if random.IntN(4) == 0 {
			require.NoError(t, point.Rollback(ctx))
			total = before
		} else {
			require.NoError(t, point.Commit(ctx))
		}
	}
	if random.IntN(6) == 0 {
		require.NoError(t, tx.Rollback(ctx))
		return pg.XID(id), total, false
	}
	require.NoError(t, tx.Commit(ctx))
	return pg.XID(id), total, true
}
