package work

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/pg"
	"velvetrewind/core/problem"
	"velvetrewind/core/rescue"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/retrieve"
)

// inBatches brings rows back in several transactions, each proved by itself, with a pause in between. Each is recorded before it is
// committed, so that whoever goes on knows what is back.
func (w *Worker) inBatches(ctx context.Context, r *retrieve.Retriever, wish retrieve.Wish, id string, order Rescue, report task.Report) (
	total rescue.Plan, checks []rescue.Check, err error) {
	p, err := r.Plan(ctx, wish, report)
	if err == nil {
		err = retrieve.Settled(p)
	}
	if err != nil {
		return p, nil, err
	}
	list, err := r.Batches(ctx, wish, order.AtOnce, report)
	if err != nil || len(list) == 0 { // nothing is left to bring
		return p, nil, err
	}
	report.Log("%s of at most %s each; %s were brought back before", figures.Of(len(list), "batch"), figures.Of(int(order.AtOnce), "row"),
		figures.Of(len(wish.Brought), "batch"))
	for i, b := range list {
		wish.Batch = &b
		began := time.Now()
		p, checks, err = r.Apply(ctx, wish, func(own pg.FullXID, _ rescue.Plan) error {
			b.Own = uint64(own)
			sum := total
			sum.Tables = slices.Clone(total.Tables)
			sum.Add(p)
			return w.rescueWrites(ctx, id, own, sum, &b)
		}, report)
		if err != nil {
			return total, checks, err
		}
		total.Add(p)
		report.Log("batch %d of %d is committed, by transaction %d, in %s", i+1, len(list), b.Own, figures.Span(time.Since(began)))
		if b.Left == 0 {
			break
		}
		select {
		case <-ctx.Done():
			return total, checks, ctx.Err()
		case <-time.After(order.Pause):
		}
	}
	return total, checks, nil
}

// rescueWrites records the transaction that brings rows back, and of several batches which it is.
func (w *Worker) rescueWrites(ctx context.Context, id string, own pg.FullXID, p rescue.Plan, b *rescue.Batch) error {
	plan, err := json.Marshal(p)
	if err != nil {
		return err
	}
	batch := json.RawMessage("[]")
	if b != nil {
		if batch, err = json.Marshal([]rescue.Batch{*b}); err != nil {
			return err
		}
	}
	return w.Catalog.RescueWrites(ctx, id, int64(own), plan, batch)
}

// outcome finds out how a rescue ended that did not come to its end here: what its last transaction became, and which batches are back.
func (w *Worker) outcome(ctx context.Context, id string) (state string, brought []rescue.Batch, err error) {
	record, err := w.Catalog.Rescue(ctx, id)
	if err == nil {
		err = json.Unmarshal(record.Batches, &brought)
	}
	if err != nil {
		return catalog.RescueWriting, nil, err
	}
	known, committed, err := w.becameOf(ctx, record)
	if err != nil || !known {
		return catalog.RescueWriting, brought, err
	}
	if !committed && len(brought) > 0 {
		brought = brought[:len(brought)-1]
	}
	switch {
	case committed && (len(brought) == 0 || brought[len(brought)-1].Left == 0):
		return catalog.RescueApplied, brought, nil
	case len(brought) > 0:
		return catalog.RescuePartly, brought, nil
	}
	return catalog.RescueFailed, brought, nil
}

// brought are the batches of some transactions' rows that were brought back by rescues that did not come to their end.
func (w *Worker) brought(ctx context.Context, cluster catalog.Cluster, order Rescue) (list []rescue.Batch, err error) {
	for _, xid := range order.all() {
		found, err := w.Catalog.RescuesOf(ctx, cluster.ID, int64(xid), catalog.RescuePartly)
		if err != nil {
			return nil, err
		}
		for _, r := range found {
			var also []uint64
			var batches []rescue.Batch
			if err := json.Unmarshal(r.Also, &also); err != nil {
				return nil, err
			}
			if uint64(r.XID) != order.XID || !slices.Equal(also, order.Also) {
				return nil, problem.New(problem.Conflict, "Go on with these: velvet rescue show "+r.ID, "nothing was changed",
					"a part of what transaction %d took was brought back in batches, together with others or without them", xid)
			}
			if err := json.Unmarshal(r.Batches, &batches); err != nil {
				return nil, err
			}
			if xid == order.XID {
				list = append(list, batches...)
			}
		}
	}
	return list, nil
}
