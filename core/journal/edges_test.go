package journal

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/blocks"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

func words(list ...uint32) (b []byte) {
	for _, v := range list {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return b
}

// mapped makes a change of the map of catalogs: pairs of oid and file.
func (l *log) mapped(database uint32, pairs ...uint32) *wal.Record {
	b := append(words(database, 1663, 0, 0x592717, uint32(len(pairs)/2)), words(pairs...)...)
	return l.record(wal.ManagerRelationMap, 0x00, 0, b)
}

// classRow makes the insertion of a row into a file that may hold pg_class.
func (l *log) classRow(xid pg.XID, into wal.RelationRef, name string, persistence byte, file uint32) *wal.Record {
	v := pg.Major(15)
	row := make([]byte, v.ClassPersistence+20)
	binary.LittleEndian.PutUint32(row[classOID:], 17000)
	copy(row[className:], name)
	binary.LittleEndian.PutUint32(row[classFile:], file)
	row[v.ClassPersistence], row[v.ClassPersistence+1] = persistence, 'r'
	r := l.insert(xid, into)
	r.Blocks[0].Data = append([]byte{0, 0, 0, 0, 24, 0}, row...) // a short heap header, and a byte of padding
	return r
}

func ref(space, database, file uint32) wal.RelationRef {
	return wal.RelationRef{Space: space, Database: database, Filenode: file}
}

// TestRelationNamesAreLearned reads names from pg_class wherever that lies: at its own file, at another after it was
// rewritten, and at its own again.
func TestRelationNamesAreLearned(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	class, moved := ref(1663, 5, pgClass), ref(1663, 5, 20001)
	learned := func(records ...*wal.Record) (names []string) {
		for _, tx := range see(t, b, append(records, l.end(0, 10, nil))...) {
			for _, n := range tx.Named {
				names = append(names, n.Name)
			}
		}
		return names
	}
	assert.Equal(t, []string{"quay"}, learned(l.classRow(10, class, "quay", 'p', 17001)))
	assert.Empty(t, learned(l.classRow(10, class, "draft", 't', 17001)), "a temporary one has no file that matters")
	assert.Empty(t, learned(l.classRow(10, booking, "quay", 'p', 17001)), "not a row of pg_class")
	assert.Empty(t, learned(l.multi(10, class, 2)))
	assert.Empty(t, learned(l.mapped(5, 1247, 9)), "another catalog")
	assert.Nil(t, b.State().Class)
	learned(l.mapped(5, pgClass, pgClass))
	assert.Nil(t, b.State().Class, "where it is anyway")
	assert.Equal(t, []string{"pier"}, learned(l.mapped(5, 1247, 9, pgClass, 20001), l.classRow(10, moved, "pier", 'p', 17001),
		l.classRow(10, class, "none", 'p', 17001)))
	assert.Equal(t, []string{"crew"}, learned(l.classRow(10, ref(1663, 6, pgClass), "crew", 'p', 17001)),
		"another database's is where it was")
	assert.Equal(t, map[uint32]uint32{5: 20001}, b.State().Class)
	again := NewBuilder(b.State())
	assert.Equal(t, []string{"ebb"}, func() (names []string) {
		for _, n := range see(t, again, l.classRow(11, moved, "ebb", 'p', 17001), l.end(0, 11, nil))[0].Named {
			names = append(names, n.Name)
		}
		return names
	}())
	assert.Equal(t, []string{"low"}, learned(l.mapped(5, pgClass, pgClass), l.classRow(10, class, "low", 'p', 17001),
		l.classRow(10, moved, "none", 'p', 17001)))
	broken := l.classRow(10, class, "quay", 'p', 17001)
	broken.Blocks[0].Data = broken.Blocks[0].Data[:3]
	_, err := b.See(broken, pg.Major(15))
	assert.Error(t, err, "a row that is cut short is damage")
}

// TestFilesOfATransaction holds which of the files that records make belong to a transaction.
func TestFilesOfATransaction(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	fork := l.create(10, booking)
	fork.Main[12] = 1 // its free-space map
	var made []wal.RelationRef
	records := []*wal.Record{fork, l.create(0, passenger)}
	image := func(of ...wal.RelationRef) *wal.Record { return l.record(wal.ManagerXLOG, 0xB0, 10, nil, of...) }
	records = append(records, image(booking))
	for n := range uint32(3 * few) {
		made = append(made, ref(1663, 5, 30000+n))
		records = append(records, l.create(10, made[n]), image(made[n], booking), image(made[n]))
	}
	tx := see(t, b, append(records, l.end(0, 10, nil))...)
	require.Len(t, tx, 1)
	assert.Equal(t, made, tx[0].Created)
	assert.Equal(t, made, tx[0].Filled, "each once, and none that it did not make")
}

// TestReplacements holds when files are taken for others' successors.
func TestReplacements(t *testing.T) {
	a, b, c, d := ref(1663, 5, 1), ref(1663, 5, 2), ref(1663, 5, 3), ref(1663, 5, 4)
	created, dropped := []wal.RelationRef{a, b}, []wal.RelationRef{d, c}
	assert.Equal(t, [][2]wal.RelationRef{{c, a}, {d, b}}, (&Transaction{Created: created, Dropped: dropped}).Replacements())
	assert.Empty(t, (&Transaction{Created: created, Dropped: dropped, Named: []Named{{}}}).Replacements())
	assert.Empty(t, (&Transaction{Created: created, Dropped: dropped[:1]}).Replacements())
	assert.Empty(t, (&Transaction{Created: created[:1], Dropped: dropped}).Replacements())
	assert.Empty(t, (&Transaction{Created: created, Dropped: dropped, mixed: true}).Replacements())
}

// TestEpochs holds what is known of the next transaction id, and with it of the epoch of all.
func TestEpochs(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	next := func(records ...*wal.Record) pg.FullXID { see(t, b, records...); return b.State().NextXID }
	assert.EqualValues(t, 31, next(l.insert(30, booking), l.end(0, 30, nil)), "one more than the first that was seen")
	assert.EqualValues(t, 120, next(l.running(100)), "as the server says")
	assert.EqualValues(t, 120, next(l.insert(90, booking), l.end(0, 90, nil)), "an older one is no news")
	assert.EqualValues(t, 126, next(l.insert(125, booking), l.end(0, 125, nil)))
	const epoch = 3 << 32
	assert.EqualValues(t, epoch|130, next(l.checkpoint(0x10, epoch|130)))
	assert.EqualValues(t, epoch|141, next(l.insert(140, booking), l.end(0, 140, nil)))
	assert.EqualValues(t, epoch|141, next(l.checkpoint(0x10, epoch|135)), "a checkpoint tells of when it began")
	assert.EqualValues(t, epoch|200, next(l.checkpoint(0x10, epoch|200)))
	assert.EqualValues(t, epoch|300, next(l.checkpoint(0x00, epoch|300)), "at a shutdown")
	assert.EqualValues(t, epoch|300, next(l.checkpoint(0x00, epoch|300)))
	see(t, b, l.insert(0xffffffff, booking), l.insert(5, booking), l.insert(0xfffffff0, booking), l.insert(400, booking))
	assert.Equal(t, []pg.XID{0xfffffff0, 0xffffffff, 5, 400}, opened(b), "in the circular order of ids")
}

// TestWALThatIsOfNoUse refuses what comes after wal_level was lowered to minimal.
func TestWALThatIsOfNoUse(t *testing.T) {
	var l log
	r := NewRecorder(pg.Segment{Timeline: 1, Number: 7}, z, State{})
	level := func(n uint32) *wal.Record {
		return l.record(wal.ManagerXLOG, 0x60, 0, append(words(100, 8, 10, 0, 64, n), 0, 0))
	}
	for n := uint32(1); n <= 2; n++ {
		_, err := r.See(level(n), pg.Major(15))
		require.NoError(t, err)
	}
	_, err := r.See(level(0), pg.Major(15))
	var damage *wal.Damage
	require.ErrorAs(t, err, &damage)
	assert.Contains(t, damage.Reason, "wal_level was lowered to minimal")
	assert.Equal(t, l.at, damage.LSN)
}

// TestIndexesComeBack writes indexes of everything that they can hold, reads them, and refuses them when they are cut.
func TestIndexesComeBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var l log
		r := NewRecorder(pg.Segment{Timeline: 1, Number: 7}, z, State{})
		places, class := []uint32{0, 5, 1663}, uint32(1<<32-1)
		relation := func() wal.RelationRef {
			// none of them holds pg_class
			return ref(rapid.SampledFrom(places).Draw(t, "space"), rapid.SampledFrom(places).Draw(t, "database"),
				rapid.Uint32Range(5000, class-1).Draw(t, "file"))
		}
		records := []*wal.Record{l.mapped(5, pgClass, class), l.classRow(9, ref(1663, 5, class), "quay", 'p', 17001),
			l.create(9, relation())}
		for n := range rapid.IntRange(1, 30).Draw(t, "records") {
			rec := l.insert(pg.XID(10+n%3), relation())
			rec.Blocks[0].Number = rapid.Uint32().Draw(t, "page")
			records = append(records, rec)
			if rapid.IntRange(0, 5).Draw(t, "ends") == 0 {
				records = append(records, l.end(0, pg.XID(10+n%3), []pg.XID{90}, relation(), relation()))
			}
		}
		for _, rec := range append(records, l.mark("low tide"), l.prepare(9, "flood")) {
			_, err := r.See(rec, pg.Major(15))
			require.NoError(t, err)
		}
		s, err := r.Segment(l.at+64, func(f wal.RelationRef) (Name, bool) {
			return Name{OID: f.Filenode, Database: "saltmarsh", Schema: "crew", Table: fmt.Sprint(f.Filenode % 7),
				Part: Part(f.Filenode % 3)}, f.Filenode%2 == 0
		})
		require.NoError(t, err)
		s.Blocks = append(s.Blocks, blocks.Changed{Fork: blocks.Fork{Relation: relation(), Number: 1}, Cut: 0},
			blocks.Changed{Fork: blocks.Fork{Relation: relation()}, Blocks: []uint32{3, 4, 1 << 31, 1<<32 - 1}, Cut: blocks.NotCut})
		encoded := s.Encode()
		again, err := DecodeIndex(encoded)
		require.NoError(t, err)
		plain := func(h Head) Head { h.at = nil; return h }
		require.Equal(t, plain(s.Head), plain(again.Head))
		require.Equal(t, s.Names, again.Names)
		require.Equal(t, s.Blocks, again.Blocks)
		for i := range s.State.Open {
			s.State.Open[i].last = 0 // which change was found last is not kept
		}
		require.Equal(t, s.State, again.State)
		require.Equal(t, transactions(t, s), transactions(t, again))
		head, err := DecodeHead(encoded)
		require.NoError(t, err)
		require.Equal(t, plain(s.Head), plain(head))
		_, err = DecodeIndex(encoded[:rapid.IntRange(0, len(encoded)-1).Draw(t, "cut")])
		require.ErrorIs(t, err, ErrFormat)
	})
}

