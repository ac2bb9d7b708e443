package journal

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

const z = pg.SegmentSize(1 << 20)

func names(m map[wal.RelationRef]Name) Lookup {
	return func(ref wal.RelationRef) (Name, bool) {
		n, ok := m[ref]
		return n, ok
	}
}

var known = map[wal.RelationRef]Name{
	booking:   {OID: 16384, Database: "saltmarsh", Schema: "public", Table: "booking"},
	passenger: {OID: 16388, Database: "saltmarsh", Schema: "crew", Table: "passenger"},
}

func TestHeadSumsWhatCommitted(t *testing.T) {
	var l log
	r := NewRecorder(pg.Segment{Timeline: 1, Number: 7}, z, State{})
	for _, rec := range []*wal.Record{
		l.checkpoint(0x10, 1<<32|100), l.running(100), l.insert(130, booking), l.end(0, 130, nil), l.remove(131, booking, 0),
		l.remove(131, booking, 0), l.remove(131, passenger, 0),
		l.end(0, 131, nil), l.remove(132, booking, 0), l.end(0x20, 132, nil), l.mark("low tide"), l.remove(133, booking, 0),
		l.end(0, 133, nil), l.insert(134, booking),
	} {
		_, err := r.See(rec, pg.Major(15))
		require.NoError(t, err)
	}
	s, err := r.Segment(l.at+64, names(known))
	require.NoError(t, err)
	h := s.Head
	assert.Equal(t, []int64{3, 1, 14}, []int64{h.Commits, h.Aborts, h.Records})
	assert.Equal(t, []pg.FullXID{1<<32 | 130, 1<<32 | 133}, []pg.FullXID{h.MinXID, h.MaxXID}, "with their epoch")
	assert.Equal(t, pg.FullXID(1<<32|130), h.First.XID)
	assert.Equal(t, pg.FullXID(1<<32|133), h.Last.XID)
	require.Len(t, h.Tables, 2)
	assert.Equal(t, []int64{1, 3, 2}, []int64{h.Tables[0].Sum[Insert], h.Tables[0].Sum[Delete], h.Tables[0].Most[Delete]})
	assert.Equal(t, "low tide", h.RestorePoints[0].Name)
	require.Len(t, s.State.Open, 1)
	assert.Equal(t, pg.XID(134), s.State.Open[0].XID)

	var heads []Head
	content, toSum := EncodeChapter([]Head{h, {Segment: pg.Segment{Timeline: 1, Number: 8}}, h})
	require.NoError(t, DecodeChapter(content, func(h *Head) error {
		own := *h
		own.Tables = append([]TableSum(nil), h.Tables...)
		heads = append(heads, own)
		return nil
	}))
	assert.Equal(t, []Head{h, {Segment: pg.Segment{Timeline: 1, Number: 8}}, h}, heads)
	told, n, ok := DecodeSum(content[:toSum])
	require.True(t, ok)
	assert.Equal(t, 3, n)
	all := sum(heads)
	all.at = nil
	assert.Equal(t, all, told)
	assert.EqualValues(t, 2*h.Commits, all.Commits)
	assert.EqualValues(t, 2*h.Tables[0].Sum[Delete], all.Tables[0].Sum[Delete])
	assert.Equal(t, h.Tables[0].Most, all.Tables[0].Most)
	for cut := range toSum {
		_, _, ok := DecodeSum(content[:cut])
		require.False(t, ok, "cut to %d bytes", cut)
	}
}

func TestPartialTransactions(t *testing.T) {
	var l log
	b := NewBuilder(State{})
	ended := see(t, b, l.insert(10, booking), l.running(5), l.insert(30, booking), l.end(0, 10, nil), l.end(0, 30, nil), l.running(40),
		l.insert(12, booking), l.end(0, 12, nil))
	require.Len(t, ended, 3)
	assert.Equal(t, []bool{true, false, false}, []bool{ended[0].Partial, ended[1].Partial, ended[2].Partial})
}

