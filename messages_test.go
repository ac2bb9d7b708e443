package velvetrewind

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// unsaid are phrases that no message, page or document has any more, and what is said instead.
var unsaid = map[string]string{
	`\blet(s|ting)? (them |it |the rest |everything )?go\b`: "delete",
	`\bmend(s|ed|ing)?\b`:                               `fix, repair`,
	`(stops|lies|comes|begins|goes on|stands) behind\b`: "after",
	`needs? a person|needy`:                             "needs attention",
	`costs? something`:                                  "prevents a restore",
	`leads through it`:                                  "uses it",
	`kept back|keeps .{0,20}WAL back`:                   "retained by the slot",
	`never-ending`:                                      "continuous",
	`recurs no more`:                                    "was removed from the calendar",
	`Everything there is is`:                            "Everything is still needed",
	`not looked (after|through)`:                        "failed",
	`is told to end`:                                    "is being cancelled",
	`It was meant`:                                      "Intended",
	`\bdeeds?\b`:                                        "operation",
	`gone for good`:                                     "permanently deleted",
	`tier=gold`:                                         "fleet=outer",
	`--(store-keys|needy|mend|copies-keys)\b`:           "the new option",
}

// message is a text that a user can meet, and where it is made.
type message struct{ file, text string }

// TestWords reads every text that a user can meet. With VELVET_MESSAGES=FILE it writes them there as a table, to be read
// from top to bottom.
func TestWords(t *testing.T) {
	var all []message
	for _, room := range []string{"api", "cli", "cmd/velvet", "core", "demo", "engine", "service"} {
		all = append(all, messagesOf(t, room)...)
	}
	require.Greater(t, len(all), 1000)
	for _, pattern := range []string{"README.md", "docs/*.md", "console/src/*.ts*", "console/src/*/*.ts*"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			if !strings.HasSuffix(file, "schema.ts") {
				all = append(all, message{file, string(content)})
			}
		}
	}
	for phrase, instead := range unsaid {
		wrong := regexp.MustCompile(phrase)
		for _, m := range all {
			assert.Empty(t, wrong.FindString(m.text), "%s: say %q instead", m.file, instead)
		}
	}
	if to := os.Getenv("VELVET_MESSAGES"); to != "" {
		var table strings.Builder
		for _, m := range all {
			if strings.HasSuffix(m.file, ".go") {
				fmt.Fprintf(&table, "%-34s %s\n", m.file, strings.ReplaceAll(m.text, "\n", "⏎"))
			}
		}
		require.NoError(t, os.WriteFile(to, []byte(table.String()), 0o600))
	}
}

// messagesOf gathers the texts of more than one word in a room's code, and what its tags say of fields.
func messagesOf(t *testing.T, room string) (list []message) {
	require.NoError(t, filepath.WalkDir(room, func(file string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if filepath.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		require.NoError(t, err)
		ast.Inspect(parsed, func(n ast.Node) bool {
			e, ok := n.(ast.Expr)
			if !ok {
				return true
			}
			text, ok := literalOf(e)
			if ok && strings.Count(strings.TrimSpace(text), " ") > 0 {
				list = append(list, message{file, text})
			}
			return !ok
		})
		return nil
	}))
	isSQL := regexp.MustCompile(`^\s*(select|insert|update|delete|with|create|alter|set|truncate|analyze|,|from|where|and)\b`)
	return slices.DeleteFunc(list, func(m message) bool { return isSQL.MatchString(m.text) })
}

// literalOf is the text of a literal, or of several that are put together.
func literalOf(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(e.Value)
		return text, err == nil && e.Kind == token.STRING
	case *ast.BinaryExpr:
		left, okLeft := literalOf(e.X)
		right, okRight := literalOf(e.Y)
		if e.Op != token.ADD || !okLeft && !okRight {
			return "", false
		}
		if !okLeft {
			left = "…"
		}
		if !okRight {
			right = "…"
		}
		return left + right, true
	}
	return "", false
}
