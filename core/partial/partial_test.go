package partial

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/journal"
	"velvetrewind/core/wal"
)

func TestSpares(t *testing.T) {
	var s Spec
	s.Database = "saltmarsh"
	booking := journal.Name{OID: 20_000, Database: "saltmarsh", Schema: "public", Table: "booking"}
	s.Add(booking)
	s.Add(booking)
	require.Equal(t, []string{"public.booking"}, s.Tables)
	fare := journal.Name{OID: 20_010, Database: "saltmarsh", Schema: "public", Table: "fare"}
	elsewhere := booking
	elsewhere.Database = "crew"
	sequence, toast, class := fare, fare, journal.Name{OID: 1259, Database: "saltmarsh", Schema: "pg_catalog", Table: "pg_class"}
	sequence.Part, toast.Part = journal.Sequence, journal.Toast
	file := wal.RelationRef{Space: 1663, Database: 5, Filenode: 20_020}
	for what, c := range map[string]struct {
		file  wal.RelationRef
		names []journal.Name
		want  bool
	}{
		"another table":                {file, []journal.Name{fare}, true},
		"in a tablespace":              {wal.RelationRef{Space: 16_500, Database: 5, Filenode: 20_020}, []journal.Name{fare, toast}, true},
		"of another database":          {file, []journal.Name{elsewhere}, true},
		"the table":                    {file, []journal.Name{booking}, false},
		"once the table's":             {file, []journal.Name{fare, booking, fare}, false},
		"of nobody known":              {file, nil, false},
		"a sequence":                   {file, []journal.Name{sequence}, false},
		"a catalog written anew":       {file, []journal.Name{class}, false},
		"the server's own":             {wal.RelationRef{Space: 1663, Database: 5, Filenode: 2619}, []journal.Name{fare}, false},
		"shared":                       {wal.RelationRef{Space: 1664, Filenode: 20_020}, []journal.Name{fare}, false},
		"no file, but an object by it": {wal.RelationRef{Space: 2615, Database: 5, Filenode: 20_020}, []journal.Name{fare}, false},
	} {
		require.Equal(t, c.want, s.Spares(c.file, c.names), what)
	}
}

func TestLacks(t *testing.T) {
	refs := rapid.Custom(func(t *rapid.T) wal.RelationRef {
		n := rapid.Uint32Range(1, 20)
		return wal.RelationRef{Space: n.Draw(t, "space"), Database: n.Draw(t, "database"), Filenode: n.Draw(t, "filenode")}
	})
	rapid.Check(t, func(t *rapid.T) {
		files := rapid.SliceOf(refs).Draw(t, "files")
		l, err := Read(Of(slices.Clone(files)))
		require.NoError(t, err)
		asked := refs.Draw(t, "asked")
		require.Equal(t, slices.Contains(files, asked), l.Has(asked))
		for _, f := range files {
			require.True(t, l.Has(f))
		}
	})
	_, err := Read(make([]byte, 13))
	require.Error(t, err)
	l := Of([]wal.RelationRef{{Space: 16_500, Database: 5, Filenode: 20_020}})
	require.True(t, l.HasFile("pg_tblspc/16500/PG_15_202209061/5/20020_vm"))
	require.True(t, l.HasFile("pg_tblspc/16500/PG_15_202209061/5/20020.3"))
	require.False(t, l.HasFile("base/5/20020"))
	require.False(t, l.HasFile("pg_xact/0000"))
}
