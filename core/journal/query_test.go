package journal

import (
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// randomSegments makes a log and cuts it into indexes.
func randomSegments(t *rapid.T) []*Segment {
	l := newServer(t)
	r := NewRecorder(pg.Segment{Timeline: 1}, z, State{})
	var all []*Segment
	cut := func() {
		s, err := r.Segment(l.at+64, names(known))
		require.NoError(t, err)
		all = append(all, s)
		r = NewRecorder(pg.Segment{Timeline: 1, Number: s.Segment.Number + 1}, z, s.State)
	}
	for range rapid.IntRange(1, 120).Draw(t, "records") {
		_, err := r.See(l.step(), pg.Major(15))
		require.NoError(t, err)
		if rapid.IntRange(0, 14).Draw(t, "cut") == 0 {
			cut()
		}
	}
	cut()
	return all
}

func randomFilter(t *rapid.T, end pg.LSN) Filter {
	var f Filter
	if rapid.Bool().Draw(t, "of a table") {
		f.Table = rapid.SampledFrom([]Table{{Name: "booking"}, {Schema: "crew", Name: "passenger"}, {Schema: "public", Name: "passenger"},
			{Database: "elsewhere", Name: "booking"}}).Draw(t, "table")
	}
	if rapid.IntRange(0, 3).Draw(t, "of a database") == 0 {
		f.Database = rapid.SampledFrom([]string{"saltmarsh", "elsewhere"}).Draw(t, "database")
	}
	if rapid.Bool().Draw(t, "of a kind") {
		k := rapid.SampledFrom([]Operation{Insert, Update, Delete, Truncate, Drop, Create}).Draw(t, "kind")
		f.Kind = &k
	}
	f.MinRows = rapid.Int64Range(0, 4).Draw(t, "rows")
	f.RolledBack = rapid.IntRange(0, 3).Draw(t, "rolled back") == 0
	f.Catalogs, f.Empty = rapid.Bool().Draw(t, "catalogs"), rapid.IntRange(0, 3).Draw(t, "empty") == 0
	if rapid.Bool().Draw(t, "after") {
		f.After = pg.LSN(rapid.Uint64Range(0, uint64(end)).Draw(t, "after"))
	}
	if rapid.Bool().Draw(t, "in front of") {
		f.Before = pg.LSN(rapid.Uint64Range(0, uint64(end)).Draw(t, "before"))
	}
	if rapid.Bool().Draw(t, "since") {
		f.From = noon.Add(time.Duration(rapid.IntRange(-95, 95).Draw(t, "from")) * time.Second)
	}
	if rapid.Bool().Draw(t, "until") {
		f.To = noon.Add(time.Duration(rapid.IntRange(-95, 95).Draw(t, "to")) * time.Second)
	}
	return f
}

// TestBoundsHideNothing holds what lets a query over a month read heads alone: a segment
// that its bound rules out has no transaction that is wanted, and none is larger than it says.
func TestBoundsHideNothing(t *testing.T) {
	found := 0
	rapid.Check(t, func(t *rapid.T) {
		segments := randomSegments(t)
		end := segments[len(segments)-1].To
		for range 8 {
			f := randomFilter(t, end)
			all := sumOf(segments)
			mostOfAll, mayAll := f.Bound(&all, nil)
			for _, s := range segments {
				most, may := f.Bound(&s.Head, nil)
				for tx, err := range s.Transactions() {
					require.NoError(t, err)
					size, ok := f.Match(&tx, tx.Tables(s.Lookup), nil)
					if !ok {
						continue
					}
					found++
					require.True(t, mayAll, "all segments are ruled out for %+v", f)
					require.True(t, may, "segment %d is ruled out for %+v, and has tx %d", s.Segment.Number, f, tx.XID)
					if !f.RolledBack { // of which a head tells no sizes
						require.LessOrEqual(t, size, most, "segment %d, %+v, tx %d", s.Segment.Number, f, tx.XID)
						require.LessOrEqual(t, most, mostOfAll)
					}
				}
			}
		}
	})
	if !testing.Short() { // which draws a few only
		assert.Greater(t, found, 100, "the filters find something at all")
	}
}

// sumOf adds the heads of segments up.
func sumOf(segments []*Segment) Head {
	var heads []Head
	for _, s := range segments {
		heads = append(heads, s.Head)
	}
	return sum(heads)
}

// TestCostOfSegmentsIsThatOfTheirTransactions adds the same up from heads and from
// transactions: what is undone by going back does not depend on where segments end.
func TestCostOfSegmentsIsThatOfTheirTransactions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var heads, each, together Cost
		segments := randomSegments(t)
		all := sumOf(segments)
		together.AddSegment(&all, nil)
		for _, s := range segments {
			heads.AddSegment(&s.Head, nil)
			for tx, err := range s.Transactions() {
				require.NoError(t, err)
				each.AddTransaction(&tx, tx.Tables(s.Lookup))
			}
		}
		for _, c := range []*Cost{&heads, &each, &together} {
			c.Sort()
		}
		require.Equal(t, together.Transactions, each.Transactions)
		require.Equal(t, heads.Transactions, each.Transactions)
		sums := func(c Cost) map[wal.RelationRef]Counts {
			m := make(map[wal.RelationRef]Counts)
			for i, table := range c.Tables {
				if table.Sum != (Counts{}) {
					m[table.File] = table.Sum
				}
				if i > 0 {
					require.GreaterOrEqual(t, c.Tables[i-1].Sum.Rows(), table.Sum.Rows(), "the most first")
				}
			}
			return m
		}
		require.Equal(t, sums(each), sums(heads))
		require.Equal(t, sums(each), sums(together))
	})
}

