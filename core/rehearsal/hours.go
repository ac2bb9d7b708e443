package rehearsal

import (
	"fmt"
	"strings"
	"time"
)

// Hours are those of a day in which something may begin. The zero Hours are all.
type Hours struct{ from, to time.Duration } // since midnight; to may lie in the next day

// ParseHours reads 20:00-06:00; "" is the whole day.
func ParseHours(text string) (h Hours, err error) {
	if text == "" {
		return h, nil
	}
	from, to, ok := strings.Cut(text, "-")
	a, errA := time.Parse("15:04", strings.TrimSpace(from))
	b, errB := time.Parse("15:04", strings.TrimSpace(to))
	if !ok || errA != nil || errB != nil {
		return h, fmt.Errorf("%q are no hours; write them as 20:00-06:00", text)
	}
	since := func(t time.Time) time.Duration {
		return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	}
	h = Hours{since(a), since(b)}
	if h.to <= h.from {
		h.to += 24 * time.Hour
	}
	return h, nil
}

// Allow tells whether a time lies in the hours, by the time's own zone.
func (h Hours) Allow(t time.Time) bool {
	if h == (Hours{}) {
		return true
	}
	hour, minute, second := t.Clock()
	at := time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute + time.Duration(second)*time.Second
	return at >= h.from && at < h.to || at+24*time.Hour < h.to
}
