package trail_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"velvetrewind/core/trail"
)

func read(list []trail.Entry) (c trail.Chain, err error) {
	for _, e := range list {
		if err = c.Add(e); err != nil {
			return c, err
		}
	}
	return c, nil
}

// TestChain has a trail read whole, and with any one entry changed, removed, doubled or out of its place.
func TestChain(t *testing.T) {
	text := rapid.StringMatching(`[a-z",\[\]]{0,4}`)
	rapid.Check(t, func(t *rapid.T) {
		var list []trail.Entry
		last := ""
		for n := range rapid.IntRange(2, 8).Draw(t, "entries") {
			e := trail.Entry{Number: int64(n + 1), At: time.Unix(1764000000+int64(n), 123456000), Who: text.Draw(t, "who"),
				From: text.Draw(t, "from"), Did: text.Draw(t, "did"), Cluster: text.Draw(t, "cluster"), Subject: text.Draw(t, "subject"),
				Outcome: text.Draw(t, "outcome")}.Seal(last)
			list, last = append(list, e), e.Hash
		}
		c, err := read(list)
		require.NoError(t, err)
		assert.Equal(t, trail.Chain{Count: int64(len(list)), Last: last}, c)
		at := rapid.IntRange(0, len(list)-2).Draw(t, "at") // not the newest, whose loss only a noted hash shows
		for name, change := range map[string]func(l []trail.Entry) []trail.Entry{
			"a name changed": func(l []trail.Entry) []trail.Entry {
				l[at].Who += "x"
				return l
			},
			"an outcome changed":  func(l []trail.Entry) []trail.Entry { l[at].Outcome += "!"; return l },
			"a time changed":      func(l []trail.Entry) []trail.Entry { l[at].At = l[at].At.Add(time.Microsecond); return l },
			"an entry removed":    func(l []trail.Entry) []trail.Entry { return slices.Delete(l, at, at+1) },
			"an entry twice":      func(l []trail.Entry) []trail.Entry { return slices.Insert(l, at, l[at]) },
			"two entries swapped": func(l []trail.Entry) []trail.Entry { l[at], l[at+1] = l[at+1], l[at]; return l },
			"one sealed anew": func(l []trail.Entry) []trail.Entry {
				before := ""
				if at > 0 {
					before = l[at-1].Hash
				}
				l[at].Outcome += "!"
				l[at] = l[at].Seal(before)
				return l
			},
		} {
			_, err := read(change(slices.Clone(list)))
			assert.Error(t, err, name)
		}
	})
}
