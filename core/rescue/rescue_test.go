package rescue

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestOrder: whatever the foreign keys, what a table refers to comes before it or stands with it, and every table comes once.
func TestOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tables := make([]*Table, rapid.IntRange(1, 12).Draw(t, "tables"))
		for i := range tables {
			tables[i] = &Table{Name: fmt.Sprint(i)}
		}
		reaches := make(map[[2]*Table]bool)
		for range rapid.IntRange(0, 20).Draw(t, "keys") {
			child, parent := rapid.SampledFrom(tables).Draw(t, "child"), rapid.SampledFrom(tables).Draw(t, "parent")
			child.Parents = append(child.Parents, Reference{Parent: parent}, Reference{Of: [2]string{"public", "another"}})
			reaches[[2]*Table{child, parent}] = true
		}
		for _, by := range tables { // by way of others
			for _, from := range tables {
				for _, to := range tables {
					if reaches[[2]*Table{from, by}] && reaches[[2]*Table{by, to}] {
						reaches[[2]*Table{from, to}] = true
					}
				}
			}
		}
		at := make(map[*Table]int)
		for i, g := range Order(tables) {
			for _, one := range g {
				require.NotContains(t, at, one)
				at[one] = i
			}
		}
		require.Len(t, at, len(tables))
		for _, a := range tables {
			for _, b := range tables {
				circle := a == b || reaches[[2]*Table{a, b}] && reaches[[2]*Table{b, a}]
				require.Equal(t, circle, at[a] == at[b])
				if reaches[[2]*Table{a, b}] {
					require.GreaterOrEqual(t, at[a], at[b])
				}
			}
		}
	})
}

func TestRules(t *testing.T) {
	fare := &Table{Schema: "fleet", Name: "fare"}
	other := &Table{Schema: "public", Name: "booking"}
	var r Rules
	for _, s := range []string{"keep-live", "fleet.fare=take-old", `fare:("route=7",deck)=stop`} {
		one, err := ParseRule(s)
		require.NoError(t, err)
		r = append(r, one)
	}
	assert.Equal(t, Rule{Table: "fare", Key: `("route=7",deck)`, Do: Stop}, r[2])
	assert.Equal(t, TakeOld, r.Of(fare))
	assert.Equal(t, KeepLive, r.Of(other))
	assert.Equal(t, Stop, Rules(nil).Of(fare), "nothing is overwritten of which nothing is said")
	for _, s := range []string{"", "keep", "fare=", "=", "take-old=fare"} {
		_, err := ParseRule(s)
		assert.Error(t, err, s)
	}
}

func TestJudge(t *testing.T) {
	right := SeenTable{Table: "fare", Wanted: Tally{3, "9"}, Written: Tally{3, "9"}, Before: Tally{5, "7"}, After: Tally{5, "7"}}
	failed := func(s Seen) (names []string) {
		for _, c := range Judge(s) {
			if c.Verdict == Failed {
				names = append(names, c.Name)
			}
		}
		assert.Equal(t, len(names) > 0, Overall(Judge(s)) == Failed)
		return names
	}
	assert.Empty(t, failed(Seen{Tables: []SeenTable{right}, Counted: true, Elsewhere: []string{"audit"}}), "triggers may write elsewhere")
	for _, c := range []struct {
		name   string
		change func(*Seen)
	}{
		{"rows are back", func(s *Seen) { s.Tables[0].Written.Rows = 2 }},
		{"rows are back", func(s *Seen) { s.Tables[0].Written.Sum = "8" }},
		{"others untouched", func(s *Seen) { s.Tables[0].After.Rows = 4 }},
		{"others untouched", func(s *Seen) { s.Tables[0].After.Sum = "8" }},
		{"constraints", func(s *Seen) { s.Untriggered, s.Broken = true, []string{"1 of fare by key"} }},
		{"nothing elsewhere", func(s *Seen) { s.Counted = false }},
		{"nothing elsewhere", func(s *Seen) { s.Untriggered, s.Elsewhere = true, []string{"audit"} }},
	} {
		s := Seen{Tables: slices.Clone([]SeenTable{right}), Counted: true}
		c.change(&s)
		assert.Equal(t, []string{c.name}, failed(s))
	}
}
