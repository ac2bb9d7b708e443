package rescue

import (
	"fmt"
	"strings"
)

// LostColumns are columns of a table that were dropped and come back, with the values of the rows that are still there: these are known by
// the table's key. Of the table's Columns those of the key are first, and then these.
type LostColumns struct {
	Table
	Names []string
}

// Staging makes the temporary table into which the values are loaded, once the columns are there.
func (l *LostColumns) Staging() string {
	return fmt.Sprintf("create temporary table velvet_%d on commit drop as select %s from %s with no data", l.Stage,
		l.each(func(i int, c Column) string { return ident(c.Name) + " as " + onStage(i, c) }), l.From())
}

// Loading takes rows in the text form of COPY, and Reading gives them on the copy.
func (l *LostColumns) Loading() string {
	return fmt.Sprintf("copy %s (%s) from stdin", l.stage(), l.each(onStage))
}

// Reading reads the table of the copy, which was called so.
func (l *LostColumns) Reading(schema, name string) string {
	then := Table{Schema: schema, Name: name, Partitioned: l.Partitioned}
	return fmt.Sprintf("copy (select %s from %s) to stdout", l.each(func(_ int, c Column) string { return ident(c.Was) }), then.From())
}

// Filling gives every row that is still there its values.
func (l *LostColumns) Filling() string {
	set := make([]string, len(l.Names))
	for i, name := range l.Names {
		set[i] = ident(name) + " = s." + l.staged(name)
	}
	return fmt.Sprintf("update %s t set %s from %s s where %s", l.From(), strings.Join(set, ", "), l.stage(), l.sameKey(l.Key))
}

// Rest counts the rows, and adds up all of them but for these columns.
func (l *LostColumns) Rest() string {
	return fmt.Sprintf("select %s from %s t", sum(l.whole()), l.From())
}

// Filled counts the rows that are still there, and those of them that have their values.
func (l *LostColumns) Filled() string {
	values := func(alias string, name func(string) string) string {
		list := make([]string, len(l.Names))
		for i, n := range l.Names {
			list[i] = alias + "." + name(n)
		}
		return rowText(strings.Join(list, ", ")) + ` collate pg_catalog."C"`
	}
	return fmt.Sprintf("select pg_catalog.count(*), pg_catalog.count(*) filter (where %s) from %s s join %s t on %s",
		at(values("s", l.staged), values("t", ident)), l.stage(), l.From(), l.sameKey(l.Key))
}
