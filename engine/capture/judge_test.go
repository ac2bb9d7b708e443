package capture

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

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
	"create table t (id serial primary key, a int, b text, c int[], p point)",
	"create index on t using hash (a)", "create index on t using gin (c)", "create index on t using gist (p)",
	"create index on t using brin (id)", "create index on t using spgist (p)",
	"insert into t (a, b, c, p) select n % 100, repeat('x', n % 300), array[n, n % 7], point(n, n % 13) from generate_series(1, 16000) n",
	"begin; insert into t (a) values (1); savepoint s; insert into t (a) values (2); rollback to s; insert into t (a) values (3); commit",
	"begin; insert into t (a) select n from generate_series(1, 100) n; rollback",
	"insert into t (b) select string_agg(md5(n::text), '') from generate_series(1, 3000) n", // out of line
	"update t set a = a + 1 where id % 3 = 0", "delete from t where id % 5 = 0", "vacuum t", "select * from t where id = 1 for update",
	"begin; insert into t (a) values (9); prepare transaction 'one'", "commit prepared 'one'",
	"begin; insert into t (a) values (9); prepare transaction 'two'", "rollback prepared 'two'",
	"create table parts (n int) partition by range (n)", "create table low partition of parts for values from (0) to (100)",
	"insert into parts select n from generate_series(0, 99) n",
	"create unlogged table u (n int)", "insert into u values (1)", "create temporary table tt as select 1",
	"vacuum full t", "truncate parts", "cluster t using t_pkey", "alter table t add column d int default 7", "drop table parts",
	"create database by_log strategy wal_log", "create database by_file strategy file_copy", "drop database by_file",
	"create sequence s", "select nextval('s') from generate_series(1, 100)",
	"copy t (b) from program 'seq 1 5000'", "select pg_create_restore_point('low tide')", "select pg_switch_wal()", "checkpoint",
	"insert into t (a) select n from generate_series(1, 5000) n", "reindex table t", "analyze t",
	"select pg_logical_emit_message(true, 'p', repeat('m', 20000))",
	"create table ledger (n int primary key) tablespace ledger", "insert into ledger select generate_series(1, 500)",
	"alter table ledger set tablespace pg_default",
	"truncate ledger", "create materialized view mv as select a, count(*) from t group by a", "refresh materialized view mv",
	"create type mood as enum ('ebb', 'flood')", "alter type mood add value 'slack'",
	"create function f() returns int language sql as 'select 1'",
	"alter table t rename column d to depth", "alter table t add column e text", "create unique index concurrently on t (id, a)",
	"grant select on t to public",
	"begin; truncate t; rollback", "update t set b = repeat('y', 100) where id % 17 = 0", "vacuum (freeze) t",
	"vacuum full pg_class", "analyze",
	"do $$ begin for i in 1..100 loop begin insert into t (a) values (i); exception when others then null; end; end loop; end $$",
	"select lo_create(0)", "comment on table t is 'tide'", "begin; lock table t; commit", "select txid_current()",
}

// rounds repeat the workload in databases of their own, each with page images
// compressed in another way.
var rounds = []string{"off", "pglz", "lz4", "zstd"}

// TestReaderAgainstTheServer holds every record that our reader finds against what
// the server itself says of the same range: place, length, transaction, manager, kind,
// the pages that it refers to, and what it says beyond that.
//
// Servers of 14 have no such judge: there the counts of statements and the restores judge.
func TestReaderAgainstTheServer(t *testing.T) {
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		if testing.Short() {
			t.Skip("it takes minutes")
		}
		if phrasebooks[b.Major].heap == nil {
			t.Skipf("servers of %d cannot describe their WAL", b.Major)
		}
		testReaderAgainstTheServer(t, b)
	})
}

func testReaderAgainstTheServer(t *testing.T, b *testbed.Bed) {
	p := b.Postgres("original", true, "max_prepared_transactions = 5", "wal_level = logical", "wal_keep_size = '4GB'", "autovacuum = off")
	require.NoError(t, b.Host.MakeDir(b.Path("original", "ledger"), 0o700))
	conn := p.Connect("postgres")
	from := testbed.One[string](b, conn, "select pg_current_wal_insert_lsn()::text")
	p.Exec("postgres", "create tablespace ledger location '"+b.Path("original", "ledger")+"'")
	known := testbed.One[[]string](b, conn, "select enumvals from pg_settings where name = 'wal_compression'")
	for i, compression := range rounds {
		if !slices.Contains(known, compression) {
			compression = "pglz" // all that this server was built with
		}
		name := fmt.Sprintf("round%d", i)
		p.Exec("postgres", "alter system set wal_compression = "+compression, "select pg_reload_conf()", "create database "+name)
		work := p.Connect(name)
		for _, q := range workload {
			_, err := work.PgConn().Exec(context.Background(), q).ReadAll()
			require.NoError(t, err, q)
		}
		require.NoError(t, work.Close(context.Background()))
		out, err := p.Program("pgbench", "-i", "-q", "-s", "1", name).CombinedOutput()
		require.NoError(t, err, string(out))
		out, err = p.Program("pgbench", "-c", "2", "-t", "2000", "-n", name).CombinedOutput()
		require.NoError(t, err, string(out))
		p.Exec("postgres", "drop database "+name, "drop database by_log")
	}
	p.Exec("postgres", "drop tablespace ledger", "create extension pg_walinspect")
	to := testbed.One[string](b, conn, "select pg_switch_wal()::text")
	compareWithServer(t, b, p, from, to)
}