// TestEdgesOfAFilter holds what is wanted at the very edge of what was asked for.
func TestEdgesOfAFilter(t *testing.T) {
	drop, remove := Drop, Delete
	tx := Transaction{Committed: true, End: 100, Time: noon}
	change := TableChange{Name: known[booking], Known: true, Counts: Counts{Delete: 5, Insert: 1}}
	for _, c := range []struct {
		what string
		f    Filter
		size int64
		ok   bool
	}{
		{"anything", Filter{}, 6, true},
		{"after the record itself", Filter{After: 100}, 0, false},
		{"after the byte before it", Filter{After: 99}, 6, true},
		{"before the record itself", Filter{Before: 100}, 0, false},
		{"before the byte after it", Filter{Before: 101}, 6, true},
		{"from its very time", Filter{From: noon}, 6, true},
		{"from a moment later", Filter{From: noon.Add(time.Microsecond)}, 0, false},
		{"to its very time", Filter{To: noon}, 6, true},
		{"to a moment sooner", Filter{To: noon.Add(-time.Microsecond)}, 0, false},
		{"of that size", Filter{MinRows: 6}, 6, true},
		{"of a row more", Filter{MinRows: 7}, 6, false},
		{"of that size of a kind", Filter{Kind: &remove, MinRows: 5}, 5, true},
		{"of a row more of a kind", Filter{Kind: &remove, MinRows: 6}, 5, false},
		{"of another kind", Filter{Kind: &drop}, 0, false},
		{"rolled back", Filter{RolledBack: true}, 0, false},
		{"of another database", Filter{Database: "elsewhere"}, 0, false},
	} {
		size, ok := c.f.Match(&tx, []TableChange{change}, nil)
		assert.Equal(t, c.ok, ok, c.what)
		if ok {
			assert.Equal(t, c.size, size, c.what)
		}
	}
	nothing := Transaction{Committed: true, End: 100, Time: noon}
	_, ok := (&Filter{}).Match(&nothing, nil, nil)
	assert.False(t, ok, "what changed no table")
	_, ok = (&Filter{Empty: true}).Match(&nothing, nil, nil)
	assert.True(t, ok)
	nothing.DroppedDatabases = []uint32{5}
	_, ok = (&Filter{Kind: &drop}).Match(&nothing, nil, nil)
	assert.True(t, ok, "a dropped database")
	_, ok = (&Filter{Kind: &drop, Table: Table{Name: "booking"}}).Match(&nothing, nil, nil)
	assert.False(t, ok, "of which table is not known")
	_, ok = (&Filter{Kind: &remove}).Match(&nothing, nil, nil)
	assert.False(t, ok)
}

