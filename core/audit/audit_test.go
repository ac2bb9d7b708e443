package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

const z = pg.SegmentSize(1 << 20)

func seg(n uint64) pg.Segment { return pg.Segment{Timeline: 1, Number: n} }

func TestFindings(t *testing.T) {
	b := NewBooks([]string{"ferries"})
	b.Want(Object{Key: "manifest", Cluster: "ferries", Backup: "01a"})
	b.Want(Object{Key: "pack-1", Cluster: "ferries", Backup: "01a"})
	b.Want(Object{Key: "wal-5", Cluster: "ferries", Segment: seg(5)})
	b.Want(Object{Key: "wal-6", Cluster: "ferries", Segment: seg(6)})
	b.Want(Object{Key: "journal-5", Cluster: "ferries", Remade: true})
	assert.Equal(t, []string{"journal-5", "manifest", "pack-1", "wal-5", "wal-6"}, b.Wanted())
	for key, cluster := range map[string]string{"manifest": "ferries", "wal-5": "ferries", "pack-9": "ferries", "letters": "", "wal-9": "other"} {
		b.See(key, cluster)
	}
	b.Lost("wal-5", "a frame's hash is wrong")
	findings, lost := b.Close()
	var said []string
	for _, f := range findings {
		mark := ""
		if f.Costs {
			mark = "!"
		}
		said = append(said, string(f.Kind)+" "+f.Key+mark)
	}
	assert.Equal(t, []string{"damaged wal-5!", "missing pack-1!", "missing wal-6!", "foreign letters", "foreign wal-9", "missing journal-5", "unreferenced pack-9"}, said)
	assert.Equal(t, []string{"01a"}, lost["ferries"].Backups)
	assert.ElementsMatch(t, []pg.Segment{seg(5), seg(6)}, lost["ferries"].Segments)
}

// TestLostReachAgainstAModel takes segments away at random: a place is lost if it
// could be reached before and cannot be reached any more.
func TestLostReachAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const segments = 12
		wal := []reach.WAL{{Timeline: 1, Start: 0, End: z.Start(segments)}}
		bases := []reach.Base{{ID: "a", Timeline: 1, Start: 10, Stop: 20}, {ID: "b", Timeline: 1, Start: z.Start(6) + 10, Stop: z.Start(6) + 20}}
		var l Losses
		for range rapid.IntRange(0, 4).Draw(t, "lost segments") {
			l.Segments = append(l.Segments, seg(rapid.Uint64Range(0, segments-1).Draw(t, "segment")))
		}
		if rapid.Bool().Draw(t, "a base is lost") {
			l.Backups = []string{rapid.SampledFrom([]string{"a", "b"}).Draw(t, "base")}
		}
		before, _ := reach.Compute(append([]reach.Base(nil), bases...), wal, nil)
		after, _ := reach.Compute(func() ([]reach.Base, []reach.WAL, []reach.Fork) { b, w := l.Without(bases, wal, z); return b, w, nil }())
		lost := Difference(before, after)
		covers := func(list []reach.Span, at pg.LSN) bool {
			for _, s := range list {
				if s.From <= at && at < s.To {
					return true
				}
			}
			return false
		}
		for at := pg.LSN(5); at < z.Start(segments); at += pg.LSN(z) / 4 {
			is := false
			for _, s := range lost {
				is = is || s.From <= at && at < s.To
			}
			require.Equal(t, covers(before, at) && !covers(after, at), is, "at %s", at)
		}
	})
}
