package journal

import (
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
	var l log
	r := NewRecorder(pg.Segment{Timeline: 1}, z, State{})
	var all []*Segment
	cut := func() {
		s, err := r.Segment(l.at+64, names(known))
		require.NoError(t, err)
		all = append(all, s)
		r = NewRecorder(pg.Segment{Timeline: 1, Number: s.Segment.Number + 1}, z, s.State)
	}
	for range rapid.IntRange(1, 120).Draw(t, "records") {
		_, err := r.See(randomRecord(t, &l), pg.Major(15))
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
		f.Table = rapid.SampledFrom([]Table{{Name: "booking"}, {Schema: "crew", Name: "passenger"}, {Schema: "public", Name: "passenger"}, {Database: "elsewhere", Name: "booking"}}).Draw(t, "table")
	}
	if rapid.IntRange(0, 3).Draw(t, "of a database") == 0 {
		f.Database = rapid.SampledFrom([]string{"saltmarsh", "elsewhere"}).Draw(t, "database")
	}
	if rapid.Bool().Draw(t, "of a kind") {
		k := rapid.SampledFrom([]Kind{Insert, Update, Delete, Truncate, Drop, Create}).Draw(t, "kind")
		f.Kind = &k
	}
	f.MinRows = rapid.Int64Range(0, 4).Draw(t, "rows")
	f.RolledBack = rapid.IntRange(0, 3).Draw(t, "rolled back") == 0
	f.Catalogs, f.Empty = rapid.Bool().Draw(t, "catalogs"), rapid.IntRange(0, 3).Draw(t, "empty") == 0
	if rapid.Bool().Draw(t, "behind") {
		f.After = pg.LSN(rapid.Uint64Range(0, uint64(end)).Draw(t, "after"))
	}
	if rapid.Bool().Draw(t, "in front of") {
		f.Before = pg.LSN(rapid.Uint64Range(0, uint64(end)).Draw(t, "before"))
	}
	if rapid.Bool().Draw(t, "since") {
		f.From = noon.Add(time.Duration(rapid.IntRange(-5, 200).Draw(t, "from")) * time.Second)
	}
	if rapid.Bool().Draw(t, "until") {
		f.To = noon.Add(time.Duration(rapid.IntRange(-5, 200).Draw(t, "to")) * time.Second)
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
			for _, s := range segments {
				most, may := f.Bound(&s.Head, nil)
				for tx, err := range s.Transactions() {
					require.NoError(t, err)
					size, ok := f.Match(&tx, tx.Tables(s.Lookup))
					if !ok {
						continue
					}
					found++
					require.True(t, may, "segment %d is ruled out for %+v, and has tx %d", s.Segment.Number, f, tx.XID)
					if !f.RolledBack { // of which a head tells no sizes
						require.LessOrEqual(t, size, most, "segment %d, %+v, tx %d", s.Segment.Number, f, tx.XID)
					}
				}
			}
		}
	})
	assert.Greater(t, found, 100, "the filters find something at all")
}

// TestCostOfSegmentsIsThatOfTheirTransactions adds the same up from heads and from
// transactions: what is undone by going back does not depend on where segments end.
func TestCostOfSegmentsIsThatOfTheirTransactions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var heads, each Cost
		for _, s := range randomSegments(t) {
			heads.AddSegment(&s.Head, nil)
			for tx, err := range s.Transactions() {
				require.NoError(t, err)
				each.AddTransaction(&tx, tx.Tables(s.Lookup))
			}
		}
		heads.Sort()
		each.Sort()
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
	})
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
