// Package velvetrewind holds the rules of the tree as tests.
package velvetrewind

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "velvetrewind/"

// allowed says which rooms a room may import. Dependencies point one way:
// cmd → cli, service → engine → core.
var allowed = map[string][]string{
	"core":    {"core"},
	"engine":  {"core", "engine"},
	"service": {"core", "engine", "service", "console"},
	"cli":     {"core", "engine", "cli", "service/wire"},
	"console": {},
	"demo":    {"core", "engine", "demo"},
	"testbed": {"core", "engine", "testbed"},
	"cmd":     {"cli", "service", "demo", "engine", "core"},
}

// impure are packages by which code reaches the outside: core imports none of them.
var impure = []string{"net", "os", "syscall", "database/sql", "log", "log/slog", "embed", "plugin", "runtime/debug", "golang.org/x/sys", "github.com/jackc", "github.com/jmoiron", "github.com/spf13"}

func eachImport(t *testing.T, visit func(file, room, path string)) {
	seen := 0
	err := filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && file != ".") {
			return filepath.SkipDir
		}
		if filepath.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		room, _, _ := strings.Cut(filepath.ToSlash(file), "/")
		for _, i := range parsed.Imports {
			path, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			seen++
			visit(file, room, path)
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, seen, 100, "the tree was not found")
}

func within(path, room string) bool { return path == room || strings.HasPrefix(path, room+"/") }

func TestDependenciesPointOneWay(t *testing.T) {
	eachImport(t, func(file, room, path string) {
		own, ok := strings.CutPrefix(path, module)
		if !ok {
			return
		}
		rooms, known := allowed[room]
		require.True(t, known, "%s: the room %q is not in the plan", file, room)
		for _, r := range rooms {
			if within(own, r) {
				return
			}
		}
		assert.Fail(t, "an import against the direction", "%s imports %s", file, path)
	})
}

func TestCoreIsPure(t *testing.T) {
	eachImport(t, func(file, room, path string) {
		if room != "core" {
			return
		}
		for _, p := range impure {
			assert.False(t, within(path, p), "%s imports %s", file, path)
		}
	})
}

// TestOnlyHostStartsPrograms keeps the seam through which a database host is reached.
func TestOnlyHostStartsPrograms(t *testing.T) {
	eachImport(t, func(file, room, path string) {
		if path == "os/exec" && room != "demo" && room != "testbed" {
			assert.True(t, within(filepath.ToSlash(file), "engine/host"), "%s starts programs", file)
		}
	})
}

// byVersion is code that decides by a number of a version of PostgreSQL.
var byVersion = regexp.MustCompile(`(Major|[vV]ersion)(\(\)|\)| / 10000)? *(<|>|==|!=|<=|>=) *1[0-9](0000)?\b`)

// TestOnlyTheTableKnowsVersions keeps what differs between versions of PostgreSQL in core/pg.
func TestOnlyTheTableKnowsVersions(t *testing.T) {
	assert.True(t, byVersion.MatchString("if c.Major() >= 17 {") && byVersion.MatchString("f.ServerVersion / 10000 < 15") && byVersion.MatchString("version == 14"), "it is found where it is")
	seen := make(map[string]bool)
	eachImport(t, func(file, _, _ string) {
		if seen[file] || within(filepath.ToSlash(file), "core/pg") {
			return
		}
		seen[file] = true
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Empty(t, byVersion.FindString(string(content)), "%s decides by a version; put what differs into core/pg/version.go", file)
	})
}

// sqlString finds the strings that ask a server something, and unqualified the names in them that
// somebody else's object could stand for.
var (
	sqlString   = regexp.MustCompile("(?s)`[^`]*`|\"(?:[^\"\\\\\n]|\\\\.)*\"")
	asks        = regexp.MustCompile(`(?i)\bselect\b`)
	unqualified = regexp.MustCompile(`(?:^|[^\w.'"])(pg_[a-z_]+)`)
	called      = regexp.MustCompile(`(?:^|[^\w.'"])([a-z_][a-z0-9_]*)\(`)
	// What looks like a call and is none, for the grammar has it.
	grammar = strings.Fields("all and any array as by case cast coalesce exists extract filter from greatest lateral least not on operator or over row select values when where with")

	literal   = regexp.MustCompile(`'[^']*'`)
	qualified = regexp.MustCompile(`operator\(pg_catalog\.[^)]+\)|\(\*\)|::|(?:^|[^\w)]\s*)-\d`) // and what is no operator
	operators = regexp.MustCompile(`(?i)[-+*/<>=~!@#%^&|]+|\b(?:in\s*\(|nullif|i?like|similar to|between|distinct from|natural|using)`)
	types     = regexp.MustCompile(`::(\w+)(\.?)`)
	own       = strings.Fields("bigint int smallint") // types that the grammar has
)

// TestNamesAreQualified holds what is asked of protected servers and of copies: every name, type and
// operator of the system is written with its schema, beside the search path that their sessions pin.
func TestNamesAreQualified(t *testing.T) {
	found := 0
	for _, room := range []string{"access", "backup", "capture", "copies", "names", "prove", "readiness", "replication"} {
		files, err := filepath.Glob(filepath.Join("engine", room, "*.go"))
		require.NoError(t, err)
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			for _, text := range sqlString.FindAllString(string(content), -1) {
				if !asks.MatchString(text) {
					continue
				}
				found++
				for _, name := range unqualified.FindAllStringSubmatch(text, -1) {
					assert.Equal(t, "pg_catalog", name[1], "%s: in %s", file, text)
				}
				for _, name := range called.FindAllStringSubmatch(text, -1) {
					assert.Contains(t, grammar, name[1], "%s: a function without its schema, in %s", file, text)
				}
				bare := qualified.ReplaceAllString(literal.ReplaceAllString(strings.Trim(text, "`\""), "''"), " ")
				assert.Empty(t, operators.FindAllString(bare, -1), "%s: an operator without its schema, in %s", file, text)
				for _, name := range types.FindAllStringSubmatch(text, -1) {
					assert.Contains(t, append(own, "pg_catalog"), name[1], "%s: a type without its schema, in %s", file, text)
				}
			}
		}
	}
	assert.Greater(t, found, 20)
}
