package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/pg"
	"velvetrewind/core/repair"
	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestRepairs damages the files of a stopped cluster at random, on every version, after a random workload, and has them repaired: twice
// in the tests, VELVET_REPAIRS times in the long form. The cluster has everything that was committed, each of its pages and indexes is
// right, and what was whole was not written.
func TestRepairs(t *testing.T) {
	t.Parallel()
	rounds := 2
	if n, err := strconv.Atoi(os.Getenv("VELVET_REPAIRS")); err == nil {
		rounds = n
	}
	seed := rand.Uint64()
	if n, err := strconv.ParseUint(os.Getenv("VELVET_SEED"), 10, 64); err == nil {
		seed = n
	}
	testbed.EachVersion(t, func(t *testing.T, b *testbed.Bed) {
		t.Logf("seed %d", seed)
		d := &damages{workload: &workload{stage: newStageOn(b), random: rand.New(rand.NewPCG(seed, 9))}}
		d.alone = d.random.IntN(4) > 0 // with databases copied as files nothing but the base is relied on
		d.protect()
		d.exec("create extension amcheck")
		for n := range rounds {
			d.log = nil
			d.round(n)
		}
	})
}

// damages are done to a cluster.
type damages struct {
	*workload
	log  []string
	base string // the newest
}

func (d *damages) round(n int) {
	for range 3 {
		d.log = append(d.log, d.step())
	}
	if n%3 == 0 {
		b, _ := d.take()
		d.base = b.ID
	}
	for range 1 + d.random.IntN(8) {
		d.log = append(d.log, d.step())
	}
	d.commit(n + 1)
	want := fingerprint(d, d.ferries.Connect)
	mode := []host.StopMode{host.Fast, host.Immediate}[d.random.IntN(2)]
	require.NoError(d, d.db.Close(context.Background()))
	d.ferries.Stop(mode)
	whole := d.sums()
	damaged := make(map[string]bool)
	for range 1 + d.random.IntN(4) {
		d.damage(damaged)
	}
	what := fmt.Sprintf("%s; stopped %s; %v", strings.Join(d.log, "; "), mode, damaged)
	d.unwritten(whole, damaged, what)
	require.Equal(d, want, fingerprint(d, d.ferries.Connect), what)
	d.db = d.ferries.Connect("postgres")
	d.checkIndexes(what)
	d.streaming()
	d.clearAside()
}

// unwritten repairs and makes sure that no relation's file was written that was as it had to be. Then the server is started.
func (d *damages) unwritten(whole map[string][32]byte, damaged map[string]bool, what string) {
	var planned, done api.Repair
	d.service.JSON(&planned, "restore", "repair", "ferries", "--plan")
	require.Equal(d, d.base, planned.Base)
	touched := make(map[string]bool)
	for _, f := range planned.Findings {
		touched[f.Path] = true
	}
	for _, f := range planned.Findings {
		if !f.Renewed {
			d.Logf("%s: %s, %d pages, %d bytes", f.Path, f.Why, f.Pages, f.Bytes)
		}
	}
	now := d.sums()
	d.service.JSON(&done, "restore", "repair", "ferries", "--confirm", "ferries", "--no-start")
	assert.Equal(d, planned.Findings, done.Findings, "what was planned is done: %s", what)
	after := d.sums()
	for name, sum := range now {
		if touched[name] {
			continue
		}
		require.Equal(d, sum, after[name], "%s was not among the findings, and was changed: %s", name, what)
	}
	if done.Strict == "" {
		for _, f := range done.Findings { // those of unlogged tables are moved aside before the server empties them
			if !f.Renewed && repair.ClassOf(f.Path) == repair.Pages && !damaged[f.Path] && whole[f.Path] == now[f.Path] {
				_, was := whole[f.Path]
				assert.False(d, was, "%s was whole, and was repaired: %s; %+v", f.Path, what, done.Findings)
			}
		}
	}
	d.ferries.Start()
}

// files lists the cluster's, by their paths in the data directory.
func (d *damages) files() (list []string) {
	for _, root := range []string{d.ferries.DataDir, d.Path("ferries", "ledger")} {
		at := root
		require.NoError(d, filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			rel, err := filepath.Rel(at, path)
			if at != d.ferries.DataDir {
				rel = filepath.Join("pg_tblspc", d.ledger(), rel)
			}
			if !strings.Contains(rel, ".velvet-aside-") {
				list = append(list, rel)
			}
			return err
		}))
	}
	return list
}

// ledger is the oid of the tablespace.
func (d *damages) ledger() string {
	list, err := filepath.Glob(filepath.Join(d.ferries.DataDir, "pg_tblspc", "*"))
	require.NoError(d, err)
	if len(list) == 0 {
		return "0"
	}
	return filepath.Base(list[0])
}

// sums are those of the relations' files.
func (d *damages) sums() map[string][32]byte {
	sums := make(map[string][32]byte)
	for _, name := range d.files() {
		if _, ok := pg.ParseRelationFile(name); ok {
			content, err := os.ReadFile(d.at(name))
			require.NoError(d, err)
			sums[name] = sha256.Sum256(content)
		}
	}
	return sums
}

