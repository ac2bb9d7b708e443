package prove_test

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
	"velvetrewind/engine/prove"
	"velvetrewind/engine/restore/copies"
	"velvetrewind/testbed"
)

// fault is something wrong with a copy, and the check that must find it.
type fault struct {
	name, check string
	also        string // may fail with it, being about the same
	verdict     proof.Verdict
	// files changes files of a copy whose server is stopped; running of one whose server runs on.
	files, running func(s *scene, k catalog.Copy)
	before         []string // before files are changed
	sql, back      []string
	prover         func(s *scene, p *prove.Prover)
	plan           func(s *scene, r *plan.Restore)
}

// edit changes a file of a copy, and puts it back when the fault is undone.
func (s *scene) edit(k catalog.Copy, name string, change func(b []byte) []byte) {
	path := filepath.Join(k.Directory, "data", name)
	was, err := os.ReadFile(path)
	require.NoError(s, err)
	put := func(b []byte) {
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_TRUNC, 0)
		require.NoError(s, err)
		_, err = f.Write(b)
		require.NoError(s, err)
		require.NoError(s, f.Close())
	}
	put(change(slices.Clone(was)))
	s.undo = append(s.undo, func() { put(was) })
}

// path is where a relation, or a fork of it, lies.
func (s *scene) path(k catalog.Copy, relation string) string {
	name, fork, _ := strings.Cut(relation, "/")
	if k.State != catalog.CopyOpen || !s.Host.Running(copies.Server(k, s.Record.Major())) {
		return s.paths[relation]
	}
	conn := s.on(k, "postgres")
	defer func() { _ = conn.Close(ctx) }()
	if at, ok := strings.CutPrefix(name, "toast of "); ok {
		name = testbed.One[string](s.Bed, conn, "select reltoastrelid::regclass::text from pg_class where relname = $1", at)
	}
	if at, ok := strings.CutPrefix(name, "toast index of "); ok {
		name = testbed.One[string](
			s.Bed,
			conn,
			`select i.indexrelid::regclass::text from pg_class c join pg_index i on i.indrelid = c.reltoastrelid
			where relname = $1`,
			at,
		)
	}
	return testbed.One[string](s.Bed, conn, "select pg_relation_filepath($1)", name) + fork
}

// flip changes one bit of a relation's second page, or its only one.
func flip(relation string) func(s *scene, k catalog.Copy) {
	return func(s *scene, k catalog.Copy) {
		s.edit(k, s.path(k, relation), func(b []byte) []byte {
			at := 200
			if len(b) > pg.BlockSize {
				at += pg.BlockSize
			}
			b[at] ^= 1
			return b
		})
	}
}

// page changes the first page that it can, and makes its checksum right again.
func page(relation string, change func(page []byte) bool) func(s *scene, k catalog.Copy) {
	return func(s *scene, k catalog.Copy) {
		s.edit(k, s.path(k, relation), func(b []byte) []byte {
			for n := 0; n*pg.BlockSize < len(b); n++ {
				p := b[n*pg.BlockSize : (n+1)*pg.BlockSize]
				if change(p) {
					if s.Record.DataChecksums {
						binary.LittleEndian.PutUint16(p[8:], pg.PageChecksum(p, uint32(n)))
					}
					return b
				}
			}
			s.Errorf("no page of %s can be changed so", relation)
			return b
		})
	}
}

// items is how many line pointers a page has.
func items(p []byte) int { return (int(binary.LittleEndian.Uint16(p[12:])) - 24) / 4 }

func item(p []byte, n int) []byte { return p[24+4*n : 28+4*n] }

// leaf lets a change at the leaves of a B-tree, with more than 20 entries.
func leaf(change func(p []byte)) func(p []byte) bool {
	return func(p []byte) bool {
		special := int(binary.LittleEndian.Uint16(p[16:]))
		if special+16 != pg.BlockSize || binary.LittleEndian.Uint16(p[special+12:])&1 == 0 || items(p) < 20 {
			return false
		}
		change(p)
		return true
	}
}

// status sets the two bits of a transaction in the commit log.
func status(x func(s *scene) pg.FullXID, bits byte) func(s *scene, k catalog.Copy) {
	return func(s *scene, k catalog.Copy) {
		s.edit(k, "pg_xact/0000", func(b []byte) []byte {
			at := x(s)
			b[at/4] = b[at/4]&^(3<<(at%4*2)) | bits<<(at%4*2)
			return b
		})
	}
}

