package bench

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/index"
	"velvetrewind/engine/store"
	"velvetrewind/service/wire"
	"velvetrewind/testbed"
	"velvetrewind/testbed/storebed"
)

// BenchmarkReader reads WAL, records, CRC, journal and blocks, on one core, and has
// the server count the same records of the same range.
func BenchmarkReader(b *testing.B) {
	bed := testbed.New(b)
	p := bed.Postgres("original", true, "shared_buffers = '1GB'", "max_wal_size = '8GB'", "wal_keep_size = '8GB'", "autovacuum = off", "fsync = off")
	conn := p.Connect("postgres")
	p.Exec("postgres", "create extension pg_walinspect")
	for _, load := range []struct {
		name string
		make func()
	}{
		{"load", func() { pgbench(b, p, "-i", "-q", "-s", "40") }},
		{"pgbench", func() { pgbench(b, p, "-c", "4", "-t", "20000", "-n") }},
	} {
		from := testbed.One[string](bed, conn, "select pg_current_wal_insert_lsn()::text")
		load.make()
		to := testbed.One[string](bed, conn, "select pg_switch_wal()::text")
		b.Run(load.name, func(b *testing.B) { compareReaders(b, bed, p, from, to) })
	}
}

func pgbench(b *testing.B, p *testbed.Postgres, args ...string) {
	out, err := p.Program("pgbench", append(args, "postgres")...).CombinedOutput()
	require.NoError(b, err, string(out))
}

func compareReaders(b *testing.B, bed *testbed.Bed, p *testbed.Postgres, from, to string) {
	conn := p.Connect("postgres")
	start, err := pg.ParseLSN(from)
	require.NoError(b, err)
	end, err := pg.ParseLSN(to)
	require.NoError(b, err)
	var theirs, ours time.Duration
	var counted, read int64
	var heap uint64
	for range 3 { // alternating, so that the machine's noise hits both
		began := time.Now()
		counted = testbed.One[int64](bed, conn, "select count(*) from pg_get_wal_records_info($1::text::pg_lsn, $2::text::pg_lsn)", from, to)
		theirs += time.Since(began)
		began = time.Now()
		read, heap = readAll(b, p, start, end)
		ours += time.Since(began)
	}
	require.InDelta(b, counted, read, float64(counted)/100)
	b.ReportMetric(theirs.Seconds()/ours.Seconds(), "x-server-speed")
	b.ReportMetric(3*float64(end-start)/1e6/ours.Seconds(), "MB/s")
	b.ReportMetric(3*float64(read)/1e6/ours.Seconds(), "Mrecords/s")
	b.ReportMetric(float64(heap)/(1<<20), "heap-MiB")
	b.ReportMetric(0, "ns/op")
}

