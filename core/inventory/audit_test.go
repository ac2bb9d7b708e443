package inventory

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

const z = pg.SegmentSize(1 << 20)

func seg(n uint64) LostSegment { return LostSegment{Segment: pg.Segment{Timeline: 1, Number: n}} }

func TestFindings(t *testing.T) {
	b := NewBooks([]string{"ferries"})
	b.Want(Object{Key: "manifest", Cluster: "ferries", Backups: []string{"01a"}})
	b.Want(Object{Key: "pack-1", Cluster: "ferries", Backups: []string{"01a"}})
	b.Want(Object{Key: "wal-5", Cluster: "ferries", Segment: seg(5)})
	b.Want(Object{Key: "wal-6", Cluster: "ferries", Segment: seg(6)})
	b.Want(Object{Key: "journal-5", Cluster: "ferries", Remade: true})
	assert.Equal(t, []string{"journal-5", "manifest", "pack-1", "wal-5", "wal-6"}, b.Wanted())
	for key, cluster := range map[string]string{"manifest": "ferries", "wal-5": "ferries", "pack-9": "ferries", "letters": "",
		"wal-9": "other"} {
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
	assert.Equal(t, []string{"damaged wal-5!", "missing pack-1!", "missing wal-6!", "foreign letters", "foreign wal-9", "missing journal-5",
		"unreferenced pack-9"}, said)
	assert.Equal(t, []string{"01a"}, lost["ferries"].Backups)
	assert.ElementsMatch(t, []LostSegment{seg(5), seg(6)}, lost["ferries"].Segments)
}

// TestLostReachAgainstAModel takes segments away at random: a place is lost if it
// could be reached before and cannot be reached any more.
func TestLostReachAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const segments = 12
		wal := []reach.WAL{{Timeline: 1, Start: 0, End: z.Start(segments)}}
		bases := []reach.Base{{ID: "a", Timeline: 1, Start: 10, Stop: 20}, {ID: "b", Timeline: 1, Start: z.Start(6) + 10,
			Stop: z.Start(6) + 20}}
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

// TestFindingsAgainstAModel draws what a store should hold, what becomes of it and what a
// second store has, and says of every object what the audit must say.
func TestFindingsAgainstAModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := NewBooks([]string{"ferries"})
		want := make(map[string]Discrepancy)
		backups, segments := make(map[string]bool), make(map[uint64]bool)
		for n := range rapid.IntRange(0, 12).Draw(t, "objects") {
			o := Object{Key: fmt.Sprintf("object-%02d", n), Cluster: "ferries", Segment: seg(uint64(n)),
				Remade: rapid.IntRange(0, 3).Draw(t, "remade") == 0}
			o.Backups = rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"a", "b", "c"}), 0, 3, rapid.ID[string]).Draw(t, "backups")
			if len(o.Backups) > 1 && rapid.Bool().Draw(t, "named one by one") {
				for _, id := range o.Backups {
					one := o
					one.Backups = []string{id}
					b.Want(one)
				}
			} else {
				b.Want(o)
			}
			kind := rapid.SampledFrom([]Fault{"", Missing, Damaged}).Draw(t, "fate")
			if kind != Missing {
				b.See(o.Key, "ferries")
			} else {
				require.Contains(t, b.Missing(), o.Key)
			}
			if kind == Damaged {
				b.Lost(o.Key, "torn")
				b.Lost(o.Key, "torn, and told again")
			}
			if kind == "" {
				continue
			}
			d := Discrepancy{Kind: kind, Key: o.Key, Costs: !o.Remade}
			if rapid.Bool().Draw(t, "the second store has it") {
				d.Elsewhere, d.Costs, d.Fixed = true, false, rapid.Bool().Draw(t, "fixed")
				b.Elsewhere(o.Key, d.Fixed)
			}
			want[o.Key] = d
			if !d.Costs {
				continue
			}
			for _, id := range o.Backups {
				backups[id] = true
			}
			if len(o.Backups) == 0 {
				segments[uint64(n)] = true
			}
		}
		b.See("stray", "ferries")
		b.Lost("stray", "nobody needs it")
		want["stray"] = Discrepancy{Kind: Unreferenced, Key: "stray"}
		findings, lost := b.Close()
		require.Len(t, findings, len(want))
		for i, f := range findings {
			f.Detail = ""
			require.Equal(t, want[f.Key], f)
			require.False(t, i > 0 && f.Costs && !findings[i-1].Costs, "what prevents a restore comes first")
		}
		require.Len(t, lost["ferries"].Backups, len(backups))
		for _, id := range lost["ferries"].Backups {
			require.True(t, backups[id], id)
		}
		require.Len(t, lost["ferries"].Segments, len(segments))
		for _, s := range lost["ferries"].Segments {
			require.True(t, segments[s.Number])
		}
	})
}

// TestWhatOnlyPassesIsTakenBack looks through a store while backups come and go.
func TestWhatOnlyPassesIsTakenBack(t *testing.T) {
	b := NewBooks([]string{"ferries"})
	b.Want(Object{Key: "deleted meanwhile", Cluster: "ferries", Segment: seg(1)})
	b.Want(Object{Key: "lost", Cluster: "ferries", Backups: []string{"a", "b"}})
	b.Want(Object{Key: "there", Cluster: "ferries", Backups: []string{"b"}})
	for _, key := range []string{"there", "recorded meanwhile", "being written", "stray"} {
		b.See(key, "ferries")
	}
	b.See("of a new cluster", "lights")
	assert.ElementsMatch(t, []string{"deleted meanwhile", "lost", "recorded meanwhile", "being written", "stray", "of a new cluster"},
		b.Unclear())
	now := NewBooks(nil)
	now.Want(Object{Key: "lost", Cluster: "ferries", Backups: []string{"b"}}) // for a was dropped
	now.Want(Object{Key: "there", Cluster: "ferries", Backups: []string{"b"}})
	now.Want(Object{Key: "recorded meanwhile", Cluster: "ferries", Segment: seg(2)})
	now.Want(Object{Key: "of a new cluster", Cluster: "lights", Segment: seg(3)})
	now.Want(Object{Key: "recorded since it was looked through", Cluster: "ferries", Segment: seg(4)})
	require.NoError(t, b.Settle(now, func(key string) (bool, error) { return key == "being written", nil }))
	assert.ElementsMatch(t, []string{"lost", "there", "recorded meanwhile", "of a new cluster"}, b.Wanted(),
		"what is there and wanted is read, too")
	b.Lost("recorded meanwhile", "torn")
	findings, lost := b.Close()
	require.Len(t, findings, 3)
	assert.Equal(t, []string{"recorded meanwhile", "lost", "stray"}, []string{findings[0].Key, findings[1].Key, findings[2].Key})
	assert.Equal(t, map[string]Losses{"ferries": {Backups: []string{"b"}, Segments: []LostSegment{seg(2)}}}, lost)

	b = NewBooks(nil)
	b.See("letters", "")
	assert.ErrorContains(t, b.Settle(NewBooks(nil), func(string) (bool, error) { return false, errors.New("the store does not answer") }),
		"does not answer")
}
