package retrieve

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/journal"
	"velvetrewind/core/problem"
)

// definition is the SQL that makes a dropped table anew: what must be there before its rows, and what follows them.
type definition struct {
	table               need
	before, after, last []string
	indexes             []uint32 // oids on the copy
}

// need is an object that a table rests on or that went with it: it is made where the live cluster lacks it.
type need struct{ What, Name, SQL string }

// present asks the live cluster for an object by its name.
var present = map[string]string{
	"schema":      "select pg_catalog.to_regnamespace($1) is not null",
	"type":        "select pg_catalog.to_regtype($1) is not null",
	"relation":    "select pg_catalog.to_regclass($1) is not null",
	"function":    "select pg_catalog.to_regprocedure($1) is not null",
	"extension":   "select exists (select from pg_catalog.pg_extension where pg_catalog.quote_ident(extname) operator(pg_catalog.=) $1)",
	"publication": "select exists (select from pg_catalog.pg_publication where pg_catalog.quote_ident(pubname) operator(pg_catalog.=) $1)",
	"constraint":  "", // of another table, which may be gone as well
}

// define reads from the copy how a table, with its partitions, was defined. Everything is written by the copy's own server, whose
// search_path makes it name all that is not the system's in full.
func (s *session) define(ctx context.Context, table uint32) (d definition, err error) {
	ask := func(to *[]string, query string) {
		if err != nil {
			return
		}
		var rows pgx.Rows
		if rows, err = s.old.Query(ctx, query, table); err != nil {
			return
		}
		var list []string
		if list, err = pgx.CollectRows(rows, pgx.RowTo[string]); err == nil {
			*to = append(*to, list...)
		}
	}
	lacking := func(to *[]string, query string) {
		if err != nil {
			return
		}
		var list []need
		if list, err = s.lacking(ctx, query, table); err == nil {
			for _, n := range list {
				*to = append(*to, n.SQL)
			}
		}
	}
	rows, err := s.old.Query(ctx, own+"select i.indexrelid from own join pg_catalog.pg_index i on i.indrelid = own.oid", table)
	if err != nil {
		return d, err
	}
	if d.indexes, err = pgx.CollectRows(rows, pgx.RowTo[uint32]); err != nil {
		return d, err
	}
	lacking(&d.before, schemasOf)
	lacking(&d.before, typesOf)
	lacking(&d.before, columnFunctionsOf)
	ask(&d.before, sequencesOf)
	ask(&d.before, tablesOf)
	ask(&d.before, sequencesOwned)
	ask(&d.after, indexesOf)
	ask(&d.after, constraintsOf)
	ask(&d.after, settingsOf)
	ask(&d.after, ownersOf)
	lacking(&d.last, foreignKeysOf)
	lacking(&d.last, functionsOf)
	ask(&d.last, triggersOf)
	ask(&d.last, policiesOf)
	ask(&d.last, publicationsOf(s.Cluster.Version().PublishedParts))
	lacking(&d.last, viewsOf)
	ask(&d.last, commentsOf)
	return d, err
}

// lacking lists what a query finds on the copy and the live cluster does not have.
func (s *session) lacking(ctx context.Context, query string, table uint32) (list []need, err error) {
	rows, err := s.old.Query(ctx, query, table)
	if err != nil {
		return nil, err
	}
	all, err := pgx.CollectRows(rows, pgx.RowToStructByPos[need])
	if err != nil {
		return nil, err
	}
	for _, n := range all {
		there, err := s.there(ctx, n)
		if err != nil {
			return nil, err
		}
		if !there {
			list = append(list, n)
		}
	}
	return list, nil
}

// there tells whether the live cluster has an object. Older servers refuse to look for a type, or a function of such, in a schema that
// is not there.
func (s *session) there(ctx context.Context, n need) (there bool, err error) {
	ask := present[n.What]
	if ask == "" {
		return false, nil
	}
	refused, err := s.attempt(ctx, func() error { return s.tx.QueryRow(ctx, ask, n.Name).Scan(&there) })
	if refused != nil && !hasCode(refused, "3F000") && !hasCode(refused, "42704") {
		return false, refused
	}
	return there, err
}

// attempt does something of which, if the live cluster refuses it, nothing is left, nor of the savepoint: what is written after it is
// the transaction's own.
func (s *session) attempt(ctx context.Context, do func() error) (refused, err error) {
	if _, err := s.tx.Exec(ctx, "savepoint attempt"); err != nil {
		return nil, err
	}
	err = do()
	var said *pgconn.PgError
	if errors.As(err, &said) {
		_, failed := s.tx.Exec(ctx, "rollback to savepoint attempt; release savepoint attempt")
		return err, failed
	}
	if err == nil {
		_, err = s.tx.Exec(ctx, "release savepoint attempt")
	}
	return nil, err
}

