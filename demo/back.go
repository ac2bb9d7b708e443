package demo

import (
	"context"
	"fmt"

	"velvetrewind/core/figures"
	"velvetrewind/engine/host"
)

// backInService rewinds the original itself to before a migration, while customers wait.
func (r *run) backInService(ctx context.Context) error {
	r.traffic.stop()
	if err := r.migrate(ctx); err != nil {
		return err
	}
	if err := r.velvet(ctx, "restore", "takeover", "ferries", migration, "--confirm", "ferries"); err != nil {
		return err
	}
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	if err := r.faresAreRight(ctx, db); err != nil {
		return err
	}
	r.say("\nAll fares of the original come to %s cents again. Customers book.\n\n", figures.Count(r.fares))
	if err := r.bookAs(ctx, "AGAIN"); err != nil {
		return err
	}
	if err := r.traffic.await(ctx, 50); err != nil {
		return err
	}
	if err := r.seen(ctx); err != nil {
		return err
	}
	return r.velvet(ctx, "restore", "takeover", "history", "ferries")
}

// loseData has everything that was booked be captured, and then the server of the ferries, and its directory, be lost.
func (r *run) loseData(ctx context.Context) error {
	if err := r.traffic.await(ctx, 50); err != nil {
		return err
	}
	r.traffic.stop()
	if err := r.seen(ctx); err != nil {
		return err
	}
	if err := r.host.Stop(ctx, r.ferries, host.Immediate); err != nil {
		return err
	}
	return r.host.RemoveTree(r.ferries.DataDir)
}

// everythingBack loses the original's server and its directory, and brings back what was captured: all that was booked.
func (r *run) everythingBack(ctx context.Context) error {
	if err := r.loseData(ctx); err != nil {
		return err
	}
	r.say("# rm -rf %s\n\n", r.ferries.DataDir)
	if err := r.velvet(ctx, "restore", "takeover", "ferries", "latest", "--confirm", "ferries"); err != nil {
		return err
	}
	if err := r.allBack(ctx, "AGAIN"); err != nil {
		return err
	}
	return r.bookAs(ctx, "ONCEMORE")
}

// allBack makes sure that all bookings are there whose references begin with a prefix.
func (r *run) allBack(ctx context.Context, prefix string) error {
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	var there int
	if err := db.QueryRow(ctx, "select count(*) from booking where reference like $1 || '-%'", prefix).Scan(&there); err != nil {
		return err
	}
	if booked := r.traffic.acknowledged(); there < booked {
		return fmt.Errorf("%d bookings were acknowledged, and %d are there", booked, there)
	}
	r.say("\nAll %s bookings since are there. Customers book.\n", figures.Count(int64(there)))
	return nil
}
