package pg

import (
	"fmt"
	"slices"
	"strings"
)

// AdmitOnly gives what a pg_hba.conf admits of some roles, and of no others: its lines for all roles or for one of these, in their
// order, each for those roles alone. It is an error if no line admits any, or if other files are included, of which nothing is known
// (PostgreSQL's documentation, "The pg_hba.conf File").
func AdmitOnly(content string, roles []string) (string, error) {
	var kept strings.Builder
	for line := range strings.Lines(strings.ReplaceAll(content, "\\\n", " ")) { // a line may go on
		kind, at := hbaField(line, 0)
		if len(kind) == 0 {
			continue
		}
		if strings.HasPrefix(kind[0], "include") {
			return "", fmt.Errorf("it includes other files: %s", strings.TrimSpace(line))
		}
		_, before := hbaField(line, at)
		names, after := hbaField(line, before)
		if len(names) == 0 {
			return "", fmt.Errorf("its line %q names no role", strings.TrimSpace(line))
		}
		var admitted []string
		for _, r := range roles {
			quoted := `"` + strings.ReplaceAll(r, `"`, `""`) + `"`
			if slices.Contains(names, "all") || slices.Contains(names, r) || slices.Contains(names, quoted) {
				admitted = append(admitted, quoted)
			}
		}
		if len(admitted) > 0 {
			fmt.Fprintf(&kept, "%s\t%s\t%s\n", line[:before], strings.Join(admitted, ","), strings.TrimSpace(line[after:]))
		}
	}
	if kept.Len() == 0 {
		return "", fmt.Errorf("it has no line for all roles or for %s", strings.Join(roles, " or "))
	}
	return kept.String(), nil
}

// hbaField reads the list of words, as they are written, that follows on a place of a line, and tells where it ends; none where
// only a comment or nothing follows.
func hbaField(line string, at int) (list []string, end int) {
	for {
		at += len(line[at:]) - len(strings.TrimLeft(line[at:], " \t\r\n"))
		n := hbaWord(line[at:])
		if n == 0 {
			return list, at
		}
		list = append(list, line[at:at+n])
		at += n
		if at == len(line) || line[at] != ',' {
			return list, at
		}
		at++
	}
}

// hbaWord is how long the word is that a text begins with.
func hbaWord(text string) int {
	quoted := false
	for n := range len(text) {
		switch {
		case text[n] == '"':
			quoted = !quoted
		case !quoted && strings.IndexByte(" \t\r\n,#", text[n]) >= 0:
			return n
		}
	}
	return len(text)
}
