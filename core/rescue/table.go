// Package rescue works out how the rows that one transaction took come back into the live cluster.
//
// Invariant: a row of the live cluster that somebody has changed since is never overwritten unless a rule names it; what
// the statements write is what the plan has counted. Reading the rows, running the statements and what they may run of
// other people's is left to the caller.
package rescue

import (
	"strconv"
	"strings"
)

// Table is a table of the live cluster into which rows come back, and where they wait for that.
type Table struct {
	OID          uint32
	Schema, Name string
	Partitioned  bool
	Columns      []Column    // that are brought, in the order of the copy
	All          []string    // all that live has, but for those that are calculated as they are read
	Key          []KeyColumn // of its primary key, or of another that admits no NULL; none without
	Parents      []Reference
	Unique       []Unique // other unique keys, of plain columns
	Sequences    []Sequence
	Stage        int // number of the temporary table
}

// Column is one that is brought.
type Column struct {
	Name   string
	Was    string // its name on the copy
	Always bool   // GENERATED ALWAYS AS IDENTITY: no UPDATE may set it
}

// KeyColumn is a column of a key, with the operator by which the key's index compares it, as SQL names it in full.
type KeyColumn struct{ Name, Equal string }

// Unique is a unique key.
type Unique struct {
	Name    string
	Columns []KeyColumn
}

// Reference is a foreign key.
type Reference struct {
	Name    string
	Parent  *Table    // one that is rescued too; nil for another
	Of      [2]string // schema and name of the referenced table
	Columns []KeyColumn
	To      []string // the referenced columns, in the same order
}

// Sequence is one that a column owns.
type Sequence struct{ Schema, Name, Column string }

// What the transaction did to a row.
const (
	Deleted = 'd'
	Updated = 'u'
	Removed = 't' // with all others, by TRUNCATE or DROP
)

// How a row that was staged stands in the live cluster.
const (
	Missing     = "m" // it is not there
	Overwritten = "o" // it is as the transaction has left it
	Right       = "r" // it is as it was before
	Changed     = "c" // somebody has changed it since, or made it anew
	Gone        = "g" // updated by the transaction, and not there since
	Orphan      = "p" // what it refers to is gone
	Taken       = "x" // another row has its unique key now
)

// ident quotes a name.
func ident(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

// Literal quotes a text for SQL.
func Literal(s string) string {
	if strings.Contains(s, `\`) {
		return ` E'` + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(s) + `'`
	}
	return `'` + strings.ReplaceAll(s, `'`, `''`) + `'`
}

// String is the table's name as a person writes it.
func (t *Table) String() string { return t.Schema + "." + t.Name }

// SQL is the table's name.
func (t *Table) SQL() string { return ident(t.Schema) + "." + ident(t.Name) }

// From is the table in FROM: its own rows and, where it is partitioned, those of its partitions.
func (t *Table) From() string {
	if t.Partitioned {
		return t.SQL()
	}
	return "only " + t.SQL()
}

// stage is the temporary table.
func (t *Table) stage() string { return "pg_temp.velvet_" + strconv.Itoa(t.Stage) }

// staged is the name of a brought column there; "" if it is not brought.
func (t *Table) staged(column string) string {
	for i, c := range t.Columns {
		if c.Name == column {
			return "c" + strconv.Itoa(i+1)
		}
	}
	return ""
}

// Brings tells whether all of some columns are brought.
func (t *Table) Brings(columns []KeyColumn) bool {
	for _, c := range columns {
		if t.staged(c.Name) == "" {
			return false
		}
	}
	return true
}