// make makes a dropped table anew, with nothing in it; what belongs after its rows is kept for finish.
func (s *session) make(ctx context.Context, old *relation) error {
	d, err := s.define(ctx, old.OID)
	if err != nil {
		return err
	}
	if err := s.mayMake(ctx, old); err != nil {
		return err
	}
	d.table = need{What: "relation", Name: pgx.Identifier{old.Schema, old.Name}.Sanitize()}
	s.made = append(s.made, d)
	s.plan.Made = append(s.plan.Made, old.Schema+"."+old.Name)
	for _, sql := range d.before {
		if err := s.do(ctx, sql); err != nil {
			return fmt.Errorf("%w\n(%s)", err, sql)
		}
	}
	return nil
}

// mayMake refuses to make as a superuser what belongs to others: their functions would be called as indexes, constraints, generated
// columns and materialized views are filled, and not only by triggers.
func (s *session) mayMake(ctx context.Context, old *relation) error {
	super, err := s.superuser(ctx)
	if err != nil || !super || s.Trust {
		return err
	}
	var others []string
	rows, err := s.old.Query(ctx, ownersAround, old.OID)
	if err == nil {
		others, err = pgx.CollectRows(rows, pgx.RowTo[string])
	}
	if err != nil || len(others) == 0 {
		return err
	}
	return problem.New(problem.Conflict, "Give the login of "+others[0]+" (--as), or trust those whose code it is (--trust-code).", title,
		"%s.%s, or a view on it, belongs to %s; making it anew would call their functions with the rights of a superuser", old.Schema,
		old.Name, strings.Join(others, ", "))
}

// remakes tells whether what makes the dropped tables anew makes an object, too, by its name.
func (s *session) remakes(n journal.Name) bool {
	name := `"?` + regexp.QuoteMeta(strings.ReplaceAll(n.Table, `"`, `""`)) + `"?`
	word := regexp.MustCompile(`(?i)\b(view|index|sequence name|sequence|function|rule) ("?` + regexp.QuoteMeta(n.Schema) + `"?\.)?` +
		name + `[ (;]`)
	for _, d := range s.made {
		if n.Part == journal.IndexItself && slices.Contains(d.indexes, n.OID) ||
			slices.ContainsFunc(slices.Concat(d.before, d.after, d.last), word.MatchString) {
			return true
		}
	}
	key := regexp.MustCompile(" add constraint " + name + " ")
	return n.Part == journal.IndexItself && slices.ContainsFunc(s.lost, func(l *lostColumns) bool {
		return slices.ContainsFunc(l.after, key.MatchString)
	})
}

// finish makes what belongs to the tables that were made anew: first the keys of all, then what refers to them, and other objects.
func (s *session) finish(ctx context.Context) error {
	if len(s.made) == 0 {
		return s.finishObjects(ctx)
	}
	if err := s.do(ctx, "set local check_function_bodies = off"); err != nil {
		return err
	}
	var list, last []string
	for _, d := range s.made {
		list = append(list, d.after...)
	}
	for _, d := range s.made {
		for _, sql := range d.last {
			if !slices.Contains(last, sql) { // a key between two of them is told by both
				last = append(last, sql)
			}
		}
	}
	for _, sql := range list {
		if err := s.do(ctx, sql); err != nil {
			return problem.Wrap(err, problem.Conflict, title, "This is what it refused: "+sql)
		}
	}
	left, why, err := s.settle(ctx, last)
	if err != nil {
		return err
	}
	if len(left) > 0 {
		return problem.Wrap(why, problem.Conflict, title, "This is what it refused: "+left[len(left)-1])
	}
	return s.finishObjects(ctx)
}

// settle runs statements of which some need what others make, in whatever order they can be. Those that cannot are left, and why is
// what was said of the last one.
func (s *session) settle(ctx context.Context, list []string) (left []string, why, err error) {
	left = list
	for before := len(left) + 1; len(left) > 0 && len(left) < before; {
		before = len(left)
		now := left
		left = nil
		for _, sql := range now {
			refused, err := s.attempt(ctx, func() error { return s.do(ctx, sql) })
			if err != nil {
				return nil, nil, err
			}
			if refused != nil {
				left, why = append(left, sql), refused
			}
		}
	}
	return left, why, nil
}
