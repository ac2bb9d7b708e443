// Package figures writes sizes and numbers for people, in logs, answers and tables the same.
package figures

import (
	"fmt"
	"math"
	"strings"
	"time"
)

// Size writes a number of bytes with a unit of 1024.
func Size(n int64) string {
	const units = "KMGTPE"
	if n < 1024 {
		return fmt.Sprintf("%d B", n)
	}
	v, i := float64(n)/1024, 0
	for math.Round(v*10) >= 10240 && i < len(units)-1 { // nobody writes 1024.0 KiB
		v, i = v/1024, i+1
	}
	return fmt.Sprintf("%.1f %ciB", v, units[i])
}

// Count writes a number with groups of three digits, so that long ones can be read.
func Count(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Span writes a length of time in its largest whole unit.
func Span(d time.Duration) string {
	switch {
	case d >= 48*time.Hour && d%(24*time.Hour) == 0:
		return Of(int(d/(24*time.Hour)), "day")
	case d >= time.Hour && d%time.Hour == 0:
		return Of(int(d/time.Hour), "hour")
	}
	return Of(int(d.Round(time.Minute)/time.Minute), "minute")
}

// Of writes how many there are of something: 1 base backup, 3 base backups, 2 stretches.
func Of(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	if strings.HasSuffix(what, "ch") {
		what += "e"
	}
	return Count(int64(n)) + " " + what + "s"
}
