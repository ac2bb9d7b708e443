package demo

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// trafficSessions is how many customers book at once, each with a short pause between bookings.
const (
	trafficSessions = 3
	trafficPause    = 15 * time.Millisecond
)

// traffic books crossings and remembers what the server acknowledged, and when.
type traffic struct {
	prefix   string // of its bookings' references
	connect  func(context.Context) (*pgx.Conn, error)
	cancel   context.CancelFunc
	sessions sync.WaitGroup
	accident string // transaction id
	deleted  int64  // bookings that it deleted

	mu     sync.Mutex
	booked []booked
	before time.Time // the accident's commit was sent after this
	after  time.Time // and acknowledged before this
	failed error
}

// booked is a booking that the server acknowledged.
type booked struct {
	reference     string
	begun, commit time.Time
}

func newTraffic(prefix string, connect func(context.Context) (*pgx.Conn, error)) *traffic {
	return &traffic{prefix: prefix, connect: connect, cancel: func() {}}
}

func (t *traffic) start(ctx context.Context) error {
	ctx, t.cancel = context.WithCancel(ctx)
	for n := range trafficSessions {
		conn, err := t.connect(ctx)
		if err != nil {
			return err
		}
		t.sessions.Go(func() {
			defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
			for i := 0; ctx.Err() == nil; i++ {
				if err := t.book(ctx, conn, fmt.Sprintf("%s-%d-%06d", t.prefix, n, i), i); err != nil && ctx.Err() == nil {
					t.mu.Lock()
					t.failed = errors.Join(t.failed, err)
					t.mu.Unlock()
					return
				}
				select {
				case <-ctx.Done():
				case <-time.After(trafficPause):
				}
			}
		})
	}
	return nil
}

// book is one customer: a booking, its passengers and its payment in one transaction.
func (t *traffic) book(ctx context.Context, conn *pgx.Conn, reference string, i int) error {
	begun := time.Now()
	err := pgx.BeginFunc(ctx, conn, func(tx pgx.Tx) error {
		var id int64
		if err := tx.QueryRow(ctx, `insert into booking (reference, crossing_id, booked_at, season, seats) values ($1, $2, now(), 2026, 2)
			returning id`,
			reference, 1+i%8000).Scan(&id); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `insert into passenger (booking_id, name) values ($1, 'Merle Tidewell'), ($1, 'Otis Tidewell')`,
			id); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, `insert into payment (booking_id, paid_at, cents) values ($1, now(), 1150)`, id)
		return err
	})
	if err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.booked = append(t.booked, booked{reference, begun, time.Now()})
	return nil
}

func (t *traffic) stop() {
	t.cancel()
	t.sessions.Wait()
}

// acknowledged is how many bookings the server has acknowledged.
func (t *traffic) acknowledged() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.booked)
}

func (t *traffic) markBefore() { t.mu.Lock(); t.before = time.Now(); t.mu.Unlock() }
func (t *traffic) markAfter()  { t.mu.Lock(); t.after = time.Now(); t.mu.Unlock() }

// await waits until n more bookings have been acknowledged.
func (t *traffic) await(ctx context.Context, n int) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	begun := -1
	for {
		t.mu.Lock()
		have, failed := len(t.booked), t.failed
		t.mu.Unlock()
		if failed != nil {
			return failed
		}
		if begun < 0 {
			begun = have
		}
		if have >= begun+n {
			return nil
		}
		select {
		case <-ctx.Done():
			return errors.New("nobody books any more")
		case <-tick.C:
		}
	}
}

// compare checks that what was acknowledged before the accident's commit was sent
// is in the copy, and that what began after it is not.
func (t *traffic) compare(ctx context.Context, db *pgx.Conn, say func(string, ...any)) error {
	rows, err := db.Query(ctx, `select reference from booking where reference like 'LIVE-%'`)
	if err != nil {
		return err
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	in := make(map[string]bool, len(list))
	for _, reference := range list {
		in[reference] = true
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	var kept, undone int
	for _, b := range t.booked {
		switch {
		case b.commit.Before(t.before):
			kept++
			if !in[b.reference] {
				return fmt.Errorf("booking %s was committed before the accident and is not in the copy", b.reference)
			}
		case b.begun.After(t.after):
			undone++
			if in[b.reference] {
				return fmt.Errorf("booking %s began after the accident and is in the copy", b.reference)
			}
		}
	}
	if kept == 0 || undone == 0 {
		return errors.New("no bookings lie on one of the sides, so that nothing was shown")
	}
	say("%d bookings of others were committed before tx %s, many of them while it was open: all are in the copy.\n", kept, t.accident)
	say("%d bookings began after it: none is in the copy.\n", undone)
	return nil
}