func moved(by func(r *plan.Restore)) func(s *scene, r *plan.Restore) {
	return func(_ *scene, r *plan.Restore) { by(r) }
}

func own(sql, expects string, seconds int) func(s *scene, p *prove.Prover) {
	return func(_ *scene, p *prove.Prover) {
		p.Own = []catalog.OwnCheck{
			{Name: "purser", Version: 1, SQL: sql, Database: "postgres", Role: "purser", Expects: expects, Seconds: seconds},
		}
	}
}

// faults are of an open copy.
var faults = []fault{
	{name: "bit flipped in a table", check: proof.PageBytes, files: flip("booking")},
	{name: "bit flipped in a B-tree index", check: proof.PageBytes, files: flip("booking_note_idx")},
	{name: "bit flipped in a hash index", check: proof.PageBytes, files: flip("booking_note_idx1")},
	{name: "bit flipped in a GIN index", check: proof.PageBytes, files: flip("booking_tags_idx")},
	{name: "bit flipped in a GiST index", check: proof.PageBytes, files: flip("booking_place_idx")},
	{name: "bit flipped in an SP-GiST index", check: proof.PageBytes, files: flip("booking_span_idx")},
	{name: "bit flipped in a BRIN index", check: proof.PageBytes, files: flip("booking_id_idx")},
	{name: "bit flipped in a TOAST table", check: proof.PageBytes, files: flip("toast of letter")},
	{name: "bit flipped in the index of a TOAST table", check: proof.PageBytes, files: flip("toast index of letter")},
	{name: "bit flipped in a visibility map", check: proof.PageBytes, files: flip("booking/_vm")},
	{name: "bit flipped in a free-space map (harmless)", files: flip("booking/_fsm")},
	{name: "bit flipped in a sequence", check: proof.PageBytes, files: flip("booking_id_seq")},
	{name: "bit flipped in a large object", check: proof.PageBytes, files: flip("pg_largeobject")},
	{name: "relation map with a wrong CRC", check: proof.Maps, running: func(s *scene, k catalog.Copy) {
		s.edit(k, filepath.Join("base", s.spare, "pg_filenode.map"), func(b []byte) []byte { b[20] ^= 1; return b })
	}},
	{name: "directory of another version", check: proof.Marks, running: func(s *scene, k catalog.Copy) {
		s.edit(k, filepath.Join("base", s.spare, "PG_VERSION"), func([]byte) []byte { return []byte("9\n") })
	}},
	{name: "control file with a wrong CRC", check: proof.ControlFile, running: func(s *scene, k catalog.Copy) {
		s.edit(k, "global/pg_control", func(b []byte) []byte { b[100] ^= 1; return b })
	}},
	{name: "file that is missing", check: proof.FilesWhole, files: func(s *scene, k catalog.Copy) {
		path := filepath.Join(k.Directory, "data", s.path(k, "fare_low"))
		require.NoError(s, os.Rename(path, path+".aside"))
		s.undo = append(s.undo, func() { require.NoError(s, os.Rename(path+".aside", path)) })
	}},
	{name: "file that ends within a page", check: proof.FilesWhole, running: func(s *scene, k catalog.Copy) {
		s.edit(k, s.path(k, "harbor"), func(b []byte) []byte { return append(b, 1, 2, 3) })
	}},
	{name: "index entry missing", check: proof.Indexes, files: page("booking_pkey", leaf(func(p []byte) {
		binary.LittleEndian.PutUint16(p[12:], binary.LittleEndian.Uint16(p[12:])-4)
	}))},
	{name: "index entry doubled", check: proof.Indexes, files: page("booking_pkey", leaf(func(p []byte) {
		lower := binary.LittleEndian.Uint16(p[12:])
		copy(p[lower:lower+4], p[lower-4:lower])
		binary.LittleEndian.PutUint16(p[12:], lower+4)
	}))},
	{name: "index entry in place of another", check: proof.Indexes, files: page("booking_note_idx", leaf(func(p []byte) {
		copy(item(p, 5), item(p, 6))
	}))},
	{name: "index entries out of order", check: proof.Indexes, files: page("booking_pkey", leaf(func(p []byte) {
		a, b := binary.LittleEndian.Uint32(item(p, 5)), binary.LittleEndian.Uint32(item(p, 9))
		binary.LittleEndian.PutUint32(item(p, 5), b)
		binary.LittleEndian.PutUint32(item(p, 9), a)
	}))},
	{
		name:  "visibility map shows a deleted row",
		check: proof.Visibility,
		files: page("ebb/_vm", func(p []byte) bool { p[24] |= 1; return true }), before: []string{"delete from ebb where id = 8"},
	},
	{name: "chunk of a value out of line missing", check: proof.Toast, files: page("toast of letter", func(p []byte) bool {
		binary.LittleEndian.PutUint32(item(p, 1), 0)
		return true
	})},
	{name: "row missing", check: proof.Content, files: page("fare_low", func(p []byte) bool {
		binary.LittleEndian.PutUint32(item(p, items(p)-3), 0)
		return true
	})},
	{name: "byte changed in a row, with a right checksum", check: proof.Content, files: page("fare_high", func(p []byte) bool {
		at := int(binary.LittleEndian.Uint32(item(p, 4)) & 0x7fff)
		p[at+28] ^= 64
		return true
	})},
	{name: "commit missing in the middle", check: proof.Commits, files: status(func(s *scene) pg.FullXID { return s.middle }, 2)},
	{name: "last commit missing", check: proof.LastIn, also: proof.Commits, files: status(func(s *scene) pg.FullXID { return s.last }, 2)},
	{name: "transaction after the boundary committed", check: proof.FirstOut, also: proof.Commits,
		files: status(func(s *scene) pg.FullXID { return s.out }, 1)},
	{
		name:  "boundary one transaction too late",
		check: proof.Place,
		also:  proof.FirstOut + ", " + proof.Commits + ", " + proof.Content,
		plan: func(s *scene, r *plan.Restore) {
			p, err := s.Plan(fmt.Sprintf("before tx %d", s.last))
			require.NoError(s, err)
			r.Boundary = p.Boundary
		},
	},
	{
		name:  "boundary one transaction too early",
		check: proof.Place,
		also:  proof.LastIn + ", " + proof.Commits + ", " + proof.Content,
		plan: func(s *scene, r *plan.Restore) {
			p, err := s.Plan(fmt.Sprintf("tx %d", s.out))
			require.NoError(s, err)
			r.Boundary = p.Boundary
		},
	},
	{name: "WAL of another timeline", check: proof.Place, plan: moved(func(r *plan.Restore) { r.Boundary.Timeline = 7 })},
	{name: "row that refers to none", check: proof.ForeignKeys, sql: []string{
		"alter table booking add constraint adrift foreign key (id) references harbor not valid",
		"update pg_constraint set convalidated = true where conname = 'adrift'"},
		back: []string{"alter table booking drop constraint adrift"}},
	{name: "key that occurs twice", check: proof.Unique, sql: []string{"create index twice on booking (seats)",
		"update pg_index set indisunique = true where indexrelid = 'twice'::regclass"}, back: []string{"drop index twice"}},
	{
		name:  "check constraint broken",
		check: proof.Constraints,
		sql: []string{"alter table booking add constraint few check (seats < 3) not valid",
			"update pg_constraint set convalidated = true where conname = 'few'"},
		back: []string{"alter table booking drop constraint few"},
	},
	{name: "NULL where there must be none", check: proof.Constraints, sql: []string{
		"update pg_attribute set attnotnull = true where attrelid = 'booking'::regclass and attname = 'place'"}, back: []string{
		"update pg_attribute set attnotnull = false where attrelid = 'booking'::regclass and attname = 'place'"}},
	{name: "sequence set back", check: proof.Sequences, sql: []string{"select setval('booking_id_seq', 5)"}, back: []string{
		"select setval('booking_id_seq', 5000)"}},
	{
		name:  "catalog that names nothing",
		check: proof.Catalogs,
		sql:   []string{"update pg_proc set proowner = 999999 where proname = 'sailed'"},
		back:  []string{"update pg_proc set proowner = 10 where proname = 'sailed'"},
	},
	{name: "extension without its library", check: proof.Extensions, verdict: proof.CouldNotRun, sql: []string{
		"update pg_proc set probin = '$libdir/nowhere' where proname = 'gbt_int4_compress'"},
		back: []string{"update pg_proc set probin = '$libdir/btree_gist' where proname = 'gbt_int4_compress'"}},
	{name: "text sorted by another version", check: proof.Collations, sql: []string{
		`create collation "tide" (provider = libc, locale = 'C')`, `create index sorted on harbor (name collate "tide")`,
		"update pg_collation set collversion = '0.1' where collname = 'tide'"}, back: []string{"drop index sorted",
		`drop collation "tide"`}},
	{name: "large object that belongs to nobody", check: proof.Objects, also: proof.Catalogs, sql: []string{
		"create table metadata as select * from pg_largeobject_metadata", "delete from pg_largeobject_metadata"}, back: []string{
		"insert into pg_largeobject_metadata select * from metadata", "drop table metadata"}},
	{
		name:  "table emptied",
		check: proof.Content,
		sql:   []string{"create unlogged table kept as select * from fare_high", "delete from fare_high"},
		back:  []string{"insert into fare_high select * from kept", "drop table kept"},
	},
	{
		name:  "row changed by hand",
		check: proof.Content,
		sql:   []string{"update fare_high set price = price + 1 where day = 150"},
		back: []string{
			"update fare_high set price = price - 1 where day = 150"},
	},
	{name: "warning of recovery", check: proof.Log, running: func(s *scene, k catalog.Copy) {
		s.edit(k, "../server.log", func(b []byte) []byte {
			return append([]byte("2026-11-27 14:00:00.000 UTC [7] WARNING:  page 3 of relation base/5/16385 is uninitialized\n"), b...)
		})
	}},
	{name: "configuration missing", check: proof.Settings, verdict: proof.CouldNotRun, running: func(s *scene, k catalog.Copy) {
		path := filepath.Join(k.Directory, copies.OriginalConfiguration, "pg_hba.conf")
		require.NoError(s, os.Rename(path, path+".aside"))
		s.undo = append(s.undo, func() { require.NoError(s, os.Rename(path+".aside", path)) })
	}},
	{name: "own check that fails", check: "purser", prover: own("select * from crew", proof.NoRows, 5)},
	{name: "own check that writes", check: "purser", verdict: proof.CouldNotRun, prover: own("delete from crew", proof.NoRows, 5)},
	{name: "own check that never ends", check: "purser", verdict: proof.CouldNotRun, prover: own("select pg_sleep(60)", proof.NoRows, 1)},
	{name: "own check with a syntax error", check: "purser", verdict: proof.CouldNotRun, prover: own("selec 1", proof.NoRows, 5)},
	{name: "own check of another value", check: "purser", prover: own("select count(*) from crew", "value 5..10", 5)},
	{name: "live cluster that does not answer", check: proof.Content, verdict: proof.CouldNotRun, prover: func(_ *scene, p *prove.Prover) {
		p.Access.ConnString = "host=127.0.0.1 port=1 user=nobody dbname=postgres"
	}},
	{name: "other rows than in an earlier proof", check: proof.Content, prover: func(s *scene, p *prove.Prover) {
		table := proof.Table{}
		for _, c := range s.right {
			for _, t := range c.Tables {
				if t.Name == "public.crew" {
					table = t
				}
			}
		}
		table.Copy++
		p.Earlier = []prove.Earlier{{At: time.Now(), Plan: s.planned, Checks: []proof.Check{{Tables: []proof.Table{table}}}}}
	}},
}