// transactions reads a ledger.
func transactions(t require.TestingT, s *Segment) (list []Transaction) {
	for tx, err := range s.Transactions() {
		require.NoError(t, err)
		list = append(list, *kept(&tx))
	}
	return list
}

// TestParsersRefuse holds numbers to what they stand for.
func TestParsersRefuse(t *testing.T) {
	for _, b := range [][]byte{nil, {0x80}, []byte(strings.Repeat("\xff", 11))} {
		p := parser{b: b}
		assert.Zero(t, p.uint())
		assert.ErrorIs(t, p.err(), ErrFormat)
	}
	for v, ok := range map[uint64]bool{0: true, 0x7f: true, 0x80: true, 1<<32 - 1: true, 1 << 32: false, 1<<32 + 1: false, 1 << 40: false} {
		p := parser{b: binary.AppendUvarint(nil, v)}
		got := p.u32()
		assert.Equal(t, ok, p.err() == nil, v)
		if ok {
			assert.EqualValues(t, v, got)
		}
		assert.Empty(t, p.b)
	}
	for n, ok := range map[byte]bool{0: true, 1: true, 2: false, 3: false} {
		p := parser{b: []byte{n}, texts: []string{"ebb", "flood"}}
		p.text()
		assert.Equal(t, ok, p.err() == nil, n)
	}
	for _, s := range []string{"", "VELVET", "VELVETX\x01\x00\x00", IndexMagic} {
		_, err := DecodeIndex([]byte(s))
		assert.ErrorIs(t, err, ErrFormat, "%q", s)
	}
}

