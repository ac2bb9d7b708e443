package demo

import (
	"context"
	"fmt"
	"os"
	"time"

	"velvetrewind/core/figures"
)

// rescue brings back what the transaction after a moment took, as the owner of the tables.
func (r *run) rescue(ctx context.Context, moment string, more ...string) error {
	password := r.path("owner.password")
	if err := os.WriteFile(password, []byte(ferriesPassword+"\n"), 0o600); err != nil {
		return err
	}
	return r.velvet(ctx, append([]string{"rescue", "apply", "ferries", moment, "--confirm", "ferries", "--as", "harbourmaster",
		"--as-password-file", password}, more...)...)
}

// bookingsHome brings the bookings back while others are made, and holds live against the copy and what was booked since.
func (r *run) bookingsHome(ctx context.Context) error {
	if err := r.velvet(ctx, "rescue", "plan", "ferries", lost); err != nil {
		return err
	}
	r.say("\n")
	booked := r.traffic.acknowledged()
	if err := r.rescue(ctx, lost); err != nil {
		return err
	}
	copied, err := r.connectCopy(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = copied.Close(context.WithoutCancel(ctx)) }()
	live, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = live.Close(context.WithoutCancel(ctx)) }()
	var last, then, now, since int64
	if err := copied.QueryRow(ctx, "select max(id), count(*) from booking").Scan(&last, &then); err != nil {
		return err
	}
	const query = "select count(*) filter (where id <= $1), count(*) filter (where id > $1) from booking"
	if err := live.QueryRow(ctx, query, last).Scan(&now, &since); err != nil {
		return err
	}
	if now < then {
		return fmt.Errorf("the copy has %d bookings, of which %d are back", then, now)
	}
	if err := r.traffic.await(ctx, 50); err != nil { // they went on all the while
		return err
	}
	r.say("\nAll %s bookings are back in the database itself, with their passengers and payments; %s made since then stand beside them. "+
		"Customers had %s when it began, and %s now.\n", figures.Count(then), figures.Count(since), figures.Count(int64(booked)),
		figures.Count(int64(r.traffic.acknowledged())))
	return nil
}

// faresHome brings the fares back, but for two that somebody has corrected by hand.
func (r *run) faresHome(ctx context.Context) error {
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	r.say("clerk=# UPDATE fare SET cents = 999 WHERE id IN (7, 8);  -- two were noticed at the counter\n\n")
	if _, err := db.Exec(ctx, "update fare set cents = 999 where id in (7, 8)"); err != nil {
		return err
	}
	if err := r.rescue(ctx, fares, "--settle", "keep-live"); err != nil {
		return err
	}
	var others, corrected int64
	query := "select sum(cents) filter (where id not in (7, 8)), count(*) filter (where id in (7, 8) and cents = 999) from fare"
	if err := db.QueryRow(ctx, query).Scan(&others, &corrected); err != nil {
		return err
	}
	copied, err := r.connectCopy(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = copied.Close(context.WithoutCancel(ctx)) }()
	var were int64
	if err := copied.QueryRow(ctx, "select sum(cents) from fare where id not in (7, 8)").Scan(&were); err != nil {
		return err
	}
	if others != were || corrected != 2 {
		return fmt.Errorf("the fares come to %d cents, and came to %d; %d of those that were corrected stand", others, were, corrected)
	}
	r.say("\nThe fares come to %s cents again, and the two that were corrected are as they were corrected.\n", figures.Count(others))
	r.fares, err = sumOfFares(ctx, db)
	return err
}

// tableHome has a table be dropped with what hung on it, and come back with that.
func (r *run) tableHome(ctx context.Context) error {
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	const count = "select count(*) from crew.roster"
	var before, after int64
	if err := db.QueryRow(ctx, count).Scan(&before); err != nil {
		return err
	}
	r.say("clerk=# DROP TABLE crew.shift CASCADE;\n\n")
	if _, err := db.Exec(ctx, "drop table crew.shift cascade"); err != nil {
		return err
	}
	if err := r.seen(ctx); err != nil {
		return err
	}
	if err := r.rescue(ctx, "before drop of crew.shift"); err != nil {
		return err
	}
	if err := db.QueryRow(ctx, count).Scan(&after); err != nil {
		return err
	}
	if after != before {
		return fmt.Errorf("the roster has %d rows, and had %d", after, before)
	}
	r.say("\ncrew.shift is back, and the view on it shows %s shifts as before.\n", figures.Count(after))
	return r.velvet(ctx, "copy", "discard", "ferries-2", "--confirm", "ferries")
}

// seen waits until everything up to now is captured.
func (r *run) seen(ctx context.Context) error {
	now := time.Now()
	return r.await(ctx, func(k clusterState) bool { return k.Capture.CompleteTo != nil && k.Capture.CompleteTo.After(now) })
}

// migration is the moment before the night's migration.
const migration = "restore point pre-migration"

// migrate changes everything for the worse.
func (r *run) migrate(ctx context.Context) error {
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	r.say("clerk=# SELECT pg_create_restore_point('pre-migration');\n")
	if _, err := db.Exec(ctx, "select pg_create_restore_point('pre-migration')"); err != nil {
		return err
	}
	for _, sql := range []string{"UPDATE fare SET cents = cents * 100;", "UPDATE booking SET season = season + 1;",
		"ALTER TABLE crossing DROP COLUMN vessel_id;"} {
		r.say("clerk=# %s\n", sql)
		if _, err := db.Exec(ctx, sql); err != nil {
			return err
		}
	}
	r.say("\n")
	return r.seen(ctx)
}