// TestFaults seeds each fault into an open copy: the check that is made for it finds it, and no other fails. In the check
// each is seeded on one version; with VELVET_FAULTS_TABLE=FILE all are on all, and the file says what was found.
func TestFaults(t *testing.T) {
	table := os.Getenv("VELVET_FAULTS_TABLE")
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		s := setScene(b, true)
		k := s.openCopy()
		for i := range faults {
			f := &faults[i]
			if table == "" && i%len(pg.Versions()) != s.Record.Major()%len(pg.Versions()) {
				continue
			}
			caught := s.seed(f, k)
			if table != "" {
				out, err := os.OpenFile(table, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
				require.NoError(t, err)
				_, _ = fmt.Fprintf(out, "%d\t%s\t%s\t%s\n", s.Record.Major(), f.name, f.check, caught)
				require.NoError(t, out.Close())
			}
		}
		assert.Empty(t, failing(s.checks(s.prover(), k), proof.Failed, proof.CouldNotRun), "everything is right again")
	})
}

// openCopy makes the copy into which faults are seeded, and learns what they need to know.
func (s *scene) openCopy() catalog.Copy {
	s.Server.Exec("postgres", "create role purser login", "grant select on all tables in schema public to purser")
	k := s.Copy(s.maker, "before delete of booking")
	require.NoError(s, s.maker.Open(ctx, s.Record, k, task.Silent))
	k = s.Seen(k)
	require.NoError(s, json.Unmarshal(k.Plan, &s.planned))
	b := s.planned.Boundary
	s.last, s.out, s.middle = b.LastIn.XID, b.FirstOut.XID, b.LastIn.XID-20
	conn := s.on(k, "postgres")
	defer func() { _ = conn.Close(ctx) }()
	s.spare = testbed.One[string](s.Bed, conn, "select oid::text from pg_database where datname = 'spare'")
	s.paths = make(map[string]string)
	_, err := conn.Exec(ctx, "create role purser login")
	require.NoError(s, err)
	_, err = conn.Exec(ctx, "grant select on all tables in schema public to purser")
	require.NoError(s, err)
	s.right = s.checks(s.prover(), k)
	require.Empty(s, failing(s.right, proof.Failed, proof.CouldNotRun))
	return k
}

