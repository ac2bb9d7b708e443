package retention

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/keep"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
)

// A token names what goes, in whatever order it was found, and changes with it.
func TestTokens(t *testing.T) {
	wal := []keep.WAL{{Timeline: 1, First: 3, Last: 9}}
	same := token([]string{"b", "a"}, wal)
	assert.Equal(t, same, token([]string{"a", "b"}, wal))
	seen := map[string]bool{same: true}
	for _, other := range []string{
		token([]string{"a"}, wal), token([]string{"a", "b", "c"}, wal), token([]string{"a", "b"}, nil),
		token([]string{"a", "b"}, []keep.WAL{{Timeline: 2, First: 3, Last: 9}}),
		token([]string{"a", "b"}, []keep.WAL{{Timeline: 1, First: 3, Last: 10}}),
		token([]string{"ab"}, wal),
	} {
		assert.False(t, seen[other])
		seen[other] = true
	}
}

// TestAlive lets a calendar's run go on only where something is of the promised time.
func TestAlive(t *testing.T) {
	now := time.Date(2027, 3, 10, 12, 0, 0, 0, time.UTC)
	rule := keep.Rule{SpanHours: 5 * 24}
	for _, c := range []struct {
		name            string
		rule            keep.Rule
		base, committed int // days ago; 0 for none
		refused         bool
	}{
		{"a base of yesterday", rule, 1, 900, false},
		{"commits of yesterday", rule, 900, 1, false},
		{"neither", rule, 6, 6, true},
		{"no capture was ever complete", rule, 6, 0, true},
		{"nothing at all there is to lose", rule, 0, 0, false},
		{"a rule that counts does not look at time", keep.Rule{Count: 3}, 900, 900, false},
	} {
		var p Preview
		if c.base > 0 {
			p.Bases = []keep.Base{{ID: "b", StopTime: now.AddDate(0, 0, -c.base)}, {ID: "a", StopTime: now.AddDate(0, 0, -c.base-1)}}
		}
		var state catalog.Capture
		if c.committed > 0 {
			state.CompleteTo.Time, state.CompleteTo.Valid = now.AddDate(0, 0, -c.committed), true
		}
		err := alive(p, state, c.rule, now)
		if !c.refused {
			assert.NoError(t, err, c.name)
			continue
		}
		var said *problem.Problem
		require.True(t, errors.As(err, &said), c.name)
		assert.Equal(t, problem.Conflict, said.Kind, c.name)
		assert.Contains(t, said.Error(), "5 days", c.name)
	}
}