func (d *damages) at(name string) string { return filepath.Join(d.ferries.DataDir, name) }

// damage does something to a file, or to many.
func (d *damages) damage(done map[string]bool) {
	var pages, others []string
	for _, name := range d.files() {
		switch repair.ClassOf(name) {
		case repair.Pages:
			pages = append(pages, name)
		case repair.Renewed:
			others = append(others, name)
		}
	}
	one, other := pages[d.random.IntN(len(pages))], pages[d.random.IntN(len(pages))]
	write := func(name string, change func([]byte) []byte) {
		content, err := os.ReadFile(d.at(name))
		require.NoError(d, err)
		require.NoError(d, os.WriteFile(d.at(name), change(bytes.Clone(content)), 0o600))
		done[name] = true
	}
	switch kind := d.random.IntN(9); kind {
	case 0:
		done[one] = true
		require.NoError(d, os.Remove(d.at(one)))
	case 1:
		write(one, func(b []byte) []byte { return b[:d.random.IntN(len(b)+1)] })
	case 2: // swapped
		a, err := os.ReadFile(d.at(one))
		require.NoError(d, err)
		b, err := os.ReadFile(d.at(other))
		require.NoError(d, err)
		write(one, func([]byte) []byte { return b })
		write(other, func([]byte) []byte { return a })
	case 3: // zeroed from somewhere on
		write(one, func(b []byte) []byte { clear(b[d.random.IntN(len(b)+1):]); return b })
	case 4: // bits flipped
		write(one, func(b []byte) []byte {
			for range min(3, len(b)) {
				b[d.random.IntN(len(b))] ^= 1 << d.random.IntN(8)
			}
			return b
		})
	case 5: // the tablespace is gone
		for _, name := range d.files() {
			if strings.HasPrefix(name, "pg_tblspc/") {
				done[name] = true
			}
		}
		entries, err := os.ReadDir(d.Path("ferries", "ledger"))
		require.NoError(d, err)
		for _, e := range entries {
			if !strings.Contains(e.Name(), ".velvet-aside-") {
				require.NoError(d, os.RemoveAll(d.Path("ferries", "ledger", e.Name())))
			}
		}
	case 6: // transaction states, or a relation map
		name := others[d.random.IntN(len(others))]
		write(name, func(b []byte) []byte { return bytes.Repeat([]byte{0xAA}, len(b)) })
	case 7: // a file too many
		name := filepath.Join(filepath.Dir(one), strconv.Itoa(900_000+d.random.IntN(1000)))
		require.NoError(d, os.WriteFile(d.at(name), bytes.Repeat([]byte("flotsam "), 1024*(1+d.random.IntN(3))), 0o600))
		done[name] = true
	case 8: // junk at the end
		write(one, func(b []byte) []byte { return append(b, bytes.Repeat([]byte("wrack "), 1+d.random.IntN(3000))...) })
	}
}

// checkIndexes has every table and every B-tree of the database checked.
func (d *damages) checkIndexes(what string) {
	for _, q := range []string{
		"select bt_index_check(c.oid, true) from pg_class c join pg_am a on a.oid = c.relam join pg_index i on i.indexrelid = c.oid " +
			"where a.amname = 'btree' and c.relpersistence = 'p' and i.indisvalid",
		"select count(v.msg) from pg_class c, lateral verify_heapam(c.oid) v where c.relkind in ('r', 't', 'm') and c.relpersistence = 'p'",
	} {
		rows, err := d.db.Query(context.Background(), q)
		require.NoError(d, err, what)
		list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (any, error) {
			values, err := row.Values()
			return values[0], err
		})
		require.NoError(d, err, what)
		if strings.Contains(q, "count") {
			require.Equal(d, []any{int64(0)}, list, what)
		}
	}
}

// clearAside removes what was kept, so that it is not taken for the cluster's in the next round.
func (d *damages) clearAside() {
	for _, pattern := range []string{d.ferries.DataDir + ".velvet-aside-*", d.Path("ferries", "ledger") + "/*.velvet-aside-*"} {
		list, err := filepath.Glob(pattern)
		require.NoError(d, err)
		for _, dir := range list {
			require.NoError(d, os.RemoveAll(dir))
		}
	}
}