// compareWithServer reads the range on both sides.
func compareWithServer(t *testing.T, b *testbed.Bed, p *testbed.Postgres, from, to string) {
	judge := p.Connect("postgres")
	_, err := judge.Exec(context.Background(), "set timezone = 'UTC'")
	require.NoError(t, err)
	rows, err := judge.Query(context.Background(), `select start_lsn::text, end_lsn::text, prev_lsn::text, xid::text::bigint,
		resource_manager || ' ' || record_type, record_length,
		coalesce(block_ref, ''), coalesce(description, '') from pg_get_wal_records_info($1::text::pg_lsn, $2::text::pg_lsn)`, from, to)
	require.NoError(t, err)
	defer rows.Close()
	ours := openWAL(t, p, from)
	book := phrasebooks[b.Major]
	seen, differ, typed, images := 0, 0, 0, 0
	for rows.Next() {
		var start, end, prev pg.LSN
		var xid, length int64
		var manager, blocks, says string
		require.NoError(t, rows.Scan(&start, &end, &prev, &xid, &manager, &length, &blocks, &says))
		rec, err := ours.Next()
		require.NoError(t, err, "at %s", start)
		seen++
		want := fmt.Sprintf("%s %s %s %d %s %d %s", start, end, prev, xid, manager, length, blocks)
		got := fmt.Sprintf("%s %s %s %d %s %d %s", rec.Start, rec.End, rec.Prev, rec.XID, rec.Manager.String()+" "+rec.Kind(ours.Version()),
			rec.Length, refer(rec))
		body, err := wal.Decode(rec, ours.Version())
		require.NoError(t, err, "at %s", start)
		if fragment := book.words(body); fragment != "" {
			if typed++; !said(says, fragment) {
				want, got = want+": "+says, got+": "+fragment
			}
		}
		for i := range rec.Blocks {
			if len(rec.Blocks[i].Image) > 0 {
				images++
				page, err := rec.Blocks[i].Page(ours.Version())
				require.NoError(t, err, "at %s", start)
				require.Zero(t, pg.CheckPage(page, rec.Blocks[i].Number, false), "at %s, block %d", start, i)
			}
		}
		if want != got {
			if differ++; differ < 10 {
				assert.Equal(t, want, got)
			}
		}
	}
	require.NoError(t, rows.Err())
	t.Logf("PostgreSQL %d: %d records compared, of %d also what they say, %d page images unpacked; %d differ", b.Major, seen, typed,
		images, differ)
	assert.Greater(t, seen, 300_000)
	assert.Greater(t, typed, seen/5)
	assert.Greater(t, images, 1000)
	assert.Zero(t, differ)
}

// phrasebook is how a version's server says what a record holds.
type phrasebook struct {
	heap       func(wal.Body) string // of the records of rows and pages
	mapSize    int                   // of a relation map
	checkpoint string                // between its full-page writes and its transaction
}

var phrasebooks = map[int]phrasebook{
	15: {heapWords15, 512, ""},
	16: {heapWords16, 524, ""},
	17: {heapWords17, 524, "wal_level logical; "},
	18: {heapWords17, 524, "wal_level logical; "},
}

// heapWords15 writes what the server of 15 says of the heap managers' records; "" for others.
func heapWords15(b wal.Body) string {
	switch v := b.(type) {
	case wal.HeapInsert:
		return fmt.Sprintf("off %d flags 0x%02X", v.Offset, v.Flags)
	case wal.HeapDelete:
		return fmt.Sprintf("off %d flags 0x%02X", v.Offset, v.Flags)
	case wal.HeapUpdate:
		return fmt.Sprintf("off %d xmax %d flags 0x%02X", v.OldOffset, v.OldXMax, v.Flags)
	case wal.HeapLock:
		return fmt.Sprintf("off %d: xid %d: flags 0x%02X", v.Offset, v.XMax, v.Flags)
	case wal.HeapMultiInsert:
		return fmt.Sprintf("%d tuples flags 0x%02X", v.Rows, v.Flags)
	case wal.HeapPrune:
		return fmt.Sprintf("latestRemovedXid %d nredirected %d ndead %d", v.Horizon, v.Redirected, v.Dead)
	case wal.HeapVacuum:
		return fmt.Sprintf("nunused %d", v.Unused)
	case wal.HeapFreeze:
		return fmt.Sprintf("cutoff xid %d ntuples %d", v.Horizon, v.Rows)
	case wal.HeapVisible:
		return fmt.Sprintf("cutoff xid %d flags 0x%02X", v.Horizon, v.Flags)
	case wal.HeapTruncate:
		return fmt.Sprintf("nrelids %d relids %s", len(v.Relations), strings.Trim(fmt.Sprint(v.Relations), "[]"))
	}
	return ""
}

