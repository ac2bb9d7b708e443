package moment

import (
	"encoding/binary"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"latest":                            "latest",
		"  LATEST ":                         "latest",
		"tx 84213":                          "tx 84213",
		"before tx 84213":                   "before tx 84213",
		"tx 4294967300":                     "tx 4294967300", // with its epoch
		"lsn 0/5A3F2B8":                     "lsn 0/5A3F2B8",
		"Before LSN 16/b374d848":            "before lsn 16/B374D848",
		"2026-11-23T14:03:07.25Z":           "2026-11-23T14:03:07.25Z",
		"2026-11-23 14:03:07 Europe/Lisbon": "2026-11-23T14:03:07Z",
		"2026-07-23 14:03:07 Europe/Lisbon": "2026-07-23T14:03:07+01:00",
		"2026-11-23 14:03 +05:30":           "2026-11-23T14:03:00+05:30",
		"2026-11-23T14:03:07-0330":          "2026-11-23T14:03:07-03:30",
		"2026-11-23 14:03:07.123456789 UTC": "2026-11-23T14:03:07.123456789Z",
		"2026-11-23\t14:03:07+01":           "2026-11-23T14:03:07+01:00",
	} {
		m, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, m.String(), text)
		again, err := Parse(m.String())
		require.NoError(t, err, text)
		assert.Equal(t, m.String(), again.String())
	}
}

func TestParseErrorsPointAtTheirPlace(t *testing.T) {
	for text, want := range map[string]struct {
		at   int
		says string
	}{
		"":                                     {0, "a moment is missing"},
		"yesterday":                            {0, `"yesterday" begins no moment`},
		"before":                               {6, "wants a transaction or an LSN"},
		"before latest":                        {7, "begins no moment"},
		"tx":                                   {2, "id is missing"},
		"tx twelve":                            {3, "decimal number"},
		"tx 2":                                 {3, "begin at 3"},
		"before tx 84213 now":                  {16, `"now" follows`},
		"lsn":                                  {3, "LSN is missing"},
		"lsn 12":                               {4, "not an LSN"},
		"2026-13-01 14:00 Z":                   {0, "not a date"},
		"2026-11-23":                           {10, "time of day is missing"},
		"2026-11-23 25:00 Z":                   {11, "not a time of day"},
		"2026-11-23 14:03:07":                  {19, "zone is missing"},
		"2026-11-23T14:03:07":                  {19, "zone is missing"},
		"2026-11-23 14:03:07 Atlantis/Harbour": {20, "is no zone"},
		"2026-11-23 14:03:07 Local":            {20, "is no zone"},
		"2026-03-29 01:30 Europe/Lisbon":       {11, "put forward"},
	} {
		_, err := Parse(text)
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax, text)
		assert.Equal(t, want.at, syntax.At, text)
		assert.Contains(t, syntax.Error(), want.says, text)
	}
	_, err := Parse("tx twelve")
	var syntax *SyntaxError
	require.True(t, errors.As(err, &syntax))
	assert.Equal(t, "tx twelve\n   ^", syntax.Pointer())
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"latest", "before tx 7", "lsn 0/1", "2026-11-23 14:03:07 Europe/Lisbon", "2026-11-23T1Z"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		m, err := Parse(text)
		var syntax *SyntaxError
		if errors.As(err, &syntax) {
			if syntax.At < 0 || syntax.At > len(text) {
				t.Fatalf("place %d is outside of %q", syntax.At, text)
			}
			return
		}
		if _, err := Parse(m.String()); err != nil {
			t.Fatalf("%q prints as %q, which cannot be read: %v", text, m.String(), err)
		}
	})
}

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// rec is a record of a made-up log: records are 8 bytes long and begin at multiples of 8.
type rec struct {
	at     pg.LSN
	xid    pg.XID
	op     uint8 // 0x00 commit, 0x20 abort, 0xff something else
	second int   // after noon
	subs   []pg.XID
}

