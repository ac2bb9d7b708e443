package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/api"
	"velvetrewind/core/attention"
)

var noon = time.Date(2027, 3, 10, 12, 0, 0, 0, time.UTC)

// TestWhatNeedsAPersonComesFirst draws the list of clusters.
func TestWhatNeedsAPersonComesFirst(t *testing.T) {
	list := []api.Cluster{
		{Name: "berths", Promise: api.Promise{Held: true}, Labels: map[string]string{"fleet": "inner"}},
		{Name: "ferries", Needs: []api.Need{{Kind: string(attention.Late), Text: "The base backup has not come.",
			Command: "velvet task list"}}},
		{Name: "lights", Needs: []api.Need{{Kind: string(attention.Capture), Text: "Capture was stopped.",
			Command: "velvet capture start lights"}}},
	}
	var out bytes.Buffer
	drawNeeds(&out, list)
	assert.Regexp(t, `(?s)^! lights: Capture was stopped\.\n    velvet capture start lights\n! ferries: The base backup has not come\.`,
		out.String())
	out.Reset()
	drawClusters(&out, list)
	assert.Regexp(t, `(?m)^berths .* held `, out.String())
	assert.Regexp(t, `(?m)^ferries .* not yet `, out.String())
	assert.True(t, bears(list[0], map[string]string{"fleet": "inner"}))
	assert.False(t, bears(list[0], map[string]string{"fleet": "inner", "site": "north"}))
	assert.True(t, bears(list[1], nil))
}

// TestAPreviewSaysWhatGoes draws what a keep rule would delete, and that nothing would.
func TestAPreviewSaysWhatGoes(t *testing.T) {
	frees := int64(3 << 20)
	p := api.KeepPreview{Words: "any moment of the last 5 days", FreesBackups: &frees, FreesWAL: 100 << 20,
		AsOf: noon, Promised: noon.AddDate(0, 0, -5),
		Bases: []api.KeepBase{
			{ID: "new", StopTime: noon, Needed: true, Reasons: []api.KeepReason{{Kind: "span", Text: "taken within the last 5 days"},
				{Kind: "last", Text: "the newest"}}},
			{ID: "old", StopTime: noon.AddDate(0, 0, -9), Reasons: []api.KeepReason{{Kind: "superseded", Text: "nothing needs it"}}},
		},
		WAL:    []api.KeepWAL{{Timeline: 1, First: 3, Last: 8}, {Timeline: 1, First: 9, Last: 1500, Needed: true}},
		Before: []api.Span{{FromTime: noon.AddDate(0, 0, -9), ToTime: noon}}, After: []api.Span{{FromTime: noon, ToTime: noon}},
	}
	var out bytes.Buffer
	drawPreview(&out, p)
	assert.Regexp(t, `(?m)^new .* needed +taken within the last 5 days; the newest$`, out.String())
	assert.Regexp(t, `(?m)^old .* releasable +nothing needs it$`, out.String())
	assert.Contains(t, out.String(), "1,492")
	assert.Contains(t, out.String(), "1 base backup and 1 stretch of WAL would be deleted: 3.0 MiB of packs and 100.0 MiB of WAL.")
	p.Bases, p.WAL = p.Bases[:1], p.WAL[1:]
	out.Reset()
	drawPreview(&out, p)
	assert.Contains(t, out.String(), "nothing would be deleted")
}

