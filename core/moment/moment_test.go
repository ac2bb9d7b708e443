package moment

import (
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
		"latest":                                         "latest",
		"  LATEST ":                                      "latest",
		"tx 84213":                                       "tx 84213",
		"before tx 84213":                                "before tx 84213",
		"tx 4294967300":                                  "tx 4294967300", // with its epoch
		"lsn 0/5A3F2B8":                                  "lsn 0/5A3F2B8",
		"Before LSN 16/b374d848":                         "before lsn 16/B374D848",
		"2026-11-23T14:03:07.25Z":                        "2026-11-23T14:03:07.25Z",
		"2026-11-23 14:03:07 Europe/Lisbon":              "2026-11-23T14:03:07Z",
		"2026-07-23 14:03:07 Europe/Lisbon":              "2026-07-23T14:03:07+01:00",
		"2026-11-23 14:03 +05:30":                        "2026-11-23T14:03:00+05:30",
		"2026-11-23T14:03:07-0330":                       "2026-11-23T14:03:07-03:30",
		"2026-11-23 14:03:07.123456789 UTC":              "2026-11-23T14:03:07.123456789Z",
		"2026-11-23\t14:03:07+01":                        "2026-11-23T14:03:07+01:00",
		"restore point pre-migration":                    "restore point pre-migration",
		"restore point low tide ":                        "restore point low tide",
		`restore point "low tide"`:                       "restore point low tide",
		`restore point ""quoted""`:                       `restore point ""quoted""`,
		`restore point "`:                                `restore point "`,
		`restore point "half`:                            `restore point "half`,
		`restore point half"`:                            `restore point half"`,
		"tx 3":                                           "tx 3",
		"base 01jxyz":                                    "base 01jxyz",
		"before delete of booking":                       "before delete of booking",
		"before UPDATE of fare":                          "before update of fare",
		"before drop of database saltmarsh":              "before drop of database saltmarsh",
		"before drop of database near 2026-11-23 14:05Z": "before drop of database near 2026-11-23T14:05:00Z",
		"before drop of Database Outer near 2026-11-23 14:05Z":     "before drop of database outer near 2026-11-23T14:05:00Z",
		`before drop of database "Outer Isles"`:                    `before drop of database "Outer Isles"`,
		"before drop of schema Depot":                              "before drop of schema depot",
		"before create of vessel":                                  "before create of vessel",
		"before rewrite of vessel":                                 "before rewrite of vessel",
		"before alter of vessel":                                   "before alter of vessel",
		"before largest delete of booking":                         "before the largest delete of booking",
		"before the LARGEST update of fare near 2026-11-23 14:05Z": "before the largest update of fare near 2026-11-23T14:05:00Z",
		"before insert of booking":                                 "before insert of booking",
		"BEFORE Truncate OF Crew.Shift":                            "before truncate of crew.shift",
		`before drop of saltmarsh.public."Old Invoice"`:            `before drop of saltmarsh.public."Old Invoice"`,
		"before delete of booking near 2026-11-23 14:05Z":          "before delete of booking near 2026-11-23T14:05:00Z",
		"tx 84213 on timeline 1":                                   "tx 84213 on timeline 1",
		"Latest ON  Timeline 12 ":                                  "latest on timeline 12",
		"2026-11-23 14:03:07 Europe/Lisbon on timeline 2":          "2026-11-23T14:03:07Z on timeline 2",
		`before delete of "t on timeline 1"`:                       `before delete of "t on timeline 1"`,
		`restore point "low tide on timeline 3"`:                   `restore point "low tide on timeline 3"`,
		`restore point "low tide on timeline 3" on timeline 2`:     "restore point low tide on timeline 3 on timeline 2",
		`restore point low tide on timeline 3"`:                    `restore point "low tide on timeline 3""`,
	} {
		m, err := Parse(text, Caller{})
		require.NoError(t, err, text)
		assert.Equal(t, want, m.String(), text)
		again, err := Parse(m.String(), Caller{})
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
		"tomorrow":                             {0, `"tomorrow" begins no moment`},
		"before":                               {6, "wants a transaction, an LSN or an operation"},
		"before latest":                        {7, "cannot stand after"},
		"before delete":                        {13, "\"of\" and a table are missing"},
		"before delete of":                     {16, "name of a table is missing"},
		"before delete of database outer":      {26, "of a database only its drop"},
		"before drop of database a.b":          {24, "not the name of a database"},
		"before the delete of booking":         {11, "can follow"},
		"before alter of schema depot":         {23, "of a schema only its drop"},
		"before largest drop of booking":       {15, "only a delete, an update or an insert"},
		"before delete of a..b":                {17, "not the name of a table"},
		`before drop of "a`:                    {15, "a quote is not closed"},
		"before delete of t near":              {23, "a time is missing"},
		"before delete of t near noon":         {24, "begins no time"},
		"before delete of t near 14:05":        {24, "the date is missing"},
		"restore":                              {7, "\"point\" and a name are missing"},
		"restore pint":                         {8, "\"point\" and a name are missing"},
		"tx 7 on timeline two":                 {17, "is no timeline"},
		"latest on timeline 0":                 {19, "is no timeline"},
		"on timeline 3":                        {0, "begins no moment"},
		"restore point":                        {13, "name of a restore point is missing"},
		"base a b":                             {5, "not the id of a base backup"},
		"12m ago":                              {0, "counted from now"},
		"12x ago":                              {0, "not a span of time"},
		"today 14:03":                          {6, "the date is missing"},
		"14:03":                                {0, "a day is missing"},
		"2026-10-25 01:30 Europe/Lisbon":       {11, "comes twice"},
		"tx":                                   {2, "id is missing"},
		"tx twelve":                            {3, "decimal number"},
		"tx 2":                                 {3, "moment \"tx 2\", character 4: 2 is not the id of a transaction; those begin at 3"},
		"  restore point":                      {15, "name of a restore point is missing"},
		"restore point  ":                      {15, "name of a restore point is missing"},
		"2026-11-23T25:00Z":                    {11, "not a time of day"},
		"2026-11-23 +01:00":                    {11, `"+01:00" is not a time of day`},
		"2026-11-23 14:03+99:00":               {16, `"+99:00" is no zone`},
		"tx 4294967298":                        {3, "begin at 3"},
		"tx 9223372036854775808":               {3, "decimal number"},
		"2026-10-04 02:15 Australia/Lord_Howe": {11, "put forward"},
		"2026-04-05 01:45 Australia/Lord_Howe": {11, "comes twice"},
		"2026-03-08 02:00 America/New_York":    {11, "put forward"},
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
		_, err := Parse(text, Caller{})
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax, text)
		assert.Equal(t, want.at, syntax.At, text)
		assert.Contains(t, syntax.Error(), want.says, text)
	}
	_, err := Parse("tx twelve", Caller{})
	var syntax *SyntaxError
	require.True(t, errors.As(err, &syntax))
	assert.Equal(t, "tx twelve\n   ^", syntax.Pointer())
}

