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

// withoutLast takes the last entry from a page of many with which a condition agrees, and whose special space is so long.
func withoutLast(special int, of func(p []byte) bool) func(p []byte) bool {
	return func(p []byte) bool {
		if int(binary.LittleEndian.Uint16(p[16:]))+special != pg.BlockSize || items(p) < 20 || !of(p) {
			return false
		}
		binary.LittleEndian.PutUint16(p[12:], binary.LittleEndian.Uint16(p[12:])-4)
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

// TestFaults seeds each fault into an open copy: the check that is made for it finds it, and no other fails. In the check
// each is seeded on one version; with VELVET_FAULTS_TABLE=FILE all are on all, and the file says what was found.
func TestFaults(t *testing.T) {
	table := os.Getenv("VELVET_FAULTS_TABLE")
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		s := setScene(b, true)
		k := s.openCopy()
		if b.Major < 17 {
			for _, name := range []string{proof.Indexes, proof.Unique} {
				notes := strings.Join(s.right[name].Notes, ", ")
				assert.Contains(t, notes, "cannot be calculated here", "with a function that needs a search_path")
			}
		}
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
		"booking_span_idx", "booking_seats_idx", "booking_upper_idx", "toast of letter", "toast index of letter",
		"booking/_vm", "booking/_fsm", "booking_id_seq",
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
