package moment

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

var (
	clockLayouts = []string{"15:04:05.999999999", "15:04"}
	zoneLayouts  = []string{"Z07:00", "Z0700", "Z07"}
)

// beginsTime tells whether a word can be the first of a time.
func (p *parser) beginsTime(word string) bool {
	switch strings.ToLower(word) {
	case "today", "yesterday":
		return true
	}
	return word[0] >= '0' && word[0] <= '9'
}

// anyTime reads a time of which the day may be missing: then it is today's.
func (p *parser) anyTime(word string, at int) (time.Time, error) {
	if word == "" {
		return time.Time{}, p.fail(at, "a time is missing, for example 14:05 or 2026-11-23 14:05")
	}
	if strings.Contains(word, ":") && !strings.Contains(word, "T") {
		return p.onDay(0, word, at)
	}
	if !p.beginsTime(word) {
		return time.Time{}, p.fail(at, "%q begins no time; write 14:05, today 14:05, 12m ago or 2026-11-23 14:05", word)
	}
	return p.pointInTime(word, at)
}

// pointInTime reads "DATE TIME ZONE", "DATETTIMEZONE", "today TIME", "yesterday TIME" or "12m ago".
func (p *parser) pointInTime(word string, at int) (time.Time, error) {
	switch strings.ToLower(word) {
	case "today", "yesterday":
		back := 0
		if strings.EqualFold(word, "yesterday") {
			back = 1
		}
		clock, clockAt := p.word()
		return p.onDay(back, clock, clockAt)
	}
	if p.peek() == "ago" {
		_, _ = p.word()
		return p.ago(word, at)
	}
	date, clock, joined := strings.Cut(word, "T")
	day, err := time.Parse("2006-01-02", date)
	if err != nil {
		if strings.Contains(word, ":") {
			return time.Time{}, p.fail(at, "a day is missing before %q; write today %s or 2026-11-23 %s", word, word, word)
		}
		return time.Time{}, p.fail(at, "%q is not a date; write it as 2026-11-23", date)
	}
	clockAt := at + len(date) + 1
	if !joined {
		clock, clockAt = p.word()
	}
	return p.clock(func(*time.Location) time.Time { return day }, clock, clockAt)
}

// ago reads a span such as 90s, 12m, 1h30m or 2d.
func (p *parser) ago(word string, at int) (time.Time, error) {
	span, ok := parseSpan(word)
	if !ok {
		return time.Time{}, p.fail(at, "%q is not a span of time; write 90s, 12m, 1h30m or 2d", word)
	}
	if p.caller.Now.IsZero() {
		return time.Time{}, p.fail(at, "a time counted from now is not read here; write the time itself, with its zone")
	}
	t := p.caller.Now.Add(-span)
	if p.caller.Zone != nil {
		t = t.In(p.caller.Zone)
	}
	return t.Round(time.Millisecond), nil
}

func parseSpan(s string) (time.Duration, bool) {
	var days time.Duration
	if before, after, ok := strings.Cut(s, "d"); ok {
		n, err := strconv.Atoi(before)
		if err != nil || n < 0 || n > 36500 {
			return 0, false
		}
		days, s = time.Duration(n)*24*time.Hour, after
		if s == "" {
			return days, true
		}
	}
	d, err := time.ParseDuration(s)
	return days + d, err == nil && d >= 0 && days+d >= 0 && s[0] != '+' && s[0] != '-'
}

// onDay reads a time of day, of the caller's today or a day before it.
func (p *parser) onDay(back int, clock string, at int) (time.Time, error) {
	if p.caller.Now.IsZero() {
		return time.Time{}, p.fail(at, "the date is missing; write the date, with a zone after the time")
	}
	return p.clock(func(zone *time.Location) time.Time { return p.caller.Now.In(zone).AddDate(0, 0, -back) }, clock, at)
}

// clock reads "TIME ZONE" or "TIMEZONE" on a day; the zone is an offset, Z, UTC, an IANA
// name or, left out, the caller's.
func (p *parser) clock(day func(*time.Location) time.Time, clock string, at int) (time.Time, error) {
	if clock == "" {
		return time.Time{}, p.fail(at, "a time of day is missing, for example 14:03:07")
	}
	text := clock
	var zone string
	var zoneAt int
	if cut := strings.IndexAny(clock, "Zz+-"); cut >= 0 {
		clock, zone, zoneAt = clock[:cut], clock[cut:], at+cut
	} else if next := p.peek(); next != "" && next != "near" {
		zone, zoneAt = p.word()
	} else {
		p.blanks()
		zoneAt = p.pos
	}
	hour, ok := parseAny(clockLayouts, clock)
	if !ok {
		return time.Time{}, p.fail(at, "%q is not a time of day; write it as 14:03 or 14:03:07.25", text)
	}
	loc := p.caller.Zone
	switch {
	case zone != "":
		var err error
		if loc, err = parseZone(zone); err != nil {
			return time.Time{}, p.fail(zoneAt, "%q is no zone; write Z, an offset such as +01:00, or a name such as Europe/Lisbon", zone)
		}
	case loc == nil:
		return time.Time{}, p.fail(zoneAt, "a zone is missing after the time: Z, +01:00 or Europe/Lisbon")
	}
	d := day(loc)
	t := time.Date(d.Year(), d.Month(), d.Day(), hour.Hour(), hour.Minute(), hour.Second(), hour.Nanosecond(), loc)
	if t.Hour() != hour.Hour() || t.Minute() != hour.Minute() {
		return time.Time{}, p.fail(at, "%s does not exist on that day in %s: the clocks are put forward", clock, loc)
	}
	return t, p.once(t, at)
}

// once refuses a time of day that comes twice, when the clocks are put back.
func (p *parser) once(t time.Time, at int) error {
	for _, shift := range []time.Duration{30 * time.Minute, time.Hour, 2 * time.Hour} {
		for _, other := range []time.Time{t.Add(shift), t.Add(-shift)} {
			if other.Format(time.DateTime) == t.Format(time.DateTime) {
				return p.fail(at, "%s comes twice on that day in %s: the clocks are put back; write it with its offset, %s or %s",
					t.Format(time.TimeOnly), t.Location(), t.Format("-07:00"), other.Format("-07:00"))
			}
		}
	}
	return nil
}

func parseAny(layouts []string, s string) (time.Time, bool) {
	for _, l := range layouts {
		if t, err := time.Parse(l, s); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

func parseZone(zone string) (*time.Location, error) {
	if t, ok := parseAny(zoneLayouts, strings.ToUpper(zone)); ok {
		return t.Location(), nil
	}
	if zone == "Local" {
		return nil, fmt.Errorf("the service has no zone of its own")
	}
	return time.LoadLocation(zone)
}