// TestARepairIsKilled kills the service while it repairs. The server cannot be started then, unless everything is as it was before; and
// another repair goes on, to the same end.
func TestARepairIsKilled(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.exec("create table ebb as select n, repeat('tide ', 100) note from generate_series(1, 20000) n")
	s.exec("alter table booking set tablespace ledger")
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.exec("update booking set note = 'later' where id % 7 = 0")
	s.exec("delete from ebb where n % 3 = 0")
	s.commit(1)
	s.captured()
	want := fingerprint(s, s.ferries.Connect)
	require.NoError(s, s.db.Close(context.Background()))
	s.ferries.Stop(host.Fast)
	d := &damages{workload: &workload{stage: s, random: rand.New(rand.NewPCG(rand.Uint64(), 1))}}
	locked := 0
	for n := range 8 {
		done := make(map[string]bool)
		for range 3 {
			d.damage(done)
		}
		control := filepath.Join(s.ferries.DataDir, repair.ControlFile)
		ended := make(chan testbed.Result, 1)
		go func() {
			ended <- s.service.Velvet("restore", "repair", "ferries", "--confirm", "ferries", "--no-start")
		}()
		for began := time.Now(); time.Since(began) < 5*time.Second; time.Sleep(200 * time.Microsecond) {
			if _, err := os.Lstat(control); err != nil { // it has begun
				time.Sleep(time.Duration(d.random.IntN(30*n+5)) * time.Millisecond)
				break
			}
		}
		s.service.Kill()
		<-ended
		amid := false
		if _, err := os.Lstat(control); err != nil {
			amid = true
			locked++
			require.Error(s, s.Host.StartAndWait(context.Background(), s.ferries.Server), "it cannot start")
		}
		s.service.Start()
		s.Eventually("the task that it had has ended", func() bool {
			var list []api.Task
			s.service.JSON(&list, "task", "list", "--active", "--kind", "repair")
			return len(list) == 0
		})
		if amid {
			require.FileExists(s, control, "the repair was finished when the service was started")
		}
	}
	require.Positive(s, locked, "it was killed amid a repair")
	s.Eventually("a repair is through", func() bool {
		return s.service.Velvet("restore", "repair", "ferries", "--confirm", "ferries").Code == 0
	})
	require.Equal(t, want, fingerprint(s, s.ferries.Connect))
	s.db = s.ferries.Connect("postgres")
	s.streaming()
}

// TestRepairRefuses has a repair asked for where it cannot be right: nothing is changed, and it says what to do.
func TestRepairRefuses(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	again := func(says ...string) { s.refused(1, says, "restore", "repair", "ferries", "--confirm", "ferries") }
	again("the server of ferries runs", "Stop it: pg_ctl stop -D")
	s.commit(1)
	s.captured()
	s.ferries.Stop(host.Fast)
	again("there is no base backup of its timeline", "velvet restore takeover ferries latest")
	s.ferries.Start()
	s.streaming()
	s.service.Must("backup", "take", "ferries", "--checkpoint", "fast")
	s.db = s.ferries.Connect("postgres")
	for n := range 4 {
		s.commit(n + 2)
		s.exec("select pg_switch_wal()")
	}
	s.commit(9)
	s.captured()
	s.Eventually("the segments are stored", func() bool { _, complete := s.indexes(); return complete })
	s.ferries.Stop(host.Fast)
	control := filepath.Join(s.ferries.DataDir, repair.ControlFile)
	content, err := os.ReadFile(control)
	require.NoError(t, err)
	d := &damages{workload: &workload{stage: s}}
	for what, change := range map[string]struct {
		content []byte
		says    string
	}{
		"half written":        {append(bytes.Clone(content[:200]), make([]byte, len(content)-200)...), "without its control file"},
		"of another cluster":  {changedControl(s.Bed, content, 0, 99), "it is of the cluster with the system identifier 99"},
		"ahead of all":        {changedControl(s.Bed, content, 32, 7<<40), "and WAL is known up to"},
		"on another timeline": {changedControl(s.Bed, content, 48, 3|3<<32), "the cluster is on timeline 3"},
	} {
		require.NoError(t, os.WriteFile(control, change.content, 0o600))
		before := d.sums()
		again(change.says)
		require.Equal(t, before, d.sums(), what)
	}
	require.NoError(t, os.WriteFile(control, content, 0o600))
	s.refused(3, []string{"what stands there is kept beside"}, "restore", "repair", "ferries")
	plan := []string{"restore", "repair", "ferries", "--plan"}
	s.refused(1, []string{"has no tablespace", "Name it by where it lies"}, append(plan, "--tablespace", "/nowhere")...)
	s.refused(1, []string{"no relation", "DATABASE.SCHEMA.NAME"}, append(plan, "--relation", "postgres.public.nothing")...)
	standby := filepath.Join(s.ferries.DataDir, "standby.signal")
	require.NoError(t, os.WriteFile(standby, nil, 0o600))
	again("is the directory of a standby")
	require.NoError(t, os.Remove(standby))
	for _, kind := range []string{"wal", "journal"} { // a hole
		list, err := filepath.Glob(s.Path("home", "store", "clusters", s.cluster().ID, kind, "00000001", strings.Repeat("[0-9A-F]", 24)))
		require.NoError(t, err)
		require.NotEmpty(t, list)
		require.NoError(t, os.Remove(list[len(list)-2]))
	}
	again("the WAL since base", "is not whole")
}

// changedControl is a control file with eight other bytes, and the CRC that belongs to them.
func changedControl(b *testbed.Bed, content []byte, at int, value uint64) []byte {
	content = bytes.Clone(content)
	binary.LittleEndian.PutUint64(content[at:], value)
	crcAt := pg.Major(b.Major).ControlCRC
	binary.LittleEndian.PutUint32(content[crcAt:], crc32.Checksum(content[:crcAt], pg.Castagnoli))
	return content
}