// TestTables folds files into tables and tells dropping, truncating and rewriting apart.
func TestTables(t *testing.T) {
	file := func(n uint32) wal.RelationRef { return wal.RelationRef{Space: 1663, Database: 5, Filenode: n} }
	away := wal.RelationRef{Space: 16999, Database: 5, Filenode: 17001}
	class, toast, index, grown, made := file(1259), file(16390), file(16391), file(17000), file(17100)
	pier, repaired := file(16400), file(17200)
	attribute, movedClass, namesake := file(1249), file(20001), file(20002)
	lookup := map[wal.RelationRef]Name{
		class:      {OID: 1259, Database: "saltmarsh", Schema: "pg_catalog", Table: "pg_class"},
		attribute:  {OID: 1249, Database: "saltmarsh", Schema: "pg_catalog", Table: "pg_attribute"},
		movedClass: {OID: 1259, Database: "saltmarsh", Schema: "pg_catalog", Table: "pg_class"},
		namesake:   {OID: 18000, Database: "saltmarsh", Schema: "public", Table: "pg_class"},
		toast:      {OID: 16384, Database: "saltmarsh", Schema: "public", Table: "booking", Part: Toast},
		index:      {OID: 16384, Database: "saltmarsh", Schema: "public", Table: "booking", Part: Index},
		grown:      {OID: 16384, Database: "saltmarsh", Schema: "public", Table: "booking"},
		away:       {OID: 16384, Database: "saltmarsh", Schema: "public", Table: "booking"},
		made:       {OID: 17100, Database: "saltmarsh", Schema: "public", Table: "quay"},
		pier:       {OID: 16400, Database: "saltmarsh", Schema: "public", Table: "pier"}, repaired: {OID: 16400, Database: "saltmarsh",
			Schema: "public", Table: "pier"},
	}
	for ref, n := range known {
		if ref == booking {
			lookup[ref] = n
		}
	}
	rows := func(ref wal.RelationRef, i, u, d int64) Change { return Change{ref, i, u, d} }
	for what, c := range map[string]struct {
		tx   Transaction
		want string
	}{
		"rows, TOAST folded away": {Transaction{Changes: []Change{rows(booking, 1, 2, 3), rows(toast, 9, 0, 9)}},
			"booking 1 2 3"},
		"dropped": {Transaction{Changes: []Change{rows(class, 0, 0, 3)},
			Dropped: []wal.RelationRef{index, toast, booking}}, "pg_catalog.pg_class 0 0 3, booking drop"},
		"truncated": {Transaction{Changes: []Change{rows(class, 0, 3, 0)}, Created: []wal.RelationRef{grown},
			Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 0 3 0, booking truncate"},
		"truncated, the new file not named yet": {Transaction{Created: []wal.RelationRef{file(99999)}, Dropped: []wal.RelationRef{booking}},
			"booking truncate"},
		"rewritten": {Transaction{Changes: []Change{rows(class, 1, 3, 1)}, Created: []wal.RelationRef{grown},
			Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 1 3 1, booking rewrite"},
		"rewritten row by row": {Transaction{Changes: []Change{rows(class, 1, 3, 1), rows(grown, 500, 0, 0)},
			Created: []wal.RelationRef{grown}, Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 1 3 1, booking rewrite"},
		"rewritten, and a row put in": {Transaction{Changes: []Change{rows(class, 1, 3, 1), rows(grown, 500, 0, 0),
			rows(booking, 1, 0, 0)}, Created: []wal.RelationRef{grown}, Dropped: []wal.RelationRef{booking}},
			"pg_catalog.pg_class 1 3 1, booking 1 0 0 rewrite"},
		"two truncated": {Transaction{Created: []wal.RelationRef{grown, repaired},
			Dropped: []wal.RelationRef{pier, booking}}, "pier truncate, booking truncate"},
		"truncated by name, another rewritten": {Transaction{Changes: []Change{rows(class, 1, 3, 1)},
			Created: []wal.RelationRef{grown, repaired}, Dropped: []wal.RelationRef{pier, booking}, Truncated: []uint32{16384}},
			"pg_catalog.pg_class 1 3 1, pier rewrite, booking truncate"},
		"moved": {Transaction{Changes: []Change{rows(class, 0, 1, 0)}, Created: []wal.RelationRef{grown},
			Filled: []wal.RelationRef{grown}, Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 0 1 0, booking rewrite"},
		"moved, without rows": {Transaction{Changes: []Change{rows(class, 0, 1, 0)}, Created: []wal.RelationRef{away},
			Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 0 1 0, booking rewrite"},
		"made and dropped at once": {Transaction{Changes: []Change{rows(class, 1, 0, 1)}, Created: []wal.RelationRef{made},
			Dropped: []wal.RelationRef{made}}, "pg_catalog.pg_class 1 0 1"},
		"created": {Transaction{Changes: []Change{rows(class, 1, 0, 0), rows(made, 5, 0, 0)},
			Created: []wal.RelationRef{made}}, "pg_catalog.pg_class 1 0 0, quay 5 0 0 create"},
		"unknown": {Transaction{Changes: []Change{rows(file(4711), 0, 0, 7)}}, "file 1663/5/4711 0 0 7"},
		"a row put in and all truncated": {Transaction{Changes: []Change{rows(booking, 4, 0, 0)}, Created: []wal.RelationRef{grown},
			Dropped: []wal.RelationRef{booking}}, "booking 4 0 0 truncate"},
		"rows of another table deleted, the new file not named yet": {Transaction{Changes: []Change{rows(pier, 0, 0, 5)},
			Created: []wal.RelationRef{file(99999)}, Dropped: []wal.RelationRef{booking}}, "pier 0 0 5, booking truncate"},
		"rows of another catalog deleted, the new file not named yet": {Transaction{Changes: []Change{rows(attribute, 0, 0, 9)},
			Created: []wal.RelationRef{file(99999)}, Dropped: []wal.RelationRef{booking}},
			"pg_catalog.pg_attribute 0 0 9, booking truncate"},
		"rewritten row by row, with TOAST": {Transaction{Changes: []Change{rows(class, 2, 3, 2), rows(grown, 500, 0, 0),
			rows(toast, 30, 0, 0)},
			Created: []wal.RelationRef{grown, toast}, Dropped: []wal.RelationRef{booking}},
			"pg_catalog.pg_class 2 3 2, booking rewrite"},
		"moved, its TOAST first": {Transaction{Changes: []Change{rows(class, 0, 2, 0)}, Created: []wal.RelationRef{toast, away},
			Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 0 2 0, booking rewrite"},
		"two that nobody knows": {Transaction{Changes: []Change{rows(file(4711), 0, 0, 7), rows(file(4712), 0, 1, 0)}},
			"file 1663/5/4711 0 0 7, file 1663/5/4712 0 1 0"},
		"two dropped": {Transaction{Changes: []Change{rows(class, 0, 0, 3)},
			Dropped: []wal.RelationRef{booking, pier}}, "pg_catalog.pg_class 0 0 3, booking drop, pier drop"},
		"TOAST first, and then others": {Transaction{Changes: []Change{rows(toast, 9, 0, 9), rows(pier, 1, 0, 0),
			rows(booking, 0, 1, 0)}}, "pier 1 0 0, booking 0 1 0"},
		"one of another name in the catalogs": {Transaction{Changes: []Change{rows(attribute, 0, 0, 9)},
			Created: []wal.RelationRef{grown}, Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_attribute 0 0 9, booking truncate"},
		"pg_class under another file": {Transaction{Changes: []Change{rows(movedClass, 0, 0, 1)},
			Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 0 0 1, booking drop"},
		"a user's table of that name": {Transaction{Changes: []Change{rows(namesake, 0, 0, 1)}, Created: []wal.RelationRef{grown},
			Dropped: []wal.RelationRef{booking}}, "pg_class 0 0 1, booking truncate"},
		"dropped, another created": {Transaction{Changes: []Change{rows(class, 1, 0, 1)}, Created: []wal.RelationRef{made},
			Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 1 0 1, booking drop, quay create"},
		"made and dropped, then dropped": {Transaction{Changes: []Change{rows(class, 1, 0, 2)}, Created: []wal.RelationRef{grown},
			Dropped: []wal.RelationRef{grown, booking}}, "pg_catalog.pg_class 1 0 2, booking drop"},
		"rewritten twice": {Transaction{Changes: []Change{rows(class, 2, 0, 2), rows(grown, 7, 0, 0),
			rows(away, 7, 0, 0)}, Created: []wal.RelationRef{grown, away}, Dropped: []wal.RelationRef{grown, booking}},
			"pg_catalog.pg_class 2 0 2, booking rewrite"},
		"only rows deleted from pg_class": {Transaction{Changes: []Change{rows(class, 0, 0, 1)}, Created: []wal.RelationRef{grown},
			Dropped: []wal.RelationRef{booking}}, "pg_catalog.pg_class 0 0 1, booking truncate"},
		"truncated, another created": {Transaction{Changes: []Change{rows(class, 1, 0, 0)},
			Created: []wal.RelationRef{grown, made}, Dropped: []wal.RelationRef{booking}},
			"pg_catalog.pg_class 1 0 0, booking truncate, quay create"},
		"indexes dropped and made": {Transaction{Created: []wal.RelationRef{index}, Dropped: []wal.RelationRef{toast}}, ""},
		"nobody knows what was dropped": {Transaction{Changes: []Change{rows(class, 0, 0, 1)},
			Dropped: []wal.RelationRef{file(4711), booking}}, "pg_catalog.pg_class 0 0 1, booking drop"},
		"truncated by name, others before it": {Transaction{Changes: []Change{rows(pier, 0, 0, 2), rows(file(4711), 0, 0, 7),
			rows(booking, 0, 0, 1)}, Truncated: []uint32{16384}}, "pier 0 0 2, file 1663/5/4711 0 0 7, booking 0 0 1 truncate"},
		"truncated by name": {Transaction{Changes: []Change{rows(booking, 0, 0, 1)}, Truncated: []uint32{16384}},
			"booking 0 0 1 truncate"},
	} {
		assert.Equal(t, c.want, say(c.tx.Tables(names(lookup))), what)
	}
}

// say writes table changes in one line.
func say(list []TableChange) string {
	s := ""
	for i, c := range list {
		if i > 0 {
			s += ", "
		}
		s += c.Label()
		if c.Counts.Rows() > 0 {
			for _, k := range []Operation{Insert, Update, Delete} {
				s += " " + grouped(c.Counts[k])
			}
		}
		for k := Truncate; k <= Rewrite; k++ {
			if c.Counts[k] > 0 {
				s += " " + k.String()
			}
		}
	}
	return s
}

func TestIncidents(t *testing.T) {
	change := func(k Operation, n int64) TableChange {
		c := TableChange{Name: known[passenger], Known: true}
		c.Counts[k] = n
		return c
	}
	for what, c := range map[string]struct {
		rule Rule
		t    TableChange
		had  int64
		want string
	}{
		"many rows":            {Rule{Rows: 1000}, change(Delete, 48211), 0, "48,211 rows of crew.passenger were deleted"},
		"few rows":             {Rule{Rows: 1000}, change(Delete, 999), 0, ""},
		"a large share":        {Rule{Share: 0.5}, change(Delete, 600), 1000, "600 rows of crew.passenger were deleted, of some 1,000"},
		"a share of few rows":  {Rule{Share: 0.5}, change(Delete, 999), 999, ""},
		"all prices":           {Rule{Share: 0.5}, change(Update, 1300), 1300, "1,300 rows of crew.passenger were updated, of some 1,300"},
		"every price twice":    {Rule{Share: 0.5}, change(Update, 2600), 1300, "2,600 rows of crew.passenger were updated, of some 2,600"},
		"some prices":          {Rule{Share: 0.5}, change(Update, 649), 1300, ""},
		"many updates of more": {Rule{Rows: 1000, Share: 0.5}, change(Update, 100_000), 1_000_000, ""},
		"its own limit": {Rule{Rows: 9, Tables: []TableRule{{Table{Name: "passenger"}, 50, 0}, {Table{Schema: "crew", Name: "passenger"},
			0, 0.3}}},
			change(Delete, 3), 10, "3 rows of crew.passenger were deleted, of some 10"},
		"its own, not reached": {Rule{Rows: 9, Share: 0.1, Tables: []TableRule{{Table{Name: "passenger"}, 500, 0}}}, change(Delete, 499),
			1000, ""},
		"another's limit": {Rule{Rows: 9, Tables: []TableRule{{Table{Name: "booking"}, 500, 0}}}, change(Delete, 10), 10,
			"10 rows of crew.passenger were deleted"},
		"normal": {Rule{Rows: 9, Share: 0.1, Normal: []Normal{{Table{Name: "passenger"}, Delete, ""}}}, change(Delete, 1000),
			1000, ""},
		"normal are drops": {Rule{Rows: 9, Normal: []Normal{{Table{Name: "passenger"}, Drop, ""}}}, change(Delete, 10), 10,
			"10 rows of crew.passenger were deleted"},
		"normal drops":     {Rule{Drops: true, Normal: []Normal{{Table{Name: "passenger"}, Drop, ""}}}, change(Drop, 1), 10, ""},
		"normal truncates": {Rule{Drops: true, Normal: []Normal{{Table{Name: "passenger"}, Truncate, ""}}}, change(Truncate, 1), 10, ""},
		"normal updates": {Rule{Share: 0.5, Normal: []Normal{{Table{Schema: "crew", Name: "passenger"}, Update, ""}}}, change(Update,
			1300), 1300, ""},
		"of how many, unknown": {Rule{Share: 0.5}, change(Delete, 900), 0, ""},
		"a catalog's rows": {Rule{Rows: 1}, TableChange{Name: Name{Schema: "pg_catalog", Table: "pg_attribute"}, Known: true,
			Counts: Counts{Delete: 9}}, 0, ""},
		"nobody knows of what":  {Rule{Rows: 1}, TableChange{Counts: Counts{Delete: 9}}, 0, ""},
		"exactly so many rows":  {Rule{Rows: 1000}, change(Delete, 1000), 0, "1,000 rows of crew.passenger were deleted"},
		"exactly the share":     {Rule{Share: 0.5}, change(Delete, 500), 1000, "500 rows of crew.passenger were deleted, of some 1,000"},
		"just below the share":  {Rule{Share: 0.5}, change(Delete, 500), 1001, ""},
		"dropped":               {Rule{Drops: true}, change(Drop, 1), 0, "crew.passenger was dropped"},
		"truncated":             {Rule{Drops: true}, change(Truncate, 1), 0, "crew.passenger was truncated"},
		"dropped, not asked":    {Rule{Rows: 1}, change(Drop, 1), 0, ""},
		"neither asked for":     {Rule{}, change(Delete, 900), 1000, ""},
		"a share of none":       {Rule{Share: 0.5}, change(Delete, 900), -1, ""},
		"rewritten, not at all": {DefaultRule, change(Rewrite, 1), 0, ""},
		"altered":               {Rule{Alters: true}, change(Alter, 1), 0, "crew.passenger was altered"},
		"altered, not asked":    {DefaultRule, change(Alter, 1), 0, ""},
		"normal alters":         {Rule{Alters: true, Normal: []Normal{{Table{Name: "passenger"}, Alter, ""}}}, change(Alter, 1), 0, ""},
	} {
		had := func(TableChange) int64 { return c.had }
		got := c.rule.Judge(&Transaction{Committed: true}, []TableChange{c.t}, had)
		var h Head
		h.add(&Transaction{Committed: true}, []TableChange{c.t})
		assert.Equal(t, c.want != "", c.rule.May(&h, names(nil), had) && len(got) > 0, what)
		h = Head{}
		h.add(&Transaction{Committed: true}, []TableChange{{File: passenger, Counts: c.t.Counts}})
		assert.True(t, c.want == "" || c.rule.May(&h, names(known), had), "%s: named later", what)
		if c.want == "" {
			assert.Empty(t, got, what)
			continue
		}
		require.Len(t, got, 1, what)
		assert.Equal(t, c.want, got[0].Reason, what)
	}
	for columns, want := range map[int64]string{1: "crew.passenger was altered, and a column dropped",
		1200: "crew.passenger was altered, and 1,200 columns dropped"} {
		got := DefaultRule.Judge(&Transaction{Committed: true, DroppedColumns: columns}, []TableChange{change(Alter, 1)},
			func(TableChange) int64 { return 0 })
		require.Len(t, got, 1)
		assert.Equal(t, want, got[0].Reason)
	}
	child := TableChange{Known: true, Name: Name{Schema: "crew", Table: "passenger", Above: "public.people"}, Counts: Counts{Delete: 9}}
	assert.Len(t, Rule{Tables: []TableRule{{Table{Name: "people"}, 9, 0}}}.Judge(&Transaction{Committed: true}, []TableChange{child},
		func(TableChange) int64 { return 0 }), 1, "its parent's limit")
	assert.Empty(t, DefaultRule.Judge(&Transaction{}, []TableChange{change(Drop, 1)}, nil), "rolled back")
	tx, list, none := &Transaction{Committed: true}, []TableChange{change(Drop, 1)}, func(TableChange) int64 { return 0 }
	own := Rule{Drops: true}
	for _, n := range own.Like(tx, list, none, "clerk") {
		own.Declare(n)
		own.Declare(n)
	}
	assert.Equal(t, []Normal{{Table{known[passenger].Database, "crew", "passenger"}, Drop, "clerk"}}, own.Normal)
	for role, marks := range map[string]int{"clerk": 0, "skipper": 1, "": 1} {
		assert.Len(t, own.For(role).Judge(tx, list, none), marks, role)
	}
	assert.Equal(t, own.Normal, Rule{}.Like(tx, list, none, "clerk"), "what any rule could mark")
	both := DefaultRule.Judge(&Transaction{Committed: true, Partial: true}, []TableChange{{Counts: Counts{Delete: 1 << 30}},
		change(Truncate, 1), change(Delete, 1<<30)}, func(TableChange) int64 { return 0 })
	require.Len(t, both, 2, "also after one that nobody knows")
	assert.Equal(t, "crew.passenger was truncated", both[0].Reason)
	assert.True(t, strings.HasPrefix(both[1].Reason, "at least "), "what came before the known WAL is not counted")
	assert.Len(t, DefaultRule.Judge(&Transaction{Committed: true, DroppedDatabases: []uint32{5}}, nil, nil), 1)
}

func fuzzSeeds(f *testing.F) {
	var l log
	r := NewRecorder(pg.Segment{Timeline: 1, Number: 7}, z, State{})
	for _, rec := range []*wal.Record{l.insert(10, booking), l.mark("m"), l.end(0, 10, []pg.XID{12}, passenger), l.insert(11, booking)} {
		if _, err := r.See(rec, pg.Major(15)); err != nil {
			f.Fatal(err)
		}
	}
	s, err := r.Segment(l.at+64, names(known))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(s.Encode())
	chapter, _ := EncodeChapter([]Head{s.Head, s.Head})
	f.Add(chapter)
	f.Add([]byte(IndexMagic + "\x01\xff\xff\xff\xff\x0f"))
}

// FuzzDecodeIndex holds that any bytes are an index or an error, and what was read
// can be written and read again.
func FuzzDecodeIndex(f *testing.F) {
	fuzzSeeds(f)
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := DecodeIndex(b)
		if err != nil {
			return
		}
		again, err := DecodeIndex(s.Encode())
		if err != nil {
			t.Fatal(err)
		}
		if !slices.Equal(s.ledger, again.ledger) || s.Head.Records != again.Head.Records {
			t.Fatal("what was written is not what was read")
		}
	})
}

func FuzzDecodeChapter(f *testing.F) {
	fuzzSeeds(f)
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _, _ = DecodeSum(b)
		_ = DecodeChapter(b, func(*Head) error { return nil })
	})
}
