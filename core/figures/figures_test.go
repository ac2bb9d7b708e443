package figures

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestFigures(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1<<20 - 1: "1.0 MiB", 1 << 20: "1.0 MiB",
		1023 << 10: "1023.0 KiB", 1 << 60: "1.0 EiB", 16 << 20: "16.0 MiB", 3 << 39: "1.5 TiB", math.MaxInt64: "8.0 EiB", -5: "-5 B"} {
		assert.Equal(t, want, Size(n))
	}
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 48211: "48,211", -200735: "-200,735", -100: "-100",
		1234567: "1,234,567"} {
		assert.Equal(t, want, Count(n))
	}
	for d, want := range map[time.Duration]string{0: "0 minutes", 90 * time.Second: "2 minutes", time.Hour: "1 hour",
		90 * time.Minute: "90 minutes", 24 * time.Hour: "24 hours",
		47 * time.Hour: "47 hours", 48 * time.Hour: "2 days", 49 * time.Hour: "49 hours", 72*time.Hour + time.Minute: "4,321 minutes",
		240 * time.Hour: "10 days"} {
		assert.Equal(t, want, Span(d))
	}
	assert.Equal(t, "1 base backup", Of(1, "base backup"))
	assert.Equal(t, "0 base backups", Of(0, "base backup"))
	assert.Equal(t, "2 stretches", Of(2, "stretch"))
	assert.Equal(t, "65,000 segments", Of(65000, "segment"))
}