// TestNamesFromPgClass reads rows of pg_class as each version writes them.
func TestNamesFromPgClass(t *testing.T) {
	for _, v := range pg.Versions() {
		row := func(name string, persistence, kind byte, space, file uint32) []byte {
			b := make([]byte, v.ClassPersistence+20)
			binary.LittleEndian.PutUint32(b[classOID:], 17000)
			copy(b[className:], name)
			binary.LittleEndian.PutUint32(b[classSchema:], 2200)
			binary.LittleEndian.PutUint32(b[classFile:], file)
			binary.LittleEndian.PutUint32(b[classSpace:], space)
			b[v.ClassPersistence], b[v.ClassPersistence+1] = persistence, kind
			return b
		}
		class := wal.RelationRef{Space: 1663, Database: 5, Filenode: pgClass}
		at := func(space uint32) wal.RelationRef { return wal.RelationRef{Space: space, Database: 5, Filenode: 17001} }
		for what, c := range map[string]struct {
			row  []byte
			want Named
			ok   bool
		}{
			"a table": {row("quay", 'p', 'r', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200, Name: "quay"}, true},
			"in a tablespace": {row("quay", 'p', 'r', 16999, 17001), Named{File: at(16999), OID: 17000, Schema: 2200, Name: "quay"},
				true},
			"an unlogged one": {row("quay", 'u', 'r', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200, Name: "quay"}, true},
			"a temporary one": {row("quay", 't', 'r', 0, 17001), Named{}, false},
			"a view": {row("quay", 'p', 'v', 0, 0), Named{File: ByObject(View, 5, 17000), OID: 17000, Schema: 2200, Name: "quay",
				Part: View}, true},
			"a partitioned one": {row("quay", 'p', 'p', 0, 0), Named{File: ByOID(5, 17000), OID: 17000, Schema: 2200,
				Name: "quay"}, true},
			"a type of rows":      {row("quay", 'p', 'c', 0, 0), Named{}, false},
			"a materialized view": {row("quay", 'p', 'm', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200, Name: "quay"}, true},
			"TOAST": {row("pg_toast_5", 'p', 't', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200,
				Name: "pg_toast_5", Part: Toast}, true},
			"an index": {row("quay_pkey", 'p', 'i', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200,
				Name: "quay_pkey", Part: Index}, true},
			"a sequence": {row("quay_seq", 'p', 'S', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200, Name: "quay_seq",
				Part: Sequence}, true},
			"a new form": {row("pg_temp_16384", 'p', 'r', 0, 17001), Named{File: at(1663), OID: 16384, Schema: 2200, Copy: true},
				true},
			"a name like one": {row("pg_temp_tide", 'p', 'r', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200,
				Name: "pg_temp_tide"}, true},
			"an index of such one": {row("pg_temp_16384", 'p', 'i', 0, 17001), Named{File: at(1663), OID: 17000, Schema: 2200,
				Name: "pg_temp_16384", Part: Index}, true},
			"cut short": {row("quay", 'p', 'r', 0, 17001)[:v.ClassPersistence+1], Named{}, false},
			"just long enough": {row("quay", 'p', 'r', 0, 17001)[:v.ClassPersistence+2], Named{File: at(1663), OID: 17000, Schema: 2200,
				Name: "quay"}, true},
		} {
			got, ok := decodeClass(class, c.row, v)
			assert.Equal(t, c.ok, ok, "%s, version %d", what, v.Major)
			if c.ok {
				assert.Equal(t, c.want, got, "%s, version %d", what, v.Major)
			}
		}
	}
}

func TestTablesAreMeant(t *testing.T) {
	name := Name{Database: "saltmarsh", Schema: "crew", Table: "shift"}
	for text, meant := range map[string]bool{
		"shift": true, "crew.shift": true, "saltmarsh.crew.shift": true, "CREW.Shift": true,
		"public.shift": false, "other.crew.shift": false, "shifts": false, `"Shift"`: false, `crew."shift"`: true,
	} {
		table, err := ParseTable(text)
		require.NoError(t, err, text)
		assert.Equal(t, meant, table.Matches(name), text)
		again, err := ParseTable(table.String())
		require.NoError(t, err, text)
		assert.Equal(t, table, again, text)
	}
	for _, text := range []string{"", ".", "a.", ".a", "a b", `"`, `""`, `"a"b`, "a.b.c.d", `"a`} {
		_, err := ParseTable(text)
		assert.Error(t, err, text)
	}
}