// TestCallersMayLeaveThingsUnsaid reads what depends on who asks, and when.
func TestCallersMayLeaveThingsUnsaid(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	c := Caller{Now: time.Date(2026, 7, 23, 23, 30, 0, 0, time.UTC), Zone: lisbon} // 00:30 of the 24th in Lisbon
	for text, want := range map[string]string{
		"2026-11-23 14:03:07":                 "2026-11-23T14:03:07Z",
		"2026-07-23 14:03:07":                 "2026-07-23T14:03:07+01:00",
		"2026-07-23T14:03:07":                 "2026-07-23T14:03:07+01:00",
		"today 00:10":                         "2026-07-24T00:10:00+01:00",
		"yesterday 14:03:07.5":                "2026-07-23T14:03:07.5+01:00",
		"today 00:10 Z":                       "2026-07-23T00:10:00Z",
		"12m ago":                             "2026-07-24T00:18:00+01:00",
		"1h30m AGO":                           "2026-07-23T23:00:00+01:00",
		"2d12h ago":                           "2026-07-21T12:30:00+01:00",
		"0s ago":                              "2026-07-24T00:30:00+01:00",
		"0d ago":                              "2026-07-24T00:30:00+01:00",
		"9s ago":                              "2026-07-24T00:29:51+01:00",
		"36500d ago":                          "1926-08-18T00:30:00+01:00",
		"before delete of booking near 00:05": "before delete of booking near 2026-07-24T00:05:00+01:00",
		"before drop of t near 12m ago":       "before drop of t near 2026-07-24T00:18:00+01:00",
	} {
		m, err := Parse(text, c)
		require.NoError(t, err, text)
		assert.Equal(t, want, m.String(), text)
	}
	for _, text := range []string{"36501d ago", "5xd ago", "1d-1h ago", "1d+1h ago", "1d-2d ago"} {
		_, err = Parse(text, c)
		assert.ErrorContains(t, err, "not a span of time", text)
	}
	_, err = Parse("today 14:03 near", c)
	assert.ErrorContains(t, err, `nothing more was expected here, but "near" follows`)
	_, err = Parse("2026-10-25 01:30", c)
	assert.ErrorContains(t, err, "comes twice")
	at, err := ParseTime("14:05", c)
	require.NoError(t, err)
	assert.Equal(t, "2026-07-24T14:05:00+01:00", at.Format(time.RFC3339))
	_, err = ParseTime("14:05 and more", c)
	assert.Error(t, err)
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"latest", "before tx 7", "lsn 0/1", "2026-11-23 14:03:07 Europe/Lisbon", "2026-11-23T1Z",
		`before drop of "A b".c near 2d ago`, `restore point "x"`, "base x", "today 14:03"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		m, err := Parse(text, Caller{Now: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Zone: time.UTC})
		var syntax *SyntaxError
		if errors.As(err, &syntax) {
			if syntax.At < 0 || syntax.At > len(text) {
				t.Fatalf("place %d is outside of %q", syntax.At, text)
			}
			return
		}
		if _, err := Parse(m.String(), Caller{}); err != nil {
			t.Fatalf("%q prints as %q, which cannot be read: %v", text, m.String(), err)
		}
	})
}

