// Package velvetrewind holds the rules of the tree as tests.
package velvetrewind

import (
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
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "velvetrewind/"

// allowed says which rooms a room may import. Dependencies point one way:
// cmd → cli, service → engine → core.
var allowed = map[string][]string{
	"core":    {"core"},
	"api":     {"core/pg", "api"},
	"engine":  {"core", "engine"},
	"service": {"api", "core", "engine", "service", "console"},
	"cli":     {"api", "core", "engine/restore/feed", "cli"},
	"console": {},
	"demo":    {"core", "engine", "demo"},
	"testbed": {"core", "engine", "testbed"},
	"cmd":     {"cli", "service", "demo", "engine", "core"},
}

// rooms says which rooms of the engine a room may use, which of core's a core package may, and which of the service's one
// of the service may. Nothing climbs back up. What lies in the service's own folder connects them all.
var rooms = map[string][]string{
	"engine/host":    {},
	"engine/catalog": {"engine/host"},
	"engine/server":  {"engine/catalog", "engine/host"},
	"engine/spool":   {"engine/catalog", "engine/host"},
	"engine/store":   {"engine/catalog", "engine/host"},
	"engine/archive": {"engine/catalog", "engine/spool", "engine/store"},
	"engine/changes": {"engine/archive", "engine/catalog", "engine/server", "engine/store"},
	"engine/capture": {"engine/catalog", "engine/changes", "engine/host", "engine/server", "engine/spool", "engine/store"},
	"engine/backup": {"engine/archive", "engine/catalog", "engine/changes", "engine/host", "engine/server", "engine/spool",
		"engine/store"},
	"engine/restore": {"engine/archive", "engine/catalog", "engine/changes", "engine/host", "engine/server", "engine/store"},
	"engine/agent":   {"engine/host", "engine/restore", "engine/store"},
	"engine/prove": {
		"engine/archive",
		"engine/backup",
		"engine/catalog",
		"engine/changes",
		"engine/host",
		"engine/restore",
		"engine/server",
		"engine/store",
	},
	"engine/retrieve": {"engine/catalog", "engine/changes", "engine/host", "engine/restore", "engine/server"},
	"engine/upkeep":   {"engine/archive", "engine/backup", "engine/catalog", "engine/changes", "engine/store"},
	"engine/schedule": {"engine/catalog", "engine/upkeep"},

	"service/events":    {},
	"service/hosts":     {},
	"service/logins":    {},
	"service/problems":  {},
	"service/shapes":    {},
	"service/custody":   {},
	"service/planner":   {},
	"service/auth":      {"service/problems"},
	"service/metrics":   {"service/shapes"},
	"service/fleet":     {"service/shapes"},
	"service/tasks":     {"service/events", "service/problems"},
	"service/work":      {"service/custody", "service/events", "service/logins", "service/planner", "service/shapes", "service/tasks"},
	"service/automatic": {"service/fleet", "service/tasks", "service/work"},
	"service/handlers": {"service/auth", "service/custody", "service/events", "service/fleet", "service/hosts", "service/logins",
		"service/planner", "service/problems", "service/shapes", "service/tasks", "service/work"},

	"core/calendar":  {},
	"core/figures":   {},
	"core/handover":  {},
	"core/pg":        {},
	"core/problem":   {},
	"core/task":      {},
	"core/attention": {"core/figures"},
	"core/layout":    {"core/pg"},
	"core/reach":     {"core/pg"},
	"core/wal":       {"core/pg"},
	"core/value":     {"core/pg"},
	"core/blocks":    {"core/pg", "core/wal"},
	"core/rows":      {"core/pg", "core/value", "core/wal"},
	"core/journal":   {"core/blocks", "core/pg", "core/wal"},
	"core/inventory": {"core/pg", "core/reach"},
	"core/partial":   {"core/journal", "core/wal"},
	"core/repair":    {"core/blocks", "core/pg", "core/wal"},
	"core/moment":    {"core/journal", "core/pg", "core/wal"},
	"core/plan":      {"core/moment", "core/pg", "core/reach"},
	"core/proof":     {"core/figures", "core/journal", "core/moment", "core/pg"},
	"core/rehearsal": {"core/figures", "core/proof"},
	"core/rescue":    {"core/figures", "core/pg"},
	"core/keep":      {"core/figures", "core/inventory", "core/pg", "core/reach"},
	"core/readiness": {"core/attention", "core/figures", "core/pg"},
}

// impure are packages by which code reaches the outside: core imports none of them.
var impure = []string{"net", "os", "syscall", "database/sql", "log", "log/slog", "embed", "plugin", "runtime/debug", "golang.org/x/sys",
	"github.com/jackc", "github.com/jmoiron", "github.com/spf13"}

// eachImport visits what the program's files import; eachTestImport, below, what those of tests do.
func eachImport(t *testing.T, visit func(file, room, path string)) { walkImports(t, false, visit) }

func eachTestImport(t *testing.T, visit func(file, room, path string)) { walkImports(t, true, visit) }

func walkImports(t *testing.T, tests bool, visit func(file, room, path string)) {
	seen := 0
	err := filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && file != ".") {
			return filepath.SkipDir
		}
		if filepath.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") != tests {
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
		if own, ok := strings.CutPrefix(path, module); ok {
			to, known := allowed[room]
			require.True(t, known, "%s: the room %q is not in the plan", file, room)
			assert.True(t, slices.ContainsFunc(to, func(r string) bool { return within(own, r) }),
				"%s imports %s against the direction", file, path)
		}
	})
	// Tests may also stand on the beds of testbed; those of whole programs, in cmd and bench, on everything.
	eachTestImport(t, func(file, room, path string) {
		own, ok := strings.CutPrefix(path, module)
		if !ok || room == "cmd" || room == "bench" || room == file {
			return
		}
		to := append([]string{room, "testbed"}, allowed[room]...)
		assert.True(t, slices.ContainsFunc(to, func(r string) bool { return within(own, r) }), "%s imports %s against the direction", file,
			path)
	})
}