// TestSumsByTable adds up what was done to many tables, known and unknown, against a map.
func TestSumsByTable(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var h Head
		var c Cost
		sums, costs := make(map[string]Counts), make(map[string]Counts)
		for range rapid.IntRange(1, 200).Draw(t, "changes") {
			n := rapid.Uint32Range(0, 3*few).Draw(t, "table")
			change := TableChange{File: ref(1663, 5, n), Counts: Counts{Delete: int64(n) + 1, Insert: 1}}
			if n%3 > 0 {
				change.Known = true
				change.Name = Name{OID: n / 2, Database: []string{"saltmarsh", "elsewhere"}[n%2], Schema: "public", Table: fmt.Sprint(n)}
			}
			if n%5 == 0 && change.Known {
				change.Part = Toast
			}
			if n%7 == 0 && change.Known {
				change.Schema = "pg_catalog"
			}
			h.Tables[h.tableOf(&change)].count(&change.Counts)
			key := fmt.Sprint(change.Known, change.Name, change.File)
			if change.Known {
				key = fmt.Sprint(change.Name)
			}
			add(sums, key, change.Counts)
			c.AddTransaction(&Transaction{Committed: true}, []TableChange{change})
			c.AddTransaction(&Transaction{}, []TableChange{change}) // rolled back: it costs nothing
			if change.Schema != "pg_catalog" && (!change.Known || change.Part == Main) {
				add(costs, fmt.Sprint(change.Known, change.Database, change.OID,
					map[bool]uint32{false: change.File.Filenode}[change.Known]), change.Counts)
			}
		}
		require.Len(t, h.Tables, len(sums))
		for _, s := range h.Tables {
			key := fmt.Sprint(s.Known, s.Name, s.File)
			if s.Known {
				key = fmt.Sprint(s.Name)
			}
			require.Equal(t, sums[key], s.Sum, key)
		}
		require.Len(t, c.Tables, len(costs))
		for _, s := range c.Tables {
			key := fmt.Sprint(s.Known, s.Database, s.OID, map[bool]uint32{false: s.File.Filenode}[s.Known])
			require.Equal(t, costs[key], s.Sum, key)
		}
	})
}

