package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"velvetrewind/core/figures"
	"velvetrewind/engine/host"
)

// repairLedger loses the tablespace of the payments, and has it repaired: to the last payment.
func (r *run) repairLedger(ctx context.Context) error {
	if err := r.traffic.await(ctx, 50); err != nil {
		return err
	}
	r.traffic.stop()
	before, err := r.payments(ctx)
	if err != nil {
		return err
	}
	if err := r.host.Stop(ctx, r.ferries, host.Immediate); err != nil {
		return err
	}
	lost, err := filepath.Glob(r.path("ferries", "ledger", "PG_*"))
	if err != nil {
		return err
	}
	for _, dir := range lost {
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
	}
	r.say("# rm -rf %s/*\n\n", r.path("ferries", "ledger"))
	if err := r.velvet(ctx, "restore", "repair", "ferries", "--confirm", "ferries"); err != nil {
		return err
	}
	after, err := r.payments(ctx)
	if err != nil {
		return err
	}
	if after != before {
		return fmt.Errorf("%d payments were there, and %d are there now", before, after)
	}
	r.say("\nAll %s payments are there, also the last. Customers book.\n", figures.Count(after))
	return r.bookAs(ctx, "SALVAGED")
}

// payments counts those of the ferries.
func (r *run) payments(ctx context.Context) (n int64, err error) {
	db, err := r.connect(ctx, "harbourmaster", ferriesPassword, "saltmarsh")
	if err != nil {
		return 0, err
	}
	defer func() { _ = db.Close(context.WithoutCancel(ctx)) }()
	return n, db.QueryRow(ctx, "select count(*) from payment").Scan(&n)
}
