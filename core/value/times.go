package value

import (
	"fmt"
	"math"
	"strings"
)

const (
	second   = int64(1_000_000) // in microseconds
	minute   = 60 * second
	hour     = 60 * minute
	day      = 24 * hour
	epochDay = 2451545 // the Julian day of 2000-01-01
)

// calendarDay is the day of the Gregorian calendar that a Julian day is (j2date in utils/adt/datetime.c).
func calendarDay(julian int64) (year, month, dayOf int64) {
	j := julian + 32044
	quad := j / 146097
	extra := (j-quad*146097)*4 + 3
	j += 60 + quad*3 + extra/146097
	quad = j / 1461
	j -= quad * 1461
	y := j * 4 / 1461
	if y != 0 {
		j = (j + 305) % 365
	} else {
		j = (j + 306) % 366
	}
	j += 123
	year = y + quad*4 - 4800
	quad = j * 2141 / 65536
	return year, (quad+10)%12 + 1, j - 7834*quad/256
}

// dayText writes a day; era is what follows a year before the first.
func dayText(days int64) (text, era string) {
	y, m, d := calendarDay(days + epochDay)
	if y <= 0 {
		return fmt.Sprintf("%04d-%02d-%02d", 1-y, m, d), " BC"
	}
	return fmt.Sprintf("%04d-%02d-%02d", y, m, d), ""
}

func date(r *bytesAt) string {
	switch n := int32(r.u32()); n {
	case math.MaxInt32:
		return "infinity"
	case math.MinInt32:
		return "-infinity"
	default:
		text, era := dayText(int64(n))
		return text + era
	}
}

// clock writes a time of day, with as many digits after the second as it needs.
func clock(us int64) string {
	return fmt.Sprintf("%02d:%02d:%02d%s", us/hour, us/minute%60, us/second%60, fraction(us%second))
}

func fraction(us int64) string {
	if us == 0 {
		return ""
	}
	return "." + strings.TrimRight(fmt.Sprintf("%06d", us), "0")
}

func clockWithZone(r *bytesAt) string {
	s := clock(int64(r.u64()))
	west := int64(int32(r.u32()))
	sign := "-"
	if west <= 0 {
		sign, west = "+", -west
	}
	s += fmt.Sprintf("%s%02d", sign, west/3600)
	if west%3600 != 0 {
		s += fmt.Sprintf(":%02d", west/60%60)
	}
	if west%60 != 0 {
		s += fmt.Sprintf(":%02d", west%60)
	}
	return s
}

func timestamp(us int64, zone string) string {
	switch us {
	case math.MaxInt64:
		return "infinity"
	case math.MinInt64:
		return "-infinity"
	}
	days, rest := us/day, us%day
	if rest < 0 {
		days, rest = days-1, rest+day
	}
	text, era := dayText(days)
	return text + " " + clock(rest) + zone + era
}

// interval writes one in the server's default style (EncodeInterval in utils/adt/datetime.c).
func interval(r *bytesAt) string {
	us, days, months := int64(r.u64()), int32(r.u32()), int32(r.u32())
	switch {
	case months == math.MaxInt32 && days == math.MaxInt32 && us == math.MaxInt64:
		return "infinity"
	case months == math.MinInt32 && days == math.MinInt32 && us == math.MinInt64:
		return "-infinity"
	}
	var s string
	negative := false // the part before
	for _, part := range []struct {
		n    int32
		unit string
	}{{months / 12, "year"}, {months % 12, "mon"}, {days, "day"}} {
		if part.n == 0 {
			continue
		}
		if s != "" {
			s += " "
		}
		if negative && part.n > 0 {
			s += "+"
		}
		s += fmt.Sprintf("%d %s", part.n, part.unit)
		if part.n != 1 {
			s += "s"
		}
		negative = part.n < 0
	}
	if s != "" && us == 0 {
		return s
	}
	if s != "" {
		s += " "
	}
	u := uint64(us)
	switch {
	case us < 0:
		s, u = s+"-", -u
	case negative:
		s += "+"
	}
	h := u / uint64(hour)
	return s + fmt.Sprintf("%02d:", h) + clock(int64(u - h*uint64(hour)))[3:]
}
