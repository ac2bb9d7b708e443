package rescue

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever batches are brought, in whatever runs: each row comes in exactly one of them, and none is larger than is asked for.
func TestBatches(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var groups [][]Extent
		times := make(map[[2]int64]int) // rows, by their tables and numbers
		for oid := range uint32(rapid.IntRange(1, 4).Draw(t, "tables")) {
			n := int64(rapid.IntRange(0, 40).Draw(t, "rows"))
			groups = append(groups, []Extent{{Part{oid, 0, n}, int64(rapid.IntRange(1, 50).Draw(t, "at once"))}})
			for row := range n {
				times[[2]int64{int64(oid), row}] = 0
			}
		}
		whole := rapid.IntRange(-1, 3).Draw(t, "whole")
		var brought []Batch
		for more := true; more; {
			var left [][]Extent
			for _, g := range groups {
				var list []Extent
				for _, p := range g[0].Without(brought) {
					list = append(list, Extent{p, int64(rapid.IntRange(1, 50).Draw(t, "at once now"))})
				}
				left = append(left, list)
			}
			list := Divide(left, func(i int) bool { return i == whole })
			for i, b := range list {
				require.Equal(t, len(list)-1-i, b.Left)
			}
			stop := rapid.IntRange(0, len(list)).Draw(t, "interrupted after")
			for _, b := range list[:stop] {
				for _, p := range b.Parts {
					require.Equal(t, []Part{p}, groups[p.OID][0].Within(b)[:1])
					for row := p.From; row < p.To; row++ {
						times[[2]int64{int64(p.OID), row}]++
					}
				}
			}
			brought, more = append(brought, list[:stop]...), stop < len(list)
		}
		for row, n := range times {
			require.Equal(t, 1, n, row)
		}
	})
}
