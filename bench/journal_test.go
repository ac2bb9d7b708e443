package bench

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/changes"
	"velvetrewind/engine/store"
	"velvetrewind/testbed"
	"velvetrewind/testbed/storebed"
)

// reader reads WAL, records, CRC, journal and blocks, on one core, and has the server count the same records of the same range.
// Beside it stands what there is no getting below: reading the bytes, and their CRC.
func reader(b measure) {
	bed := testbed.New(b)
	p := bed.Postgres("original", true, "shared_buffers = '1GB'", "max_wal_size = '8GB'", "wal_keep_size = '8GB'", "autovacuum = off",
		"fsync = off")
	conn := p.Connect("postgres")
	p.Exec("postgres", "create extension pg_walinspect")
	for _, load := range []struct {
		name string
		make func()
	}{
		{"load", func() { pgbench(b, p, "-i", "-q", "-s", fmt.Sprint(b.reader)) }},
		{"pgbench", func() { pgbench(b, p, "-c", "4", "-t", fmt.Sprint(b.stress), "-n") }},
	} {
		from := testbed.One[string](bed, conn, "select pg_current_wal_insert_lsn()::text")
		load.make()
		to := testbed.One[string](bed, conn, "select pg_switch_wal()::text")
		b.run(load.name, func(b measure) { compareReaders(b, bed, p, from, to) })
	}
}

func pgbench(b measure, p *testbed.Postgres, args ...string) {
	out, err := p.Program("pgbench", append(args, "postgres")...).CombinedOutput()
	require.NoError(b, err, string(out))
}

func compareReaders(b measure, bed *testbed.Bed, p *testbed.Postgres, from, to string) {
	conn := p.Connect("postgres")
	start, err := pg.ParseLSN(from)
	require.NoError(b, err)
	end, err := pg.ParseLSN(to)
	require.NoError(b, err)
	var theirs, ours, bare series
	var counted, read int64
	var heap uint64
	for range b.rounds {
		began := time.Now()
		counted = testbed.One[int64](bed, conn, "select count(*) from pg_get_wal_records_info($1::text::pg_lsn, $2::text::pg_lsn)", from,
			to)
		theirs = append(theirs, time.Since(began))
		began = time.Now()
		read, heap = readAll(b, p, start, end)
		ours = append(ours, time.Since(began))
		bare = append(bare, readBytes(b, p, start, end))
	}
	require.Positive(b, counted)
	require.InDelta(b, counted, read, float64(counted)/100+5, "both read the same records")
	b.ratio("x-server-speed", theirs, ours)
	b.ratio("x-server-speed-of-bytes-and-crc-alone", theirs, bare)
	b.report(float64(end-start)/1e6/ours.median().Seconds(), "MB/s")
	b.report(float64(read)/1e6/ours.median().Seconds(), "Mrecords/s")
	b.report(float64(heap)/(1<<20), "heap-MiB")
}

// readAll reads a range segment by segment, as capture does, on one core.
func readAll(b measure, p *testbed.Postgres, from, to pg.LSN) (records int64, heap uint64) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	z := pg.DefaultSegmentSize
	files := &segmentFiles{p: p, next: z.Number(from), last: z.Number(to - 1)}
	defer files.close()
	source := wal.NewReader(files, wal.Options{Start: z.Start(z.Number(from)), SegmentSize: z})
	nobody := func(wal.RelationRef) (journal.Name, bool) { return journal.Name{}, false }
	n := z.Number(from)
	recorder := journal.NewRecorder(pg.Segment{Timeline: 1, Number: n}, z, journal.State{})
	for {
		rec, err := source.Next()
		if err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten) {
				return records, heap
			}
			b.Fatal(err)
		}
		if rec.End > z.Start(n+1) {
			s, err := recorder.Segment(z.Start(n+1), nobody)
			require.NoError(b, err)
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			heap = max(heap, m.HeapInuse)
			n++
			recorder = journal.NewRecorder(pg.Segment{Timeline: 1, Number: n}, z, s.State)
		}
		if _, err = recorder.See(rec, source.Version()); err != nil {
			b.Fatal(err)
		}
		if rec.Start >= from {
			records++
		}
	}
}