func TestLengthsOfTimeAndDays(t *testing.T) {
	for text, want := range map[string]int{"31d": 744, "36h": 36, "1d": 24} {
		got, err := readHours(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "31", "d", "-3d", "0h", "3w", "99999999999d", "1.5d"} {
		_, err := readHours(text)
		assert.ErrorContains(t, err, "31d or 36h", text)
	}
	at, err := readDay("2027-01-31")
	require.NoError(t, err)
	assert.True(t, at.Equal(time.Date(2027, 1, 31, 0, 0, 0, 0, time.Local)))
	at, err = readDay("2027-01-31T18:00:00+01:00")
	require.NoError(t, err)
	assert.Equal(t, time.Date(2027, 1, 31, 17, 0, 0, 0, time.UTC), at.UTC())
	_, err = readDay("31.1.2027")
	assert.ErrorContains(t, err, "2027-01-31")
	none, err := readDay("")
	assert.NoError(t, err)
	assert.Nil(t, none)
}

// TestScheduleFlags reads quiet windows with and without a day.
func TestScheduleFlags(t *testing.T) {
	read := func(args ...string) (api.CalendarSchedule, error) {
		var f scheduleFlags
		cmd := &cobra.Command{}
		f.add(cmd)
		require.NoError(t, cmd.ParseFlags(args))
		return f.read()
	}
	s, err := read("--at", "02:30", "--on", "mon,wed", "--quiet", "08:00-18:00,sat:22:00-02:00", "--jitter", "15")
	require.NoError(t, err)
	assert.Equal(t, api.CalendarSchedule{At: "02:30", Weekdays: []string{"mon", "wed"}, Jitter: 15, Quiet: []api.CalendarWindow{
		{From: "08:00", To: "18:00"}, {From: "22:00", To: "02:00", Weekdays: []string{"sat"}},
	}}, s)
	_, err = read("--quiet", "always")
	assert.ErrorContains(t, err, "08:00-18:00")
}

// TestUpcomingInTwoZones shows runs as the schedule's zone and the user's have them.
func TestUpcomingInTwoZones(t *testing.T) {
	var out bytes.Buffer
	drawUpcoming(&out, api.Upcoming{Words: "every day at 01:30",
		Runs: []api.CalendarRun{{At: time.Date(2027, 3, 28, 1, 0, 0, 0, time.UTC), Note: "01:30 does not exist on this day"}}},
		"Europe/Lisbon")
	assert.Contains(t, out.String(), "Sun 2027-03-28 02:00:00 +01:00")
	assert.Contains(t, out.String(), "does not exist")
	out.Reset()
	drawEntries(&out, []api.Entry{{ID: "e1", Work: "audit", Detail: "full", Words: "every 168 hours", Paused: true},
		{ID: "e2", Work: "keep", Policy: "outer", Clusters: 7, Last: &api.Begun{At: noon, Problem: "one is under way already"}}})
	assert.Regexp(t, `e1 +audit full +the store .* paused`, out.String())
	assert.Regexp(t, `e2 +keep +policy outer \(7 clusters\) .*one is under way already`, out.String())
}

// TestRowsAreDrawn draws rows of few columns as a table, of many as lists, and how to see what is not known.
func TestRowsAreDrawn(t *testing.T) {
	text := func(s string) *string { return &s }
	v := api.Rows{XID: 7, More: true, Look: []api.Look{{Moment: "before tx 7", Query: "select 1"},
		{Moment: "before tx 7", Query: "select 2"}, {Moment: "tx 7", Query: "select 3"}}, Rows: []api.Row{
		{Operation: "update", Table: "fare", Place: "(0,1)", Before: []api.Cell{{Column: "id", Value: text("1")},
			{Column: "note", Value: text("two\nlines\x1b[31m")}}, After: []api.Cell{{Column: "id", Value: text("1")}, {Column: "note"}}},
		{Operation: "insert", Table: "fare", Place: "(0,2)", After: []api.Cell{{Column: "id", Value: text("2")},
			{Column: "note", Why: "too long"}}},
		{Operation: "delete", Table: "fare", Place: "(0,3)", Why: "its page was not written"},
	}}
	wide := api.Row{Operation: "delete", Table: "crew.shift", Place: "(4,5)"}
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h", "i"} {
		wide.Before = append(wide.Before, api.Cell{Column: name, Value: text(strings.Repeat(name, 100))})
	}
	v.Rows = append(v.Rows, wide, wide)
	var out bytes.Buffer
	drawRows(harmless{&out}, "ferries", v)
	assert.Regexp(t, `(?m)^update  \(0,1\)  1   two·lines·\[31m → NULL$`, out.String())
	assert.Regexp(t, `(?m)^insert  \(0,2\)  2   \? too long$`, out.String())
	assert.Regexp(t, `(?m)^delete  \(0,3\)  its page was not written$`, out.String())
	assert.Regexp(t, `(?s)delete \(4,5\) of crew.shift\n  a +a{95}…\n  b +b{95}….*\n\ndelete \(4,5\) of crew.shift\n  a`, out.String())
	assert.Contains(t, out.String(), "There are more")
	assert.Contains(t, out.String(), "  velvet restore start ferries \"before tx 7\"\n    select 1;\n    select 2;\n"+
		"  velvet restore start ferries \"tx 7\"\n    select 3;\n")
	out.Reset()
	drawRows(&out, "ferries", api.Rows{})
	assert.Equal(t, "No row of it is in the WAL.\n", out.String())
}
