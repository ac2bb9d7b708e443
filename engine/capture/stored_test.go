package capture

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestNothingStoredIsReplacedByLess compares made-up segments of every length.
func TestNothingStoredIsReplacedByLess(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := make([]byte, 600_000)
		for i := range all {
			all[i] = byte(i ^ i>>8 ^ i>>16)
		}
		stored := all[:rapid.IntRange(0, len(all)).Draw(t, "stored")]
		spooled := bytes.Clone(all[:rapid.IntRange(0, len(all)).Draw(t, "spooled")])
		want := contained
		if len(spooled) > len(stored) {
			want = goesFurther
		}
		if both := min(len(stored), len(spooled)); both > 0 && rapid.Bool().Draw(t, "other history") {
			spooled[rapid.IntRange(0, both-1).Draw(t, "at")] ^= 1
			want = contradicts
		}
		got, err := compare(bytes.NewReader(stored), bytes.NewReader(spooled))
		require.NoError(t, err)
		require.Equal(t, want, got)
	})
}
