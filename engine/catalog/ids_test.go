package catalog

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/problem"
)

// TestPartsOfIDs finds things by beginnings and ends of their ids, where only one is meant.
func TestPartsOfIDs(t *testing.T) {
	c, _ := open(t)
	for _, id := range []string{"01aaaa0000000000000000wxyz", "01aaaa1111111111111111stuv", "01bbbb2222222222222222wxyz"} {
		require.NoError(t, c.AddTask(ctx, Task{ID: id, Kind: "audit", Arguments: []byte("{}")}, noJob))
	}
	for part, want := range map[string]string{
		"01aaaa0000000000000000wxyz": "01aaaa0000000000000000wxyz", "01aaaa0": "01aaaa0000000000000000wxyz",
		"stuv": "01aaaa1111111111111111stuv", "STUV": "01aaaa1111111111111111stuv",
		"01bb": "01bbbb2222222222222222wxyz", "2wxyz": "01bbbb2222222222222222wxyz",
	} {
		got, err := c.Task(ctx, part)
		require.NoError(t, err, part)
		assert.Equal(t, want, got.ID, part)
	}
	for _, part := range []string{"01aa", "wxyz", "01aaaa"} {
		_, err := c.Task(ctx, part)
		assert.Equal(t, problem.Ambiguous, kindOf(t, err), part)
		assert.ErrorContains(t, err, "01aaaa0000000000000000wxyz", "the candidates are listed")
	}
	for _, part := range []string{"01b", "tuv", "aaaa", "nothing", "", "%", "____"} {
		_, err := c.Task(ctx, part)
		assert.Equal(t, problem.NotFound, kindOf(t, err), part)
	}
}
