package names

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestAbove writes the tables above one: no more than a few, and none that would be read as others.
func TestAbove(t *testing.T) {
	assert.Empty(t, above(nil, nil))
	assert.Equal(t, "public.booking\ncrew.\"Old Shift\"", above([]string{"public", "crew", "public"},
		[]string{"booking", "Old Shift", "booking"}))
	assert.Equal(t, "crew.shift", above([]string{"public", "crew"}, []string{"x\"\npublic.booking", "shift"}))
	schemas, tables := make([]string, 1000), make([]string, 1000)
	for i := range schemas {
		schemas[i], tables[i] = "public", fmt.Sprint("parent_", i)
	}
	assert.Len(t, strings.Split(above(schemas, tables), "\n"), mostAbove)
}
