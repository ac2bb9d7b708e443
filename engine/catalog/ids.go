package catalog

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/oklog/ulid/v2"

	"velvetrewind/core/problem"
)

// NewID makes an id: a ULID, which sorts by the time it was made. Its end is random, so that a
// few characters of it tell it from the others.
func NewID() string { return strings.ToLower(ulid.Make().String()) }

// ValidID tells whether an id can have been made by NewID.
func ValidID(id string) bool {
	_, err := ulid.ParseStrict(strings.ToUpper(id))
	return err == nil && id == strings.ToLower(id)
}

const (
	shortestPart = 4 // characters of an id that may stand for it
	mostChoices  = 5 // ids that are listed when a part is ambiguous
)

// get reads one row by its id, or by an unambiguous beginning or end of it. query has the id
// as $1; ids selects the ids that a part may stand for.
func (c *Catalog) get(ctx context.Context, into any, query, ids, given, what, next string) error {
	err := c.db.GetContext(ctx, into, query, given)
	if errors.Is(err, sql.ErrNoRows) {
		var id string
		if id, err = c.whole(ctx, ids, given, what); err == nil {
			err = c.db.GetContext(ctx, into, query, id)
		}
	}
	return found(err, what, given, next)
}

// whole finds the id of which part is an unambiguous beginning or end; sql.ErrNoRows if there is none.
func (c *Catalog) whole(ctx context.Context, ids, part, what string) (string, error) {
	if len(part) < shortestPart {
		return "", sql.ErrNoRows
	}
	var list []string
	err := c.db.SelectContext(ctx, &list, `select id from (`+ids+`) t where starts_with(id, $1) or right(id, length($1)) = $1
		order by id desc limit $2`, strings.ToLower(part), mostChoices+1)
	switch {
	case err != nil:
		return "", err
	case len(list) == 0:
		return "", sql.ErrNoRows
	case len(list) > 1:
		more := ""
		if len(list) > mostChoices {
			list, more = list[:mostChoices], "\n…"
		}
		return "", problem.New(problem.Ambiguous, "Write more of it. It can be:\n"+strings.Join(list, "\n")+more, "the id is ambiguous",
			"%q can stand for more than one %s", part, what)
	}
	return list[0], nil
}
