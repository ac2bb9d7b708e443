package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/moment"
	"velvetrewind/core/pg"
	"velvetrewind/core/reach"
)

const z = pg.SegmentSize(1 << 20)

func mib(n int) pg.LSN { return pg.LSN(n) << 20 }

var bases = []reach.Base{
	{ID: "newest", Timeline: 1, Start: mib(50), Stop: mib(51)},
	{ID: "oldest", Timeline: 1, Start: mib(10) + 40, Stop: mib(11)},
	{ID: "middle", Timeline: 1, Start: mib(30), Stop: mib(31)},
}

func have(pg.Segment) bool { return true }

func TestTheNewestBaseThatEndsBeforeIsChosen(t *testing.T) {
	for _, c := range []struct {
		end   pg.LSN
		base  string
		count int
	}{
		{mib(11), "oldest", 2}, {mib(30), "oldest", 21}, {mib(31), "middle", 2}, {mib(50) + 8, "middle", 21}, {mib(60), "newest", 11},
	} {
		b := moment.Boundary{Timeline: 1, Stop: c.end, End: c.end}
		p, err := Make(b, bases, nil, z, have)
		require.NoError(t, err)
		assert.Equal(t, c.base, p.Base)
		assert.Equal(t, c.count, p.Count)
		assert.Equal(t, int64(c.end-p.Start), p.Replay)
	}
}

func TestTheLastSegmentHoldsTheRecordAtTheBoundary(t *testing.T) {
	b := moment.Boundary{Timeline: 1, Stop: mib(12) - 16, End: mib(12), Inclusive: true}
	p, err := Make(b, bases, nil, z, have)
	require.NoError(t, err)
	assert.Equal(t, "00000001000000000000000B", p.Last, "a record that ends with its segment needs no more")
	b = moment.Boundary{Timeline: 1, Stop: mib(12) + 40, End: mib(12), Inclusive: false}
	p, err = Make(b, bases, nil, z, have)
	require.NoError(t, err)
	assert.Equal(t, "00000001000000000000000C", p.Last, "to stop before a record, the server must see it")
}

func TestTimelinesOnTheWay(t *testing.T) {
	forks := []pg.Fork{{Timeline: 1, At: mib(32) + 100}, {Timeline: 2, At: mib(34) + 100}}
	b := moment.Boundary{Timeline: 3, Stop: mib(36), End: mib(36)}
	p, err := Make(b, bases, forks, z, have)
	require.NoError(t, err)
	assert.Equal(t, "middle", p.Base, "the newest base lies after the fork")
	late := moment.Boundary{Timeline: 3, Stop: mib(70), End: mib(70)}
	later, err := Make(late, bases, forks, z, have)
	require.NoError(t, err)
	assert.Equal(t, "middle", later.Base, "however far the boundary lies after it")
	atFork := []pg.Fork{{Timeline: 1, At: mib(51)}, {Timeline: 2, At: mib(55)}}
	later, err = Make(late, bases, atFork, z, have)
	require.NoError(t, err)
	assert.Equal(t, "newest", later.Base, "one that ends at the fork lies in front of it")
	var names []string
	for _, s := range p.Segments(forks, z) {
		names = append(names, s.Name(z))
	}
	assert.Equal(t, []string{
		"00000001000000000000001E", "00000001000000000000001F",
		"000000020000000000000020", "000000020000000000000021",
		"000000030000000000000022", "000000030000000000000023", "000000030000000000000024",
	}, names)
}

func TestImpossible(t *testing.T) {
	var impossible *Impossible
	_, err := Make(moment.Boundary{Timeline: 1, Stop: mib(9), End: mib(9)}, bases, nil, z, have)
	require.ErrorAs(t, err, &impossible)
	assert.Contains(t, impossible.Error(), "no base backup ends at or before 0/900000")
	_, err = Make(moment.Boundary{Timeline: 9, Stop: mib(60), End: mib(60)}, bases, nil, z, have)
	require.ErrorAs(t, err, &impossible)
	assert.Contains(t, impossible.Error(), "timeline 9")
	_, err = Make(moment.Boundary{Timeline: 1, Stop: mib(60), End: mib(60)}, bases, nil, z,
		func(s pg.Segment) bool { return s.Number != 55 })
	require.ErrorAs(t, err, &impossible)
	assert.Contains(t, impossible.Error(), "000000010000000000000037 is missing")
}
