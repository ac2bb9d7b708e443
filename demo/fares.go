package demo

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/figures"
)

// fares is the moment before the second accident, in the DBA's words: fares had been changed before, but never so many.
const fares = "before the largest update of fare"

// secondAccident changes all fares, after some of them were meant to be, and finds that.
func (r *run) secondAccident(ctx context.Context) error {
	db, err := r.connect(ctx, "clerk", velvetPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	if _, err := db.Exec(ctx, "update fare set cents = cents + 50 where ticket = 'car'"); err != nil {
		return err
	}
	if err := r.traffic.await(ctx, 100); err != nil {
		return err
	}
	if r.fares, err = sumOfFares(ctx, db); err != nil {
		return err
	}
	tx, err := db.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	r.say("clerk=# BEGIN;\nclerk=# UPDATE fare SET cents = 1;  -- of one ticket of one crossing, it was to be\n")
	tag, err := tx.Exec(ctx, "update fare set cents = 1")
	if err != nil {
		return err
	}
	if err := r.traffic.await(ctx, 200); err != nil { // long enough for a look at who writes
		return err
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	r.say("%s\nclerk=# COMMIT;\n\n", tag)
	if err := r.traffic.await(ctx, 100); err != nil {
		return err
	}
	if err := r.seen(ctx); err != nil {
		return err
	}
	if err := r.velvet(ctx, "changes", "list", "ferries", "--incidents"); err != nil {
		return err
	}
	r.say("\n")
	return r.velvet(ctx, "moment", fares, "--cluster", "ferries")
}

// rewindAgain moves the copy, and holds its fares against those that were.
func (r *run) rewindAgain(ctx context.Context) error {
	if err := r.velvet(ctx, "copy", "step", copyName, fares); err != nil {
		return err
	}
	db, err := r.connectCopy(ctx)
	if err != nil {
		return err
	}
	if err := r.faresAreRight(ctx, db); err != nil {
		return err
	}
	r.say("\nAll fares of the copy come to %s cents, as they did before: those of cars as they had been raised.\n", figures.Count(r.fares))
	return nil
}

// faresAreRight holds the fares that a session sees against those of before the accident, and ends it.
func (r *run) faresAreRight(ctx context.Context, db *pgx.Conn) error {
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	sum, err := sumOfFares(ctx, db)
	if err == nil && sum != r.fares {
		err = fmt.Errorf("the fares come to %d cents, and came to %d before the accident", sum, r.fares)
	}
	return err
}

func sumOfFares(ctx context.Context, db *pgx.Conn) (sum int64, err error) {
	return sum, db.QueryRow(ctx, "select sum(cents) from fare").Scan(&sum)
}
