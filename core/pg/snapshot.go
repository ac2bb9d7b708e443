package pg

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Snapshot says which transactions were over when it was taken: those before Min, and of those before Max all that were not
// running.
type Snapshot struct {
	Min, Max FullXID
	Running  []FullXID
}

// Sees tells whether a transaction was over.
func (s Snapshot) Sees(x FullXID) bool {
	return x < s.Min || x < s.Max && !slices.Contains(s.Running, x)
}

// ParseSnapshot reads what the type pg_snapshot writes: min:max:running,running
func ParseSnapshot(text string) (s Snapshot, err error) {
	parts := strings.Split(text, ":")
	if len(parts) != 3 {
		return s, fmt.Errorf("%q is no snapshot", text)
	}
	number := func(t string) (x FullXID) {
		n, e := strconv.ParseUint(t, 10, 64)
		if e != nil {
			err = fmt.Errorf("%q is no snapshot: %w", text, e)
		}
		return FullXID(n)
	}
	s.Min, s.Max = number(parts[0]), number(parts[1])
	if parts[2] != "" {
		for _, t := range strings.Split(parts[2], ",") {
			s.Running = append(s.Running, number(t))
		}
	}
	return s, err
}
