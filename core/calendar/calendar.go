// Package calendar tells when recurring work is due: by a cron expression, every so many
// hours, or at a time of day on some weekdays, in a time zone, kept out of quiet windows.
//
// Invariant: a day's time that the clocks skip is due when they have jumped, and one that
// they show twice is due the first time only, unless every hour is asked for. Due times
// rise. The present time and the zone's rules come from the caller.
package calendar

import (
	"cmp"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Schedule says when work is due, by exactly one of Cron, EveryHours and At.
type Schedule struct {
	Cron       string   `json:"cron,omitempty"`       // five fields: minute, hour, day of the month, month, weekday
	EveryHours int      `json:"everyHours,omitempty"` // every so many hours, counted from midnight UTC
	At         string   `json:"at,omitempty"`         // time of day, as 02:30
	Weekdays   []string `json:"weekdays,omitempty"`   // with at: mon, tue, wed, thu, fri, sat, sun; none for every day
	Zone       string   `json:"zone,omitempty"`       // time zone by its name, as Europe/Lisbon; UTC if left out
	Jitter     int      `json:"jitter,omitempty"`     // each cluster begins up to so many minutes later, always by the same
	Quiet      []Window `json:"quiet,omitempty"`      // nothing begins in these; it begins when they end
}

// String says the schedule in words.
func (s Schedule) String() string {
	words := ""
	switch {
	case s.EveryHours == 1:
		words = "every hour"
	case s.EveryHours > 1:
		words = fmt.Sprintf("every %d hours", s.EveryHours)
	case s.At != "" && len(s.Weekdays) > 0:
		words = strings.Join(s.Weekdays, ", ") + " at " + s.At
	case s.At != "":
		words = "every day at " + s.At
	default:
		words = "cron " + s.Cron
	}
	if s.Zone != "" {
		words += " " + s.Zone
	}
	if s.Jitter > 0 {
		words += fmt.Sprintf(", up to %d min later", s.Jitter)
	}
	for _, q := range s.Quiet {
		words += ", not from " + q.From + " to " + q.To
		if len(q.Weekdays) > 0 {
			words += " (" + strings.Join(q.Weekdays, ", ") + ")"
		}
	}
	return words
}

// Window is a part of the day in which nothing begins.
type Window struct {
	From     string   `json:"from"`               // time of day, as 08:00
	To       string   `json:"to"`                 // time of day; before from, it is of the next day
	Weekdays []string `json:"weekdays,omitempty"` // on which it begins; none for every day
}

// Run is one time at which work is due.
type Run struct {
	At   time.Time
	Note string // why it is not at the time that was written down
}

// ErrNever says that nothing would ever be due.
var ErrNever = errors.New("it would never run")

// Calendar is a schedule that was read.
type Calendar struct {
	zone   *time.Location
	every  time.Duration
	fields *cron.SpecSchedule
	quiet  []window
}

type window struct {
	from, to int // minutes of the day
	days     [7]bool
}

// horizon is how far ahead is looked before it is said that nothing is due: a 29th
// of February comes at least every eight years.
const horizon = 9 * 366

// Read checks a schedule. zone is that which it names.
func Read(s Schedule, zone *time.Location) (*Calendar, error) {
	c := &Calendar{zone: zone}
	kinds := 0
	if s.EveryHours > 0 {
		c.every = time.Duration(s.EveryHours) * time.Hour
		kinds++
	}
	if s.Cron != "" {
		kinds++
		if err := c.readCron(s.Cron); err != nil {
			return nil, err
		}
	}
	if s.At != "" {
		kinds++
		if err := c.readAt(s); err != nil {
			return nil, err
		}
	}
	if kinds != 1 {
		return nil, errors.New("say once when it runs: by a cron expression, every so many hours, or at a time of day")
	}
	if len(s.Weekdays) > 0 && s.At == "" {
		return nil, errors.New("weekdays go with a time of day; a cron expression has a field of its own for them")
	}
	if s.Jitter < 0 || s.Jitter > 24*60 {
		return nil, fmt.Errorf("a jitter of %d minutes is not possible: write 0 to 1440", s.Jitter)
	}
	for _, w := range s.Quiet {
		q, err := readWindow(w)
		if err != nil {
			return nil, err
		}
		c.quiet = append(c.quiet, q)
	}
	if _, err := c.Next(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), 0); err != nil {
		return nil, err
	}
	return c, nil
}