func add(sums map[string]Counts, key string, counts Counts) {
	sum := sums[key]
	for k, n := range counts {
		sum[k] += n
	}
	sums[key] = sum
}

// TestSegmentsRuledOut holds what is not looked into.
func TestSegmentsRuledOut(t *testing.T) {
	drop, remove, insert := Drop, Delete, Insert
	head := func(change func(*Head)) *Head {
		h := &Head{From: 100, To: 200, Commits: 2, Earliest: noon, Latest: noon.Add(time.Hour), Most: Counts{Delete: 5}, MostRows: 5,
			Tables: []TableSum{{Name: known[booking], Known: true, Sum: Counts{Delete: 7}, Most: Counts{Delete: 5}},
				{File: passenger, Sum: Counts{Update: 1}, Most: Counts{Update: 1}}}}
		if change != nil {
			change(h)
		}
		return h
	}
	for what, c := range map[string]struct {
		f  Filter
		h  *Head
		ok bool
	}{
		"everything":                       {Filter{}, head(nil), true},
		"after its last record":            {Filter{After: 199}, head(nil), true},
		"after its end":                    {Filter{After: 200}, head(nil), false},
		"after the end, where it has none": {Filter{After: 0}, head(func(h *Head) { h.To = 0 }), true},
		"before its first record":          {Filter{Before: 100}, head(nil), false},
		"before the byte after it":         {Filter{Before: 101}, head(nil), true},
		"rolled back, and none was":        {Filter{RolledBack: true}, head(nil), false},
		"rolled back":                      {Filter{RolledBack: true}, head(func(h *Head) { h.Aborts, h.Commits = 1, 0 }), true},
		"no commit":                        {Filter{}, head(func(h *Head) { h.Commits = 0 }), false},
		"from its latest":                  {Filter{From: noon.Add(time.Hour)}, head(nil), true},
		"from later":                       {Filter{From: noon.Add(time.Hour + 1)}, head(nil), false},
		"to its earliest":                  {Filter{To: noon}, head(nil), true},
		"to sooner":                        {Filter{To: noon.Add(-1)}, head(nil), false},
		"from and to":                      {Filter{From: noon, To: noon}, head(nil), true},
		"of a kind":                        {Filter{Kind: &remove}, head(nil), true},
		"of another kind":                  {Filter{Kind: &insert}, head(nil), false},
		"of a kind, so many":               {Filter{Kind: &remove, MinRows: 5}, head(nil), true},
		"of a kind, more":                  {Filter{Kind: &remove, MinRows: 6}, head(nil), false},
		"databases dropped":                {Filter{Kind: &drop}, head(func(h *Head) { h.Most[Drop] = 1 }), true},
		"no database dropped":              {Filter{Kind: &drop}, head(nil), false},
		"a table dropped, another wanted": {Filter{Kind: &drop, Table: Table{Name: "quay"}}, head(func(h *Head) { h.Most[Drop] = 1 }),
			false},
		"of a table":           {Filter{Table: Table{Name: "booking"}}, head(nil), true},
		"of another table":     {Filter{Table: Table{Name: "quay"}}, head(nil), false},
		"empty ones, too":      {Filter{Table: Table{Name: "quay"}, Empty: true}, head(nil), true},
		"empty ones of a size": {Filter{Table: Table{Name: "quay"}, Empty: true, MinRows: 1}, head(nil), false},
	} {
		_, ok := c.f.Bound(c.h, nil)
		assert.Equal(t, c.ok, ok, what)
	}
	size, ok := (&Filter{Table: Table{Name: "passenger"}}).Bound(head(nil), names(known))
	assert.True(t, ok, "it is named by what is known later")
	assert.EqualValues(t, 1, size)
}

