package retrieve

import (
	"context"

	"velvetrewind/core/problem"
	"velvetrewind/engine/restore/copies"
)

// confine lets a condition of the user's be part of what is asked: nothing can be written meanwhile, and on the copy it has no more
// rights than the registered role, for there all else is asked as its superuser.
func (s *session) confine(ctx context.Context, where string) error {
	if where == "" {
		return nil
	}
	if s.tx != nil {
		if _, err := s.tx.Exec(ctx, "set transaction read only"); err != nil {
			return err
		}
	}
	role, err := s.Access.Role()
	if err != nil {
		return err
	}
	var database string
	if err := s.old.QueryRow(ctx, "select pg_catalog.current_database()").Scan(&database); err != nil {
		return err
	}
	conn, err := copies.ConnectAs(ctx, s.Host, s.Copy, role, database)
	if err != nil {
		return problem.New(problem.Conflict, "Leave the condition out.", "nothing was read",
			"a condition is looked at on the copy as %s, which cannot log in there: %v", role, err)
	}
	_ = s.old.Close(ctx)
	s.old = conn
	_, err = conn.Exec(ctx, texts+"; set default_transaction_read_only = on")
	return err
}