func (c *Calendar) readCron(expression string) error {
	if strings.Contains(expression, "TZ=") || strings.HasPrefix(strings.TrimSpace(expression), "@every") {
		return fmt.Errorf("%q: name the time zone, and a number of hours, in their own fields", expression)
	}
	parsed, err := cron.ParseStandard(expression)
	if err != nil {
		return fmt.Errorf("the cron expression %q cannot be read: %w; it has five fields: minute, hour, day of the month, month, weekday",
			expression, err)
	}
	fields, ok := parsed.(*cron.SpecSchedule)
	if !ok {
		return fmt.Errorf("the cron expression %q cannot be used; write five fields", expression)
	}
	c.fields = fields
	return nil
}

func (c *Calendar) readAt(s Schedule) error {
	minute, err := readClock(s.At)
	if err != nil {
		return err
	}
	days, err := readDays(s.Weekdays)
	if err != nil {
		return err
	}
	f := &cron.SpecSchedule{Minute: 1 << (minute % 60), Hour: 1 << (minute / 60), Dom: everyBit, Month: everyBit}
	for n, on := range days {
		if on {
			f.Dow |= 1 << n
		}
	}
	c.fields = f
	return nil
}

// everyBit is how the parser writes a field that was a star.
const everyBit = 1<<63 | (1<<60 - 1)

func readClock(s string) (minutes int, err error) {
	t, err := time.Parse("15:04", s)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time of day: write it as 02:30", s)
	}
	return t.Hour()*60 + t.Minute(), nil
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func readDays(names []string) (days [7]bool, err error) {
	if len(names) == 0 {
		return [7]bool{true, true, true, true, true, true, true}, nil
	}
	for _, name := range names {
		n := slices.Index(weekdays, strings.ToLower(name))
		if n < 0 {
			return days, fmt.Errorf("%q is not a weekday: write mon, tue, wed, thu, fri, sat or sun", name)
		}
		days[n] = true
	}
	return days, nil
}

func readWindow(w Window) (q window, err error) {
	if q.from, err = readClock(w.From); err != nil {
		return q, err
	}
	if q.to, err = readClock(w.To); err != nil {
		return q, err
	}
	if q.from == q.to {
		return q, fmt.Errorf("a quiet window from %s to %s has no length", w.From, w.To)
	}
	q.days, err = readDays(w.Weekdays)
	return q, err
}

// Shift is by how much later a cluster begins than others of the same calendar, below
// the jitter in minutes. It is always the same for the same names.
func Shift(jitter int, names ...string) time.Duration {
	if jitter <= 0 {
		return 0
	}
	h := fnv.New64a()
	_, _ = h.Write([]byte(strings.Join(names, "\x00")))
	return time.Duration(h.Sum64()%uint64(jitter*60)) * time.Second
}

// Next is the first time after a moment at which work is due, by a shift later than
// written down.
func (c *Calendar) Next(after time.Time, shift time.Duration) (Run, error) {
	from := after.Add(-shift)
	if c.Quiet(after) { // what was due before it may have been moved to after it
		from = from.Add(-longestQuiet)
	}
	for r := (Run{At: from}); ; {
		var ok bool
		if r, ok = c.due(r.At); !ok {
			return Run{}, ErrNever
		}
		moved, ok := c.outOfQuiet(Run{At: r.At.Add(shift), Note: r.Note})
		if !ok {
			return Run{}, fmt.Errorf("%w: the quiet windows leave no time", ErrNever)
		}
		if moved.At.After(after) {
			return moved, nil
		}
	}
}

// Upcoming lists the next n runs after a moment.
func (c *Calendar) Upcoming(after time.Time, n int, shift time.Duration) ([]Run, error) {
	var list []Run
	for range n {
		r, err := c.Next(after, shift)
		if err != nil {
			return list, err
		}
		r.At = r.At.In(c.zone)
		list = append(list, r)
		after = r.At
	}
	return list, nil
}

// Latest is the newest time up to a moment, and after another, at which work was due;
// ok is false if there was none.
func (c *Calendar) Latest(after, upTo time.Time, shift time.Duration) (due time.Time, ok bool) {
	for {
		r, err := c.Next(after, shift)
		if err != nil || r.At.After(upTo) {
			return due, ok
		}
		due, ok, after = r.At, true, r.At
	}
}