// seed makes a fault, proves, and takes it back.
func (s *scene) seed(f *fault, k catalog.Copy) (caught string) {
	server := copies.Server(k, s.Record.Major())
	proved, p := k, s.prover()
	exec := func(list []string) {
		conn := s.on(k, "postgres")
		defer func() { _ = conn.Close(ctx) }()
		for _, q := range list {
			_, err := conn.Exec(ctx, q)
			require.NoError(s, err, "%s: %s", f.name, q)
		}
	}
	restart := func(files func(s *scene, k catalog.Copy)) {
		s.learnPaths(k)
		require.NoError(s, s.Host.Stop(ctx, server, host.Fast))
		files(s, k)
		require.NoError(s, s.Host.StartAndWait(ctx, server))
	}
	exec(f.before)
	if f.files != nil {
		restart(f.files)
	}
	if f.running != nil {
		f.running(s, k)
	}
	exec(f.sql)
	if f.prover != nil {
		f.prover(s, p)
	}
	if f.plan != nil {
		r := s.planned
		f.plan(s, &r)
		encoded, err := json.Marshal(r)
		require.NoError(s, err)
		proved.Plan = encoded
	}
	verdict := f.verdict
	if verdict == "" {
		verdict = proof.Failed
	}
	by := s.checks(p, proved)
	for name, c := range by {
		switch {
		case f.check == name:
			assert.Equal(s, verdict, c.Verdict, "%s on %d: %s: %s", f.name, s.Record.Major(), name, c.Summary)
			caught = c.Summary
		case !strings.Contains(f.also, name):
			assert.NotEqual(s, proof.Failed, c.Verdict, "%s on %d: %s: %s", f.name, s.Record.Major(), name, c.Summary)
		}
	}
	if f.check == "" {
		caught = strings.Join(by[proof.PageBytes].Notes, "; ")
		assert.Contains(s, caught, "harmless")
	}
	exec(f.back)
	undo := func(*scene, catalog.Copy) {
		for _, u := range slices.Backward(s.undo) {
			u()
		}
		s.undo = nil
	}
	if f.files != nil {
		restart(undo)
	} else {
		undo(s, k)
	}
	return caught
}