// readBytes reads a range on one core, with the CRC of its pages, and does nothing else.
func readBytes(b measure, p *testbed.Postgres, from, to pg.LSN) time.Duration {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	z, began := pg.DefaultSegmentSize, time.Now()
	files := &segmentFiles{p: p, next: z.Number(from), last: z.Number(to - 1)}
	defer files.close()
	buf, read, sum := make([]byte, 32*wal.PageSize), int64(0), uint32(0)
	for {
		n, err := files.Read(buf)
		for i := 0; i < n; i += wal.PageSize {
			sum = crc32.Update(sum, pg.Castagnoli, buf[i:min(n, i+wal.PageSize)])
		}
		read += int64(n)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(b, err)
	}
	require.GreaterOrEqual(b, read, int64(to-from))
	require.NotZero(b, sum)
	return time.Since(began)
}

// segmentFiles reads the server's segment files one after the other.
type segmentFiles struct {
	p          *testbed.Postgres
	next, last uint64
	file       *os.File
}

func (s *segmentFiles) Read(b []byte) (n int, err error) {
	for {
		if s.file == nil {
			if s.next > s.last {
				return 0, io.EOF
			}
			if s.file, err = os.Open(filepath.Join(s.p.DataDir, "pg_wal",
				pg.Segment{Timeline: 1, Number: s.next}.Name(pg.DefaultSegmentSize))); err != nil {
				return 0, err
			}
			s.next++
		}
		if n, err = s.file.Read(b); n > 0 || !errors.Is(err, io.EOF) {
			return n, err
		}
		s.close()
	}
}

func (s *segmentFiles) close() {
	if s.file != nil {
		_ = s.file.Close()
		s.file = nil
	}
}

// A month has a segment every 40 seconds.
const (
	eachTakes   = 40 * time.Second
	eachCommits = 100
)

// askMonth asks the service about a journal of 65,000 segments in a directory store.
func askMonth(b measure) {
	bed := testbed.New(b)
	p := bed.Postgres("original", true)
	p.Exec("postgres", "create table booking (id int)", "insert into booking select generate_series(1, 5000)")
	s := bed.Service()
	r := s.VelvetWith(testbed.Password, "cluster", "add", "original", "--connect", p.DSN(testbed.Superuser, "postgres"), "--password-file",
		"-", "--no-base")
	require.Zero(b, r.Code, r.Err)
	bed.Eventually("capture streams", func() bool { return cluster(s).Capture.State == "streaming" })
	s.Must("backup", "take", "original", "--checkpoint", "fast")
	conn := p.Connect("postgres")
	p.Exec("postgres", "delete from booking")
	testbed.One[string](bed, conn, "select pg_switch_wal()::text")
	p.Exec("postgres", "insert into booking values (1)")
	at, err := pg.ParseLSN(testbed.One[string](bed, conn, "select pg_switch_wal()::text"))
	require.NoError(b, err)
	bed.Eventually("the operation is in the store", func() bool { return cluster(s).Capture.Stored >= at })
	s.Must("capture", "stop", "original")
	k := cluster(s)
	first := pg.DefaultSegmentSize.Number(k.Capture.Stored)
	bytes := makeMonth(b, bed, s, k, first)
	largest := fmt.Sprint(1_000_000 + b.month/2*eachCommits)
	ask := func(name, sees string, args ...string) {
		b.run(name, func(b measure) {
			require.Contains(b, s.Must(args...), sees, "it sees the month")
			var took series
			for range b.rounds {
				began := time.Now()
				s.Must(args...)
				took = append(took, time.Since(began))
			}
			b.spread("ms", b.rounds, func(i int) float64 { return float64(took[i].Milliseconds()) })
			b.report(float64(bytes)/(1<<20), "journal-MiB")
			b.report(resident(b, s.PID()), "service-MiB")
		})
	}
	ask("biggest", largest, "changes", "biggest", "original", "--kind", "delete")
	ask("moment", "first out", "moment", "before delete of booking", "--cluster", "original")
	ask("transaction", "table_", "changes", "show", "original", largest)
	ask("table", "table_3", "changes", "list", "original", "--table", "table_3", "--min-rows", "1")
	var list api.Changes
	s.JSON(&list, "changes", "biggest", "original", "--kind", "delete", "--limit", "1")
	require.EqualValues(b, 1_000_000+b.month/2*eachCommits, list.Transactions[0].XID, "the largest was found")
}