func (r rec) record() *wal.Record {
	out := &wal.Record{Start: r.at, End: r.at + 8, XID: r.xid, Timeline: 1, Manager: 10}
	if r.op == 0xff {
		return out
	}
	out.Manager, out.Info = wal.ManagerTransaction, r.op
	out.Main = binary.LittleEndian.AppendUint64(nil, uint64(pg.ToTimestamp(noon.Add(time.Duration(r.second)*time.Second))))
	if len(r.subs) > 0 {
		out.Info |= 0x80
		out.Main = binary.LittleEndian.AppendUint32(out.Main, 2)
		out.Main = binary.LittleEndian.AppendUint32(out.Main, uint32(len(r.subs)))
		for _, s := range r.subs {
			out.Main = binary.LittleEndian.AppendUint32(out.Main, uint32(s))
		}
	}
	return out
}

// The log: 10 commits; 11 works, 12 commits meanwhile with a clock that is ahead; 13
// rolls back; 11 commits; work goes on.
var ledger = []rec{
	{at: 80, xid: 10, op: 0xff},
	{at: 88, xid: 10, op: 0x00, second: 1},
	{at: 96, xid: 11, op: 0xff},
	{at: 104, xid: 12, op: 0x00, second: 5},
	{at: 112, xid: 13, op: 0x20, second: 3},
	{at: 120, xid: 11, op: 0x00, second: 4, subs: []pg.XID{14}},
	{at: 128, xid: 15, op: 0xff},
}

func resolve(t *testing.T, text string) (Boundary, error) {
	m, err := Parse(text)
	require.NoError(t, err)
	s := NewSearch(m)
	for _, r := range ledger {
		done, err := s.See(r.record(), 15)
		if err != nil {
			return Boundary{}, err
		}
		if done {
			break
		}
	}
	return s.Result(noon.Add(10 * time.Second))
}

func TestSearch(t *testing.T) {
	for text, want := range map[string]struct {
		stop, end        pg.LSN
		inclusive        bool
		lastIn, firstOut pg.XID
	}{
		"latest":               {128, 136, true, 11, 0},
		"before tx 11":         {120, 120, false, 12, 11},
		"tx 11":                {120, 128, true, 11, 0},
		"before tx 14":         {120, 120, false, 12, 11}, // a sub-transaction goes with its parent
		"tx 10":                {88, 96, true, 10, 12},
		"before tx 10":         {88, 88, false, 0, 10},
		"before lsn 0/68":      {104, 104, false, 10, 12},
		"before lsn 0/61":      {104, 104, false, 10, 12}, // within a record: the one after it
		"lsn 0/68":             {104, 112, true, 12, 11},
		"lsn 0/69":             {104, 112, true, 12, 11}, // within a record: that record
		"lsn 0/80":             {128, 136, true, 11, 0},
		"before lsn 0/88":      {128, 136, true, 11, 0},   // the very end
		"2026-11-23T12:00:01Z": {104, 104, false, 10, 12}, // stops at the first commit that is later
		"2026-11-23T12:00:04Z": {104, 104, false, 10, 12},
		"2026-11-23T12:00:05Z": {128, 136, true, 11, 0},
		"2026-11-23T12:00:00Z": {88, 88, false, 0, 10},
	} {
		b, err := resolve(t, text)
		require.NoError(t, err, text)
		assert.Equal(t, want.stop, b.Stop, "stop of %s", text)
		assert.Equal(t, want.end, b.End, "end of %s", text)
		assert.Equal(t, want.inclusive, b.Inclusive, "inclusive of %s", text)
		assert.Equal(t, want.lastIn, xidOf(b.LastIn), "last in of %s", text)
		assert.Equal(t, want.firstOut, xidOf(b.FirstOut), "first out of %s", text)
	}
}

func xidOf(c *Commit) pg.XID {
	if c == nil {
		return 0
	}
	return c.XID
}

func TestSearchFindsNothing(t *testing.T) {
	for _, text := range []string{"tx 15", "before tx 99", "lsn 0/88", "lsn 0/1000", "before lsn 0/89", "2026-11-23T12:00:11Z"} {
		_, err := resolve(t, text)
		assert.ErrorIs(t, err, ErrBeyond, text)
	}
	_, err := resolve(t, "before tx 13")
	var undone *RolledBack
	require.ErrorAs(t, err, &undone)
	assert.Contains(t, undone.Error(), "transaction 13 was rolled back at 2026-11-23T12:00:03Z")
	_, err = NewSearch(Moment{}).Result(noon)
	assert.ErrorIs(t, err, ErrBeyond)
}