// due is the first time after a moment that is written down.
func (c *Calendar) due(after time.Time) (Run, bool) {
	if c.every > 0 {
		return Run{At: after.Truncate(c.every).Add(c.every)}, true
	}
	y, m, d := after.In(c.zone).AddDate(0, 0, -1).Date()
	for n := range horizon {
		day := time.Date(y, m, d+n, 12, 0, 0, 0, time.UTC)
		if !c.onDay(day) {
			continue
		}
		for _, r := range c.times(day) {
			if r.At.After(after) {
				return r, true
			}
		}
	}
	return Run{}, false
}

// onDay tells whether any time of a day can be due. As usual in cron, where both the
// day of the month and the weekday are limited, either will do.
func (c *Calendar) onDay(day time.Time) bool {
	f := c.fields
	if f.Month&(1<<uint(day.Month())) == 0 {
		return false
	}
	dom, dow := f.Dom&(1<<uint(day.Day())) != 0, f.Dow&(1<<uint(day.Weekday())) != 0
	if f.Dom>>63 == 1 || f.Dow>>63 == 1 {
		return dom && dow
	}
	return dom || dow
}

// times lists what is due on a day, rising.
func (c *Calendar) times(day time.Time) []Run {
	hourly := c.fields.Hour&(1<<24-1) == 1<<24-1
	var list []Run
	for hour := range 24 {
		if c.fields.Hour&(1<<hour) == 0 {
			continue
		}
		for minute := range 60 {
			if c.fields.Minute&(1<<minute) == 0 {
				continue
			}
			list = append(list, c.resolve(day, hour, minute, hourly)...)
		}
	}
	slices.SortFunc(list, func(a, b Run) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Note, b.Note)) })
	return slices.CompactFunc(list, func(a, b Run) bool { return a.At.Equal(b.At) })
}

// resolve finds the instants at which clocks of the zone show a time.
func (c *Calendar) resolve(day time.Time, hour, minute int, hourly bool) []Run {
	wall := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, time.UTC)
	_, before := wall.Add(-24 * time.Hour).In(c.zone).Zone()
	_, after := wall.Add(24 * time.Hour).In(c.zone).Zone()
	var found []Run
	for _, offset := range []int{before, after} {
		at := wall.Add(-time.Duration(offset) * time.Second)
		if _, real := at.In(c.zone).Zone(); real == offset && (len(found) == 0 || !found[0].At.Equal(at)) {
			found = append(found, Run{At: at})
		}
	}
	switch {
	case len(found) == 0: // the clocks skip it
		at := wall.Add(-time.Duration(before) * time.Second)
		jump, _ := at.In(c.zone).ZoneBounds()
		return []Run{{jump, fmt.Sprintf("%02d:%02d does not exist on this day: clocks jump to %s", hour, minute,
			jump.In(c.zone).Format("15:04"))}}
	case len(found) == 2 && !hourly:
		found = found[:1]
		found[0].Note = fmt.Sprintf("%02d:%02d comes twice on this day: this is the first", hour, minute)
	}
	return found
}

// longestQuiet is longer than windows that touch one another can be without leaving no time at all: a
// week, and what clocks jump.
const longestQuiet = 8 * 24 * time.Hour

// outOfQuiet moves a run after the quiet windows that it lies in.
func (c *Calendar) outOfQuiet(r Run) (Run, bool) {
	for limit := r.At.Add(longestQuiet); r.At.Before(limit); {
		end, in := c.quietUntil(r.At)
		if !in {
			return r, true
		}
		r.Note = "moved out of a quiet window"
		r.At = end
	}
	return r, false
}

// Quiet tells whether a moment lies in a quiet window.
func (c *Calendar) Quiet(at time.Time) bool {
	_, in := c.quietUntil(at)
	return in
}

// quietUntil is when the quiet window ends in which a moment lies.
func (c *Calendar) quietUntil(at time.Time) (end time.Time, in bool) {
	local := at.In(c.zone)
	for _, w := range c.quiet {
		for back := range 2 { // it may have begun the day before
			day := time.Date(local.Year(), local.Month(), local.Day()-back, 12, 0, 0, 0, time.UTC)
			if !w.days[day.Weekday()] {
				continue
			}
			last := day
			if w.to < w.from {
				last = day.AddDate(0, 0, 1)
			}
			from := c.resolve(day, w.from/60, w.from%60, false)[0].At
			to := c.resolve(last, w.to/60, w.to%60, false)[0].At
			if !at.Before(from) && at.Before(to) && to.After(end) {
				end, in = to, true
			}
		}
	}
	return end, in
}