// TestFiltersOfTables holds which tables' changes count, and how much.
func TestFiltersOfTables(t *testing.T) {
	remove := Delete
	tx := Transaction{Committed: true, End: 100, Time: noon}
	list := []TableChange{
		{Name: known[booking], Known: true, Counts: Counts{Delete: 5}}, {Name: known[passenger], Known: true, Counts: Counts{Delete: 3}},
		{Name: Name{Database: "saltmarsh", Schema: "pg_catalog", Table: "pg_class"}, Known: true, Counts: Counts{Update: 2}},
		{File: booking, Counts: Counts{Truncate: 1}},
	}
	for what, c := range map[string]struct {
		f    Filter
		list []TableChange
		size int64
		ok   bool
	}{
		"all":                    {Filter{}, list, 8, true},
		"catalogs, too":          {Filter{Catalogs: true}, list, 10, true},
		"one":                    {Filter{Table: Table{Name: "passenger"}}, list, 3, true},
		"of another schema":      {Filter{Table: Table{Schema: "public", Name: "passenger"}}, list, 0, false},
		"unknown ones have none": {Filter{Table: Table{Name: "booking"}}, list[3:], 0, false},
		"an unknown one":         {Filter{}, list[3:], 0, true},
		"of a kind":              {Filter{Kind: &remove}, list[3:], 0, false},
		"without a count":        {Filter{}, []TableChange{{Name: known[booking], Known: true}}, 0, false},
		"catalogs alone":         {Filter{}, list[2:3], 0, false},
	} {
		size, ok := c.f.Match(&tx, c.list, nil)
		assert.Equal(t, c.ok, ok, what)
		assert.Equal(t, c.size, size, what)
	}
}