// readAll reads a range segment by segment, as capture does, on one core.
func readAll(b *testing.B, p *testbed.Postgres, from, to pg.LSN) (records int64, heap uint64) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	z := pg.DefaultSegmentSize
	files := &segmentFiles{p: p, next: z.Number(from), last: z.Number(to - 1)}
	defer files.close()
	reader := wal.NewReader(files, wal.Options{Start: z.Start(z.Number(from)), SegmentSize: z})
	nobody := func(wal.RelationRef) (journal.Name, bool) { return journal.Name{}, false }
	n := z.Number(from)
	recorder := journal.NewRecorder(pg.Segment{Timeline: 1, Number: n}, z, journal.State{})
	for {
		rec, err := reader.Next()
		if errors.Is(err, io.EOF) || errors.Is(err, wal.ErrUnwritten) {
			return records, heap
		}
		if err != nil {
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
		if _, err = recorder.See(rec, reader.Version()); err != nil {
			b.Fatal(err)
		}
		if rec.Start >= from {
			records++
		}
	}
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
			if s.file, err = os.Open(filepath.Join(s.p.DataDir, "pg_wal", pg.Segment{Timeline: 1, Number: s.next}.Name(pg.DefaultSegmentSize))); err != nil {
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

// month is the segments of 30 days, one every 40 seconds.
const (
	month       = 65_000
	eachTakes   = 40 * time.Second
	eachCommits = 100
)

// BenchmarkMonth asks the service about a journal of 65,000 segments in a directory store.
func BenchmarkMonth(b *testing.B) {
	bed := testbed.New(b)
	p := bed.Postgres("original", true)
	p.Exec("postgres", "create table booking (id int)", "insert into booking select generate_series(1, 5000)")
	s := bed.Service()
	r := s.VelvetWith(testbed.Password, "cluster", "add", "original", "--connect", p.DSN(testbed.Superuser, "postgres"), "--password-file", "-", "--no-base")
	require.Zero(b, r.Code, r.Err)
	bed.Eventually("capture streams", func() bool { return cluster(s).Capture.State == "streaming" })
	s.Must("backup", "take", "original", "--checkpoint", "fast")
	conn := p.Connect("postgres")
	p.Exec("postgres", "delete from booking")
	testbed.One[string](bed, conn, "select pg_switch_wal()::text")
	p.Exec("postgres", "insert into booking values (1)")
	at, err := pg.ParseLSN(testbed.One[string](bed, conn, "select pg_switch_wal()::text"))
	require.NoError(b, err)
	bed.Eventually("the deed is in the store", func() bool { return cluster(s).Capture.Stored >= at })
	s.Must("capture", "stop", "original")
	k := cluster(s)
	first := pg.DefaultSegmentSize.Number(k.Capture.Stored)
	bytes := makeMonth(b, bed, s, k, first)
	ask := func(name string, args ...string) {
		b.Run(name, func(b *testing.B) {
			var best time.Duration
			for range 3 {
				began := time.Now()
				s.Must(args...)
				if took := time.Since(began); best == 0 || took < best {
					best = took
				}
			}
			b.ReportMetric(float64(best.Milliseconds()), "ms")
			b.ReportMetric(float64(bytes)/(1<<20), "journal-MiB")
			b.ReportMetric(resident(b, s.PID()), "service-MiB")
			b.ReportMetric(0, "ns/op")
		})
	}
	ask("biggest", "changes", "biggest", "original", "--kind", "delete")
	ask("moment", "moment", "before delete of booking", "--cluster", "original")
	ask("transaction", "changes", "show", "original", fmt.Sprint(1_000_000+month/2*eachCommits))
	ask("table", "changes", "list", "original", "--table", "table_3", "--min-rows", "1000")
	var list wire.Changes
	s.JSON(&list, "changes", "biggest", "original", "--kind", "delete", "--limit", "1")
	require.EqualValues(b, 1_000_000+month/2*eachCommits, list.Transactions[0].XID, "the largest was found")
}

// makeMonth writes the indexes of a month, with transactions that were never made by a
// server, and records their segments. It returns the size of the indexes.
func makeMonth(b *testing.B, bed *testbed.Bed, s *testbed.Service, k wire.Cluster, first uint64) int64 {
	ctx := context.Background()
	objects := storebed.Open(bed, s)
	z := pg.DefaultSegmentSize
	x := &index.Indexes{Store: objects, Codec: layout.Zstd, Cluster: catalog.Cluster{ID: k.ID, SegmentSize: z}}
	m := maker{at: z.Start(first), xid: 1_000_000, time: time.Now().Add(-time.Second), z: z}
	state := journal.State{Next: m.at, NextXID: 1_000_000, Epoch: true, Whole: true}
	for n := range uint64(month) {
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
	_, err = conn.Exec(ctx, `insert into velvet.segments (cluster_id, timeline, number, name, start_lsn, end_lsn, stored_bytes, records, last_commit)
		select $1, 1, n, to_char(n, 'FM000000'), '0/0'::pg_lsn + n::numeric * 16777216, '0/0'::pg_lsn + (n::numeric + 1) * 16777216, 5000000, 300, now()
		from generate_series($2::bigint, $3::bigint) n on conflict do nothing`, k.ID, int64(first), int64(first+month-1))
	require.NoError(b, err)
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
	return journal.Name{OID: ref.Filenode, Database: "saltmarsh", Schema: "public", Table: fmt.Sprintf("table_%d", ref.Filenode-20000)}, true
}

// segment makes the transactions of one segment. One in the middle of the month
// deletes more rows than any other.
func (m *maker) segment(b *testing.B, r *journal.Recorder, n uint64) {
	for c := range eachCommits {
		ref := wal.RelationRef{Space: 1663, Database: 5, Filenode: 20000 + uint32((n+uint64(c))%tables)}
		rows := 3
		if n == month/2 && c == 0 {
			rows = 60_000
		}
		for row := range rows {
			m.see(b, r, &wal.Record{Manager: wal.ManagerHeap, Info: []uint8{0x00, 0x20, 0x10}[row%3], XID: m.xid, Length: 80, Main: make([]byte, 16),
				Blocks: []wal.Block{{Space: ref.Space, Database: ref.Database, Filenode: ref.Filenode, Number: uint32(row) + uint32(n)%1000}}})
		}
		main := binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(m.time)))
		m.see(b, r, &wal.Record{Manager: wal.ManagerTransaction, XID: m.xid, Length: 34, Main: main})
		m.xid++
		m.time = m.time.Add(eachTakes / eachCommits)
	}
}

func (m *maker) see(b *testing.B, r *journal.Recorder, rec *wal.Record) {
	rec.Start, rec.End = m.at, m.at+80
	m.at += 80
	if _, err := r.See(rec, pg.Major(15)); err != nil {
		b.Fatal(err)
	}
}
