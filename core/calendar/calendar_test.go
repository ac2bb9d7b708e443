package calendar

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // the same zones on every machine

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func zone(t require.TestingT, name string) *time.Location {
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func TestUpcoming(t *testing.T) {
	for _, c := range []struct {
		name     string
		schedule Schedule
		from     string
		want     []string
	}{
		{"a time that the clocks skip", Schedule{At: "01:30", Zone: "Europe/Lisbon"}, "2026-03-27T12:00:00Z",
			[]string{"2026-03-28T01:30:00Z", "2026-03-29T02:00:00+01:00 01:30 does not exist on this day: clocks jump to 02:00",
				"2026-03-30T01:30:00+01:00"}},
		{"a time that they show twice", Schedule{At: "01:30", Zone: "Europe/Lisbon"}, "2026-10-24T12:00:00Z",
			[]string{"2026-10-25T01:30:00+01:00 01:30 comes twice on this day: this is the first", "2026-10-26T01:30:00Z"}},
		{"every hour goes on through the hour that comes twice", Schedule{Cron: "0 * * * *", Zone: "Europe/Lisbon"}, "2026-10-24T23:30:00Z",
			[]string{"2026-10-25T01:00:00+01:00", "2026-10-25T01:00:00Z", "2026-10-25T02:00:00Z"}},
		{"every hour, an hour skipped", Schedule{Cron: "0 * * * *", Zone: "Europe/Lisbon"}, "2026-03-28T23:30:00Z",
			[]string{"2026-03-29T00:00:00Z", "2026-03-29T02:00:00+01:00", "2026-03-29T03:00:00+01:00"}},
		{"half an hour of daylight saving", Schedule{At: "02:15", Zone: "Australia/Lord_Howe"}, "2026-10-03T00:00:00Z",
			[]string{"2026-10-04T02:30:00+11:00 02:15 does not exist on this day: clocks jump to 02:30", "2026-10-05T02:15:00+11:00"}},
		{"far from UTC: a time that the clocks skip", Schedule{At: "02:30", Zone: "America/Los_Angeles"}, "2026-03-08T00:00:00Z",
			[]string{"2026-03-08T03:00:00-07:00 02:30 does not exist on this day: clocks jump to 03:00", "2026-03-09T02:30:00-07:00"}},
		{"far from UTC: later on such a day", Schedule{At: "06:00", Zone: "America/Los_Angeles"}, "2026-03-07T20:00:00Z",
			[]string{"2026-03-08T06:00:00-07:00", "2026-03-09T06:00:00-07:00"}},
		{"far from UTC: a time that they show twice", Schedule{At: "01:30", Zone: "America/Los_Angeles"}, "2026-11-01T00:00:00Z",
			[]string{"2026-11-01T01:30:00-07:00 01:30 comes twice on this day: this is the first", "2026-11-02T01:30:00-08:00"}},
		{"a day that a zone left out", Schedule{At: "12:00", Zone: "Pacific/Apia"}, "2011-12-29T00:00:00-10:00",
			[]string{"2011-12-29T12:00:00-10:00", "2011-12-31T00:00:00+14:00 12:00 does not exist on this day: clocks jump to 00:00",
				"2011-12-31T12:00:00+14:00"}},
		{"leap days", Schedule{Cron: "15 3 29 2 *"}, "2026-11-23T00:00:00Z",
			[]string{"2028-02-29T03:15:00Z", "2032-02-29T03:15:00Z"}},
		{"a leap day left out", Schedule{Cron: "0 0 29 2 *"}, "2096-03-01T00:00:00Z", []string{"2104-02-29T00:00:00Z"}},
		{"the last day of the year", Schedule{At: "23:59", Weekdays: []string{"thu"}}, "2026-12-30T00:00:00Z",
			[]string{"2026-12-31T23:59:00Z", "2027-01-07T23:59:00Z"}},
		{"either kind of day", Schedule{Cron: "0 4 13 * fri"}, "2026-11-07T00:00:00Z",
			[]string{"2026-11-13T04:00:00Z", "2026-11-20T04:00:00Z", "2026-11-27T04:00:00Z", "2026-12-04T04:00:00Z", "2026-12-11T04:00:00Z",
				"2026-12-13T04:00:00Z"}},
		{"every so many hours", Schedule{EveryHours: 6, Zone: "Europe/Lisbon"}, "2026-10-24T20:00:00Z",
			[]string{"2026-10-25T01:00:00+01:00", "2026-10-25T06:00:00Z", "2026-10-25T12:00:00Z"}},
		{"quiet in office hours", Schedule{EveryHours: 4, Quiet: []Window{{From: "08:00", To: "18:30", Weekdays: []string{"mon"}}}},
			"2026-11-23T03:00:00Z",
			[]string{"2026-11-23T04:00:00Z", "2026-11-23T18:30:00Z moved out of a quiet window", "2026-11-23T20:00:00Z"}},
		{"quiet over midnight", Schedule{At: "23:30", Quiet: []Window{{From: "22:00", To: "01:00"}}}, "2026-11-23T00:00:00Z",
			[]string{"2026-11-23T01:00:00Z moved out of a quiet window", "2026-11-24T01:00:00Z moved out of a quiet window"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			at, err := time.Parse(time.RFC3339, c.from)
			require.NoError(t, err)
			calendar, err := Read(c.schedule, zone(t, c.schedule.Zone))
			require.NoError(t, err)
			runs, err := calendar.Upcoming(at, len(c.want), 0)
			require.NoError(t, err)
			var got []string
			for _, r := range runs {
				s := r.At.Format(time.RFC3339)
				if r.Note != "" {
					s += " " + r.Note
				}
				got = append(got, s)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestRefusals(t *testing.T) {
	for want, s := range map[string]Schedule{
		"never run":                {Cron: "0 0 30 2 *"},
		"leave no time":            {EveryHours: 1, Quiet: []Window{{From: "00:00", To: "12:00"}, {From: "12:00", To: "00:00"}}},
		"say once when":            {},
		"say once when it":         {At: "02:00", EveryHours: 3},
		"five fields":              {Cron: "0 0 * *"},
		"not a time of day":        {At: "2 o'clock"},
		"not a weekday":            {At: "02:00", Weekdays: []string{"someday"}},
		"weekdays go with":         {EveryHours: 3, Weekdays: []string{"mon"}},
		"no length":                {At: "02:00", Quiet: []Window{{From: "08:00", To: "08:00"}}},
		"in their own fields":      {Cron: "CRON_TZ=Asia/Tokyo 0 4 * * *"},
		"jitter of 5000":           {At: "02:00", Jitter: 5000},
		"jitter of 1441":           {At: "02:00", Jitter: 1441},
		"jitter of -1":             {At: "02:00", Jitter: -1},
		"name the time zone, and ": {Cron: "@every 1h"},
	} {
		_, err := Read(s, time.UTC)
		assert.ErrorContains(t, err, want)
	}
}

func TestSchedulesInWords(t *testing.T) {
	for want, s := range map[string]Schedule{
		"every hour":                               {EveryHours: 1},
		"every 6 hours Europe/Lisbon":              {EveryHours: 6, Zone: "Europe/Lisbon"},
		"mon, fri at 02:30":                        {At: "02:30", Weekdays: []string{"mon", "fri"}},
		"every day at 02:30, up to 1440 min later": {At: "02:30", Jitter: 1440},
		"cron 0 4 * * *, not from 08:00 to 18:00, not from 22:00 to 01:00 (sat, sun)": {Cron: "0 4 * * *",
			Quiet: []Window{{From: "08:00", To: "18:00"}, {From: "22:00", To: "01:00", Weekdays: []string{"sat", "sun"}}}},
	} {
		_, err := Read(s, time.UTC)
		require.NoError(t, err)
		assert.Equal(t, want, s.String())
	}
}

// TestShift holds that clusters of one calendar begin apart, each always at the same time, and that what is due is only
// moved by it.
func TestShift(t *testing.T) {
	seen := make(map[time.Duration]bool)
	for n := range 400 {
		shift := Shift(10, "nightly", fmt.Sprint(n))
		assert.True(t, 0 <= shift && shift < 10*time.Minute && shift%time.Second == 0, shift)
		assert.Equal(t, shift, Shift(10, "nightly", fmt.Sprint(n)))
		seen[shift] = true
	}
	assert.Greater(t, len(seen), 200)
	assert.Equal(t, 6*time.Minute+2*time.Second, Shift(10, "nightly", "ferries"), "a release that changes it moves everybody's backups")
	c, err := Read(Schedule{Cron: "0 * * * *"}, time.UTC)
	require.NoError(t, err)
	r, err := c.Next(time.Date(2026, 11, 26, 10, 15, 0, 0, time.UTC), 30*time.Minute)
	require.NoError(t, err)
	assert.Equal(t, "10:30", r.At.Format("15:04"))
}

// TestNextRises draws schedules, zones and moments: due times rise, none is left out
// between two, and a shift moves each by itself.
func TestNextRises(t *testing.T) {
	zones := []string{"UTC", "Europe/Lisbon", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu", "America/Sao_Paulo"}
	crons := []string{"*/20 * * * *", "0 * * * *", "30 1 * * *", "0 2,14 * * mon-fri", "0 0 1 * *", "5 3 31 * *", "0 12 * feb sun"}
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.SampledFrom(zones).Draw(t, "zone")
		s := Schedule{Cron: rapid.SampledFrom(crons).Draw(t, "cron"), Zone: name}
		if rapid.Bool().Draw(t, "quiet") {
			s.Quiet = []Window{{From: "01:00", To: "03:00"}, {From: "22:00", To: "00:30"}}
		}
		c, err := Read(s, zone(t, name))
		require.NoError(t, err)
		at := time.Unix(rapid.Int64Range(1.7e9, 1.9e9).Draw(t, "at"), 0)
		shift := Shift(rapid.IntRange(0, 90).Draw(t, "jitter"), "entry", "cluster")
		first, err := c.Next(at, shift)
		require.NoError(t, err)
		require.True(t, first.At.After(at))
		between := at.Add(time.Duration(rapid.Int64Range(0, int64(first.At.Sub(at))-1).Draw(t, "between")))
		again, err := c.Next(between, shift)
		require.NoError(t, err)
		require.True(t, again.At.Equal(first.At), "%s after %s, %s after %s", first.At, at, again.At, between)
		last, ok := c.Latest(at, first.At, shift)
		require.True(t, ok)
		require.True(t, last.Equal(first.At))
		_, ok = c.Latest(at, first.At.Add(-time.Second), shift)
		require.False(t, ok)
	})
}

// TestQuietAgainstAModel looks at every minute of some weeks: whether it is quiet, and whether work is written down
// for it, is told from the windows and the times of day alone.
func TestQuietAgainstAModel(t *testing.T) {
	clock := func(minute int) string { return time.Date(0, 1, 1, 0, minute, 0, 0, time.UTC).Format("15:04") }
	rapid.Check(t, func(t *rapid.T) {
		start := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
		const days = 40
		at := rapid.IntRange(0, 1439).Draw(t, "at")
		s := Schedule{At: clock(at)}
		for _, d := range weekdays {
			if rapid.Bool().Draw(t, d) {
				s.Weekdays = append(s.Weekdays, d)
			}
		}
		quiet := make([]bool, days*1440)
		var edges = []int{0, 360, 361, 720, 1080, 1439}
		for range rapid.IntRange(1, 6).Draw(t, "windows") {
			from, to := rapid.SampledFrom(edges).Draw(t, "from"), rapid.SampledFrom(edges).Draw(t, "to")
			if from == to {
				continue
			}
			w := Window{From: clock(from), To: clock(to)}
			for _, d := range weekdays {
				if rapid.IntRange(0, 3).Draw(t, "quiet on "+d) > 0 {
					w.Weekdays = append(w.Weekdays, d)
				}
			}
			s.Quiet = append(s.Quiet, w)
			length := (to - from + 1440) % 1440
			for day := range days {
				on := len(w.Weekdays) == 0
				for _, d := range w.Weekdays {
					on = on || strings.ToLower(start.AddDate(0, 0, day).Weekday().String()[:3]) == d
				}
				for m := range length {
					if i := day*1440 + from + m; on && i < len(quiet) {
						quiet[i] = true
					}
				}
			}
		}
		minute := func(i int) time.Time { return start.Add(time.Duration(i) * time.Minute) }
		var runs []time.Time // of the middle weeks, in order
		for day := range days {
			name := strings.ToLower(minute(day * 1440).Weekday().String()[:3])
			if len(s.Weekdays) > 0 && !slices.Contains(s.Weekdays, name) {
				continue
			}
			i := day*1440 + at
			for i < len(quiet) && quiet[i] {
				i++
			}
			runs = append(runs, minute(i))
		}
		c, err := Read(s, time.UTC)
		if slices.Index(quiet[15*1440:23*1440], false) < 0 {
			require.ErrorIs(t, err, ErrNever, "the whole week is quiet")
			return
		}
		require.NoError(t, err)
		for range 10 {
			i := rapid.IntRange(10*1440, 20*1440).Draw(t, "after")
			require.Equal(t, quiet[i], c.Quiet(minute(i)), minute(i))
			next := runs[slices.IndexFunc(runs, func(r time.Time) bool { return r.After(minute(i)) })]
			got, err := c.Next(minute(i), 0)
			require.NoError(t, err)
			require.Equal(t, next, got.At.UTC(), "after %s", minute(i))
		}
	})
}