// TestNamesComeBack writes names of tables as people may call them, and reads them.
func TestNamesComeBack(t *testing.T) {
	part := rapid.StringOfN(rapid.SampledFrom([]rune(`ab"A. ö`)), 1, 5, -1)
	rapid.Check(t, func(t *rapid.T) {
		table := Table{Name: part.Draw(t, "name")}
		if rapid.Bool().Draw(t, "with a schema") {
			table.Schema = part.Draw(t, "schema")
			if rapid.Bool().Draw(t, "with a database") {
				table.Database = part.Draw(t, "database")
			}
		}
		again, err := ParseTable(table.String())
		require.NoError(t, err, table.String())
		require.Equal(t, table, again)
		require.True(t, again.Matches(Name{Database: table.Database, Schema: table.Schema, Table: table.Name}))
	})
	assert.Equal(t, "saltmarsh.crew.shift", Table{"saltmarsh", "crew", "shift"}.String(), "nothing is quoted without need")
	for text, name := range map[string]string{`"a""b"`: `a"b`, `"""a"`: `"a`, `"a"""`: `a"`, `"a.b"`: "a.b", `x."a""".b`: "b"} {
		table, err := ParseTable(text)
		require.NoError(t, err, text)
		assert.Equal(t, name, table.Name, text)
	}
	for _, text := range []string{`"a"b`, `"a"""b`, `"a".`, `"".b`, `"""`} {
		_, err := ParseTable(text)
		assert.Error(t, err, text)
	}
}

// TestGraveChanges holds which changes a rule can mark, and that kinds are read as they are written.
func TestGraveChanges(t *testing.T) {
	for k := range Operations {
		c := TableChange{Name: known[booking], Known: true}
		assert.False(t, Grave([]TableChange{c}))
		c.Counts[k] = 1
		goes := map[Operation]bool{Delete: true, Update: true, Truncate: true, Drop: true, Alter: true}[Operation(k)]
		assert.Equal(t, goes, Grave([]TableChange{{Name: known[passenger], Known: true}, c}), Operation(k))
		c.Schema = "pg_catalog"
		assert.False(t, Grave([]TableChange{c}), Operation(k))
		again, ok := ParseOperation(strings.ToUpper(Operation(k).String()))
		assert.True(t, ok)
		assert.Equal(t, Operation(k), again)
		rule := Rule{Tables: []TableRule{{Table: Table{"Tide", "crew", "shift"}, Rows: 7}},
			Normal: []Normal{{Table{Name: "fare"}, again, "clerk"}}}
		text, err := json.Marshal(rule)
		require.NoError(t, err)
		var read Rule
		require.NoError(t, json.Unmarshal(text, &read))
		assert.Equal(t, rule, read)
	}
	for _, text := range []string{`{"normal": [{"table": "fare", "kind": "flood"}]}`, `{"normal": [{"table": "a b", "kind": "drop"}]}`} {
		assert.Error(t, json.Unmarshal([]byte(text), &Rule{}))
	}
	_, ok := ParseOperation("flood")
	assert.False(t, ok)
}

// TestManyTablesAtOnce drops more tables than are looked through one by one, each after rows of it were deleted.
func TestManyTablesAtOnce(t *testing.T) {
	tx := Transaction{Changes: []Change{{Relation: ref(1663, 5, pgClass), Deleted: 3 * few}}}
	for n := range uint32(3 * few) {
		tx.Changes = append(tx.Changes, Change{Relation: ref(1663, 5, 20000+n), Deleted: 1})
		tx.Dropped = append(tx.Dropped, ref(1663, 5, 20000+n))
	}
	tables := tx.Tables(func(f wal.RelationRef) (Name, bool) {
		return Name{OID: f.Filenode, Database: "saltmarsh", Table: fmt.Sprint(f.Filenode)}, true
	})
	require.Len(t, tables, 3*few+1)
	for _, c := range tables[1:] {
		require.Equal(t, Counts{Delete: 1, Drop: 1}, c.Counts, c.Label())
	}
}

// TestOpenTransactionsInTheirOrder lists them as their ids were given, also where these began anew.
func TestOpenTransactionsInTheirOrder(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	see(t, b, l.insert(3, booking), l.insert(1<<32-2, booking), l.insert(9, booking), l.insert(1<<32-1, booking))
	require.Equal(t, []pg.XID{1<<32 - 2, 1<<32 - 1, 3, 9}, opened(b))
}