func TestKeeps(t *testing.T) {
	for record, kept := range map[pg.LSN][2]bool{99: {true, true}, 100: {true, false}, 101: {false, false}} {
		assert.Equal(t, kept[0], (&Boundary{Stop: 100, Inclusive: true}).Keeps(record), record)
		assert.Equal(t, kept[1], (&Boundary{Stop: 100}).Keeps(record), record)
	}
}

// TestBorder holds borders against a log of records of 8 bytes at multiples of 8 from 80 to 128.
func TestBorder(t *testing.T) {
	for what, want := range map[string]struct {
		lsn       pg.LSN
		before    bool
		stop, end pg.LSN
		inclusive bool
	}{
		"before a record":           {104, true, 104, 104, false},
		"before, within a record":   {97, true, 104, 104, false},
		"before the first":          {80, true, 80, 80, false},
		"before the very end":       {136, true, 128, 136, true},
		"a record":                  {104, false, 104, 112, true},
		"within a record":           {105, false, 104, 112, true},
		"the last record":           {128, false, 128, 136, true},
		"in front of the first one": {79, false, 72, 80, true},
	} {
		stop, inclusive, end, ok := border(want.lsn, want.before, 72, 80)
		require.True(t, ok, what)
		assert.Equal(t, []any{want.stop, want.end, want.inclusive}, []any{stop, end, inclusive}, what)
	}
	for _, lsn := range []pg.LSN{137, 4096} {
		_, _, _, ok := border(lsn, true, 72, 80)
		assert.False(t, ok, "beyond: %s", lsn)
	}
	_, _, _, ok := border(136, false, 72, 80)
	assert.False(t, ok, "what begins after the last record is not known")
	_, _, _, ok = border(80, true, 0, 0)
	assert.False(t, ok, "nothing is in")
	b := Boundary{Stop: 104, Inclusive: true}
	assert.Equal(t, []bool{true, true, false}, []bool{b.Keeps(96), b.Keeps(104), b.Keeps(112)})
}

func border(lsn pg.LSN, before bool, start, end pg.LSN) (pg.LSN, bool, pg.LSN, bool) {
	b := NewBorder(lsn, before, start, end)
	for at := pg.LSN(80); at <= 128; at += 8 {
		if b.See(&wal.Record{Start: at, End: at + 8}) {
			break
		}
	}
	return b.Result()
}
