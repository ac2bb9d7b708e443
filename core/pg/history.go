package pg

import (
	"bufio"
	"bytes"
	"fmt"
	"strconv"
	"strings"
)

// Fork is one line of a timeline history file: the timeline that was left and
// the LSN at which its child began.
type Fork struct {
	Timeline Timeline
	At       LSN
}

// LastShared is the fork in one history that leaves the newest timeline on the way to another, where both ways are one up to there;
// -1 if there is none.
func LastShared(one, other []Fork) int {
	last := -1
	for i := range min(len(one), len(other)) {
		if one[i].Timeline != other[i].Timeline {
			break
		}
		if last = i; one[i].At != other[i].At {
			break
		}
	}
	return last
}

// HistoryName is the file name of a timeline's history: "00000002.history".
func HistoryName(t Timeline) string { return fmt.Sprintf("%08X.history", uint32(t)) }

// ParseHistoryName is the inverse of HistoryName.
func ParseHistoryName(name string) (Timeline, bool) {
	digits, ok := strings.CutSuffix(name, ".history")
	if !ok || len(digits) != 8 {
		return 0, false
	}
	v, err := strconv.ParseUint(digits, 16, 32)
	return Timeline(v), err == nil && v > 1
}

// ParseHistory reads the history file of a timeline (timeline.c): one line for each
// ancestor, oldest first, "timeline <tab> LSN <tab> reason"; '#' starts a comment.
// Ancestors have smaller numbers, so that whoever follows them comes to an end.
func ParseHistory(of Timeline, content []byte) ([]Fork, error) {
	var forks []Fork
	lines := bufio.NewScanner(bytes.NewReader(content))
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimSpace(lines.Text())
		if text == "" || strings.HasPrefix(text, "#") {
			continue
		}
		fields := strings.Fields(text)
		if len(fields) < 2 {
			return nil, fmt.Errorf("timeline history, line %d: timeline and LSN expected, got %q", n, text)
		}
		t, err := strconv.ParseUint(fields[0], 10, 32)
		if err != nil {
			return nil, fmt.Errorf("timeline history, line %d: %q is not a timeline", n, fields[0])
		}
		at, err := ParseLSN(fields[1])
		if err != nil {
			return nil, fmt.Errorf("timeline history, line %d: %w", n, err)
		}
		if len(forks) > 0 && Timeline(t) <= forks[len(forks)-1].Timeline {
			return nil, fmt.Errorf("timeline history, line %d: timeline %d does not follow %d", n, t, forks[len(forks)-1].Timeline)
		}
		if Timeline(t) >= of {
			return nil, fmt.Errorf("timeline history, line %d: timeline %d is no ancestor of %d", n, t, of)
		}
		forks = append(forks, Fork{Timeline: Timeline(t), At: at})
	}
	return forks, lines.Err()
}