// makeMonth writes the indexes of a month, with transactions that were never made by a
// server, and records their segments. It returns the size of the indexes.
func makeMonth(b measure, bed *testbed.Bed, s *testbed.Service, k api.Cluster, first uint64) int64 {
	ctx := context.Background()
	objects := storebed.Open(bed, s)
	z := pg.DefaultSegmentSize
	x := &changes.Indexes{Store: objects, Codec: layout.Zstd, Cluster: catalog.Cluster{ID: k.ID, SegmentSize: z}}
	m := maker{at: z.Start(first), xid: 1_000_000, time: time.Now().Add(-time.Second), z: z}
	state := journal.State{Next: m.at, NextXID: 1_000_000, Epoch: true, Whole: true}
	for n := range uint64(b.month) {
		seg := pg.Segment{Timeline: 1, Number: first + n}
		r := journal.NewRecorder(seg, z, state)
		m.segment(b, r, n)
		made, err := r.Segment(z.Start(seg.Number+1), m.names)
		require.NoError(b, err)
		require.NoError(b, x.Put(ctx, made))
		state = made.State
		state.Next = z.Start(seg.Number + 1)
		m.at = state.Next
	}
	conn, err := pgx.Connect(ctx, s.Catalogue)
	require.NoError(b, err)
	defer func() { _ = conn.Close(ctx) }()
	_, err = conn.Exec(ctx, `insert into velvet.segments (cluster_id, timeline, number, name, start_lsn, end_lsn, stored_bytes, records,
		last_commit)
		select $1, 1, n, to_char(n, 'FM000000'), '0/0'::pg_lsn + n::numeric * 16777216, '0/0'::pg_lsn + (n::numeric + 1) * 16777216,
		5000000, 300, now()
		from generate_series($2::bigint, $3::bigint) n on conflict do nothing`, k.ID, int64(first), int64(first)+int64(b.month)-1)
	require.NoError(b, err)
	// A month without a gap is one row, which goes on from what was captured.
	runs, err := conn.Exec(ctx, `update velvet.runs set last = $3::bigint, end_lsn = '0/0'::pg_lsn + ($3::bigint + 1)::numeric * 16777216,
		last_commit = now()
		where cluster_id = $1 and timeline = 1 and last = $2::bigint - 1`, k.ID, int64(first), int64(first)+int64(b.month)-1)
	require.NoError(b, err)
	require.EqualValues(b, 1, runs.RowsAffected(), "the month follows what was captured")
	_, err = conn.Exec(ctx, "analyze velvet.segments")
	require.NoError(b, err)
	var total int64
	require.NoError(b, objects.List(ctx, store.JournalPrefix(k.ID), func(i store.Info) error {
		total += i.Size
		return nil
	}))
	return total
}

// maker makes records.
type maker struct {
	at   pg.LSN
	xid  pg.XID
	time time.Time
	z    pg.SegmentSize
}

// tables that the made transactions change, by filenode.
const tables = 12

func (m *maker) names(ref wal.RelationRef) (journal.Name, bool) {
	return journal.Name{OID: ref.Filenode, Database: "saltmarsh", Schema: "public", Table: fmt.Sprintf("table_%d", ref.Filenode-20000)},
		true
}

// segment makes the transactions of one segment. One in the middle of the month
// deletes more rows than any other.
func (m *maker) segment(b measure, r *journal.Recorder, n uint64) {
	for c := range eachCommits {
		ref := wal.RelationRef{Space: 1663, Database: 5, Filenode: 20000 + uint32((n+uint64(c))%tables)}
		rows := 3
		if n == uint64(b.month)/2 && c == 0 {
			rows = 60_000
		}
		for row := range rows {
			m.see(b, r, &wal.Record{Manager: wal.ManagerHeap, Info: []uint8{0x00, 0x20, 0x10}[row%3], XID: m.xid, Length: 80,
				Main: make([]byte, 16),
				Blocks: []wal.Block{{Space: ref.Space, Database: ref.Database, Filenode: ref.Filenode,
					Number: uint32(row) + uint32(n)%1000}}})
		}
		main := binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(m.time)))
		m.see(b, r, &wal.Record{Manager: wal.ManagerTransaction, XID: m.xid, Length: 34, Main: main})
		m.xid++
		m.time = m.time.Add(eachTakes / eachCommits)
	}
}

func (m *maker) see(b measure, r *journal.Recorder, rec *wal.Record) {
	rec.Start, rec.End = m.at, m.at+80
	m.at += 80
	if _, err := r.See(rec, pg.Major(15)); err != nil {
		b.Fatal(err)
	}
}