// innerRoom is the room of the engine, or of core, that a path lies in.
func innerRoom(path string) string {
	parts := strings.Split(filepath.ToSlash(path), "/")
	return strings.Join(parts[:min(2, len(parts))], "/")
}

// TestRoomsUseOnlyWhatTheyMay also holds that rooms permits nothing that nobody uses.
func TestRoomsUseOnlyWhatTheyMay(t *testing.T) {
	unused := make(map[string]bool)
	for from, to := range rooms {
		for _, room := range to {
			unused[from+" uses "+room] = true
		}
	}
	check := func(file, room, path string) {
		own, ok := strings.CutPrefix(path, module)
		if !ok || room != "engine" && room != "core" && room != "service" || !within(own, room) || filepath.Dir(file) == "service" {
			return
		}
		from, to := innerRoom(file), innerRoom(own)
		delete(unused, from+" uses "+to)
		assert.True(t, from == to || slices.Contains(rooms[from], to), "%s imports %s: rooms does not permit it", file, path)
	}
	eachImport(t, check)
	assert.Empty(t, unused, "rooms permits what nobody uses")
	eachTestImport(t, check)
}

// TestNoImportNeedsAnotherName holds that a package's name tells it apart from those beside it.
func TestNoImportNeedsAnotherName(t *testing.T) {
	renamed := regexp.MustCompile(`(?m)^\t[a-z]\w* "` + module + `.*"$`)
	assert.True(t, renamed.MatchString("\tcore \""+module+"core/keep\""), "one is found where it is")
	require.NoError(t, filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if d.IsDir() && d.Name() == "node_modules" {
			return filepath.SkipDir
		}
		if filepath.Ext(file) == ".go" {
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Empty(t, renamed.FindAllString(string(content), -1), "%s", file)
		}
		return nil
	}))
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
	assert.True(t, byVersion.MatchString("if c.Major() >= 17 {") && byVersion.MatchString("f.ServerVersion / 10000 < 15") &&
		byVersion.MatchString("version == 14"), "it is found where it is")
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
	grammar = strings.Fields("all and any array as by case cast coalesce exists extract filter from greatest lateral least not on " +
		"operator or over row select values when where with")

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
	rooms := []string{"backup", "capture", "prove", "restore/copies",
		"server/access", "server/names", "server/replication", "server/survey"}
	for _, room := range rooms {
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

// TestOnlyTheAPIHasItsTags keeps the shapes of the API in one place: what core and the engine work out is converted.
func TestOnlyTheAPIHasItsTags(t *testing.T) {
	tag := regexp.MustCompile("`[^`\n]*\\b(doc|enum|minimum|maximum|minLength|maxLength):\"")
	found := 0
	for _, room := range []string{"api", "core", "engine"} {
		require.NoError(t, filepath.WalkDir(room, func(file string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			if filepath.Ext(file) != ".go" {
				return nil
			}
			content, err := os.ReadFile(file)
			require.NoError(t, err)
			if n := len(tag.FindAll(content, -1)); room == "api" {
				found += n
			} else {
				assert.Zero(t, n, "%s has tags of the API", file)
			}
			return nil
		}))
	}
	assert.Greater(t, found, 200, "they are found where they are")
}

const (
	mostColumns = 140 // of a line, with a tab as four
	mostLines   = 500 // of a file
	mostOfOne   = 70  // lines of a function of the program
)

// TestNothingIsTooLong holds the measure of lines, files and functions. A tag of a field cannot be broken over lines; tests tell
// a story to its end.
func TestNothingIsTooLong(t *testing.T) {
	files := token.NewFileSet()
	require.NoError(t, filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && file != ".") {
			return filepath.SkipDir
		}
		if filepath.Ext(file) != ".go" {
			return nil
		}
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		lines := strings.Split(string(content), "\n")
		assert.LessOrEqual(t, len(lines), mostLines+1, file)
		for n, line := range lines {
			long := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")) > mostColumns
			assert.False(t, long && !strings.Contains(line, "`json:"), "%s:%d is longer than %d columns", file, n+1, mostColumns)
		}
		if strings.HasSuffix(file, "_test.go") {
			return nil
		}
		parsed, err := parser.ParseFile(files, file, content, 0)
		require.NoError(t, err)
		for _, declared := range parsed.Decls {
			if f, ok := declared.(*ast.FuncDecl); ok {
				long := files.Position(f.End()).Line - files.Position(f.Pos()).Line + 1
				assert.LessOrEqual(t, long, mostOfOne, "%s: %s is that many lines long", file, f.Name.Name)
			}
		}
		return nil
	}))
}