// learnPaths notes where relations lie, while the copy's server can still tell.
func (s *scene) learnPaths(k catalog.Copy) {
	for _, name := range []string{"booking", "booking_pkey", "booking_note_idx", "booking_note_idx1", "booking_tags_idx",
		"booking_place_idx",
		"booking_span_idx", "booking_id_idx", "toast of letter", "toast index of letter", "booking/_vm", "booking/_fsm", "booking_id_seq",
		"pg_largeobject", "fare_low", "ebb/_vm", "fare_high"} {
		s.paths[name] = s.path(k, name)
	}
}

// TestFaultsWithoutChecksums has a cluster without data checksums: what lies out of bounds on a page is found all the same.
func TestFaultsWithoutChecksums(t *testing.T) {
	s := setScene(testbed.New(t), false)
	k := s.openCopy()
	assert.Contains(t, s.right[proof.PageBytes].Summary, "no data checksums")
	outside := func(p []byte) bool {
		if items(p) < 8 {
			return false
		}
		binary.LittleEndian.PutUint32(item(p, 7), pg.BlockSize-8|1<<15|64<<17)
		return true
	}
	for _, f := range []fault{
		{name: "impossible header", check: proof.PageBytes,
			files: page("booking", func(p []byte) bool { p[12], p[13] = 0xff, 0x7f; return true })},
		{name: "row beyond its page", check: proof.PageBytes, files: page("booking", outside)},
		{name: "index entry beyond its page", check: proof.PageBytes, files: page("booking_pkey", leaf(func(p []byte) { outside(p) }))},
	} {
		s.seed(&f, k)
	}
}