// heapWords16 does so for 16, which puts other things in between: * stands for those.
func heapWords16(b wal.Body) string {
	switch v := b.(type) {
	case wal.HeapInsert:
		return fmt.Sprintf("off: %d, flags: 0x%02X", v.Offset, v.Flags)
	case wal.HeapDelete:
		return fmt.Sprintf("xmax: %d, off: %d, *flags: 0x%02X", v.XMax, v.Offset, v.Flags)
	case wal.HeapUpdate:
		return fmt.Sprintf("old_xmax: %d, old_off: %d, *flags: 0x%02X, new_xmax: %d, new_off: %d", v.OldXMax, v.OldOffset, v.Flags,
			v.NewXMax, v.NewOffset)
	case wal.HeapLock:
		return fmt.Sprintf("xmax: %d, off: %d, *flags: 0x%02X", v.XMax, v.Offset, v.Flags)
	case wal.HeapMultiInsert:
		return fmt.Sprintf("ntuples: %d, flags: 0x%02X", v.Rows, v.Flags)
	case wal.HeapPrune:
		return fmt.Sprintf("snapshotConflictHorizon: %d, nredirected: %d, ndead: %d", v.Horizon, v.Redirected, v.Dead)
	case wal.HeapVacuum:
		return fmt.Sprintf("nunused: %d", v.Unused)
	case wal.HeapFreeze:
		return fmt.Sprintf("snapshotConflictHorizon: %d, nplans: %d", v.Horizon, v.Rows)
	case wal.HeapVisible:
		return fmt.Sprintf("snapshotConflictHorizon: %d, flags: 0x%02X", v.Horizon, v.Flags)
	case wal.HeapTruncate:
		return fmt.Sprintf("nrelids: %d*%s", len(v.Relations), strings.ReplaceAll(strings.Trim(fmt.Sprint(v.Relations), "[]"), " ", "*"))
	}
	return ""
}

// heapWords17 does so from 17 on, where one record prunes, vacuums and freezes.
func heapWords17(b wal.Body) string {
	if v, is := b.(wal.HeapPrune); is {
		if v.Horizon == 0 {
			return ", isCatalogRel: "
		}
		return fmt.Sprintf("snapshotConflictHorizon: %d, isCatalogRel: ", v.Horizon)
	}
	return heapWords16(b)
}

// said tells whether a text holds the pieces between the stars of a pattern, in order.
func said(text, pattern string) bool {
	for _, piece := range strings.Split(pattern, "*") {
		_, after, found := strings.Cut(text, piece)
		if !found {
			return false
		}
		text = after
	}
	return true
}

// words writes a piece of what the server says of a record with this body; "" where
// it says nothing of what we take from it.
func (p phrasebook) words(b wal.Body) string {
	if text := p.heap(b); text != "" {
		return text
	}
	ref := func(r wal.RelationRef) string {
		if r.Space != 1663 {
			return fmt.Sprintf("/%d/%d", r.Database, r.Filenode)
		}
		return fmt.Sprintf("base/%d/%d", r.Database, r.Filenode)
	}
	switch v := b.(type) {
	case wal.FileCreate:
		return ref(v.Relation)
	case wal.FileTruncate:
		return fmt.Sprintf("%s to %d blocks flags %d", ref(v.Relation), v.Blocks, v.Forks)
	case wal.DatabaseCreate:
		if v.FileCopy {
			return fmt.Sprintf("copy dir 1663/%d to %d/%d", v.Template, v.Space, v.Database)
		}
		return fmt.Sprintf("create dir %d/%d", v.Space, v.Database)
	case wal.DatabaseDrop:
		return fmt.Sprintf("dir %d/%d", v.Spaces[0], v.Database)
	case wal.TablespaceCreate:
		return fmt.Sprintf("%d \"%s\"", v.Space, v.Location)
	case wal.TablespaceDrop:
		return fmt.Sprint(v.Space)
	case wal.MapUpdate:
		return fmt.Sprintf("database %d tablespace %d size %d", v.Database, v.Space, p.mapSize)
	case wal.Locks:
		return fmt.Sprintf("xid %d db %d rel %d", v[0].XID, v[0].Database, v[0].Relation)
	case wal.RunningTransactions:
		return fmt.Sprintf("nextXid %d latestCompletedXid %d oldestRunningXid %d", v.NextXID, v.LatestCompleted, v.OldestRunning)
	}
	return p.rareWords(b)
}

