package prove_test

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/plan"
	"velvetrewind/core/proof"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/prove"
	"velvetrewind/engine/restore/copies"
)

// faults are of an open copy.
var faults = []fault{
	{name: "bit flipped in a table", check: proof.PageBytes, files: flip("booking")},
	{name: "bit flipped in a B-tree index", check: proof.PageBytes, files: flip("booking_note_idx")},
	{name: "bit flipped in a hash index", check: proof.PageBytes, files: flip("booking_note_idx1")},
	{name: "bit flipped in a GIN index", check: proof.PageBytes, files: flip("booking_tags_idx")},
	{name: "bit flipped in a GiST index", check: proof.PageBytes, files: flip("booking_place_idx")},
	{name: "bit flipped in an SP-GiST index", check: proof.PageBytes, files: flip("booking_span_idx")},
	{name: "bit flipped in a BRIN index", check: proof.PageBytes, files: flip("booking_seats_idx")},
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
	{name: "entry of a hash index missing", check: proof.Indexes, files: page("booking_note_idx1", withoutLast(16, func(p []byte) bool {
		return p[pg.BlockSize-4]&3 != 0 // of a bucket
	}))},
	{name: "entry of a GiST index missing", check: proof.Indexes, files: page("booking_place_idx", withoutLast(16, func(p []byte) bool {
		return p[pg.BlockSize-4]&1 != 0 // a leaf
	}))},
	{name: "entry of a GiST index doubled", check: proof.Indexes, files: page("booking_place_idx", func(p []byte) bool {
		if items(p) < 20 || p[pg.BlockSize-4]&1 == 0 {
			return false
		}
		copy(item(p, 3), item(p, 4))
		return true
	})},
	{name: "entry of an SP-GiST index missing", check: proof.Indexes, files: page("booking_span_idx", func(p []byte) bool {
		if items(p) < 20 || p[pg.BlockSize-8] != 4 { // a leaf
			return false
		}
		at := binary.LittleEndian.Uint32(item(p, 7)) & 0x7fff
		p[at] = p[at]&^3 | 2 // dead
		return true
	})},
	{name: "posting list of a GIN index cut short", check: proof.Indexes, files: page("booking_tags_idx", func(p []byte) bool {
		if p[pg.BlockSize-2] != 2 { // a leaf of the entries
			return false
		}
		entry := p[binary.LittleEndian.Uint32(item(p, 2))&0x7fff:]
		list := entry[binary.LittleEndian.Uint16(entry[2:]):] // after the key: a first row, a length, and that many bytes
		length := binary.LittleEndian.Uint16(list[6:]) - 1    // of the last row's distance in as many bytes as it takes
		for ; list[8+length-1]&0x80 != 0; length-- {          // each but the last of them has this bit
		}
		binary.LittleEndian.PutUint16(list[6:], length)
		binary.LittleEndian.PutUint16(entry[4:], binary.LittleEndian.Uint16(entry[4:])-1)
		return true
	})},
	{name: "summary of a BRIN index too narrow", check: proof.Indexes, files: page("booking_seats_idx", func(p []byte) bool {
		if binary.LittleEndian.Uint16(p[pg.BlockSize-2:]) != 0xf093 { // of summaries
			return false
		}
		at := binary.LittleEndian.Uint32(item(p, 0)) & 0x7fff
		least := p[at+uint32(p[at+4]&31):]
		binary.LittleEndian.PutUint32(least, binary.LittleEndian.Uint32(least)+1)
		return true
	})},
	{name: "entry of a partial index on an expression missing", check: proof.Indexes, files: page("booking_upper_idx",
		leaf(func(p []byte) { binary.LittleEndian.PutUint16(p[12:], binary.LittleEndian.Uint16(p[12:])-4) }))},
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