// rareWords does so for the transaction and XLOG managers.
func (p phrasebook) rareWords(b wal.Body) string {
	// The server leaves out the zeros at a second's end, and the point with them.
	at := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05.999999") + "+00" }
	switch v := b.(type) {
	case wal.End:
		if len(v.Subxacts) > 0 {
			return fmt.Sprintf("; subxacts: %d", v.Subxacts[0])
		}
		return at(v.Time)
	case wal.Prepare:
		return fmt.Sprintf("gid %s: %s", v.GID, at(v.Time))
	case wal.Assignment:
		return fmt.Sprintf("xtop %d: subxacts: %d", v.Top, v.Subxacts[0])
	case wal.Checkpoint:
		return fmt.Sprintf("redo %s; tli %d; prev tli %d; fpw %t; %sxid %d:%d; oid %d; ", v.Redo, v.Timeline, v.PreviousTimeline,
			v.FullPageWrites, p.checkpoint, v.NextXID>>32, uint32(v.NextXID), v.NextOID)
	case wal.RestorePoint:
		return v.Name
	case wal.ParameterChange:
		return fmt.Sprintf("max_connections=%d max_worker_processes=%d max_wal_senders=%d max_prepared_xacts=%d max_locks_per_xact=%d",
			v.MaxConnections, v.MaxWorkers, v.MaxWALSenders, v.MaxPrepared, v.MaxLocks)
	case wal.BackupEnd:
		return v.Start.String()
	case wal.NextOID:
		return fmt.Sprint(v.OID)
	}
	return ""
}

// refer writes a record's block references as the server does.
func refer(r *wal.Record) string {
	s := ""
	forks := []string{"main", "fsm", "vm", "init"}
	methods := map[uint8]string{0x04: "pglz", 0x08: "lz4", 0x10: "zstd"}
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
			if method := methods[b.ImageInfo&0x1c]; method != "" {
				s += fmt.Sprintf(", compression saved: %d, method: %s", pg.BlockSize-int(b.HoleSize)-len(b.Image), method)
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
	if testing.Short() {
		testRowCountsEqualTheStatements(t, testbed.New(t))
		return
	}
	testbed.EachVersion(t, testRowCountsEqualTheStatements)
}

func testRowCountsEqualTheStatements(t *testing.T, b *testbed.Bed) {
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
	moved, shallow, deep := moveToAnotherPartition(b, p, conn)
	testbed.One[string](b, conn, "select pg_switch_wal()::text")
	reader := openWAL(t, p, from)
	builder := journal.NewBuilder(journal.State{})
	compared := 0
	moves := make(map[uint32]journal.Change)
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
			if pg.XID(tx.XID) == moved {
				moves[c.Relation.Filenode] = journal.Change{Inserted: c.Inserted, Updated: c.Updated, Deleted: c.Deleted}
			}
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
	assert.Equal(t, map[uint32]journal.Change{shallow: {Updated: 50}, deep: {Inserted: 50}}, moves,
		"an update that moves rows deletes none")
}

// moveToAnotherPartition has one transaction update 50 rows so that they belong to another partition.
func moveToAnotherPartition(b *testbed.Bed, p *testbed.Postgres, conn *pgx.Conn) (moved pg.XID, from, to uint32) {
	p.Exec("postgres", "create table sounding (n int) partition by range (n)",
		"create table shallow partition of sounding for values from (0) to (100)",
		"create table deep partition of sounding for values from (100) to (200)", "insert into sounding select generate_series(0, 49)")
	moved = pg.XID(testbed.One[int64](b, conn, "with u as (update sounding set n = n + 100) select pg_current_xact_id()::text::bigint"))
	return moved, testbed.One[uint32](b, conn, "select pg_relation_filenode('shallow')"),
		testbed.One[uint32](b, conn, "select pg_relation_filenode('deep')")
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
			tag, err := point.Exec(ctx, "insert into booking select n, n % 9, repeat('n', n % 200) from generate_series($1::int, "+
				"$2::int) n", first, first+random.IntN(400))
			require.NoError(t, err)
			total.Inserted += tag.RowsAffected()
		case 1:
			rows, err := point.CopyFrom(ctx, pgx.Identifier{"booking"}, []string{"id", "season"},
				pgx.CopyFromSlice(random.IntN(900), func(i int) ([]any, error) { return []any{first + i, i % 9}, nil }))
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
