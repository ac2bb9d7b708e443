package capture

import (
	"context"
	"errors"
	"fmt"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/replication"
)

// gather is how long WAL may arrive before it is made safe and reported, while no commit waits
// for that.
const gather = 60 * time.Millisecond

// receiver follows one stream. It is one goroutine, which takes whatever has arrived, makes it
// safe, and only then reports it.
type receiver struct {
	*capturer
	stream   *replication.Stream
	heard    time.Time // when the server last said something
	reported time.Time
	flushed  time.Time // when the spool was last made safe
	woken    time.Time // when those who read and store were last told
	unread   bool      // more was made safe since
	more     bool      // the server had more than it sent last: it waits for us
	asked    bool      // the server wants a report
	server   pg.LSN    // how far its WAL had got
}

// follow receives until the stream ends.
func (c *capturer) follow(ctx context.Context, st *replication.Stream) error {
	r := &receiver{capturer: c, stream: st, heard: time.Now()}
	for ctx.Err() == nil {
		var err error
		if c.spool.Full() {
			err = r.pause(ctx)
		} else {
			err = r.receive(ctx)
		}
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// receive waits for a message, takes it and those that have arrived after it, and makes them
// safe when that is due.
func (r *receiver) receive(ctx context.Context) error {
	unsafe := r.spool.Flushed() != r.spool.Written()
	until := after(r.reported, reportEvery)
	if due := r.flushed.Add(gather); unsafe && due.Before(until) {
		until = due
	}
	if due := r.woken.Add(gather); r.unread && due.Before(until) {
		until = due
	}
	// A deadline that has passed would have nothing read at all.
	m, err := r.stream.Receive(later(until, time.Now().Add(time.Millisecond)))
	for err == nil {
		if err := r.take(m); err != nil {
			return err
		}
		if r.spool.Full() || !r.stream.Arrived() || time.Since(r.flushed) > gather {
			break
		}
		m, err = r.stream.Receive(until)
	}
	if err != nil && !errors.Is(err, replication.ErrQuiet) {
		// The end of a timeline is not passed before all of it is safe.
		if err := r.spool.Flush(); err != nil {
			return err
		}
		r.noteSafe()
		return err
	}
	return r.makeSafe(ctx)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// take writes a message into the spool.
func (r *receiver) take(m replication.Message) error {
	r.heard, r.received = time.Now(), true
	r.server = max(r.server, m.ServerEnd)
	r.asked = r.asked || m.ReplyNow
	if len(m.Data) == 0 {
		return nil
	}
	r.more = m.ServerEnd > m.Start+pg.LSN(len(m.Data))
	finished, err := r.spool.Write(m.Start, m.Data)
	if finished {
		r.wake()
	}
	return err
}

// makeSafe flushes and reports what is due: at once where a commit or the server waits for it.
// Otherwise more may arrive meanwhile, so that one flush and one report serve many commits.
func (r *receiver) makeSafe(ctx context.Context) error {
	now := time.Now()
	silent := now.Sub(r.heard)
	if silent > longestSilence {
		return fmt.Errorf("the server has said nothing for %s, though it was asked", longestSilence)
	}
	if r.unread && now.Sub(r.woken) > gather { // not for every commit: nobody waits for it
		r.wake()
		r.woken, r.unread = now, false
	}
	ask := !now.Before(after(r.reported, reportEvery))
	if r.spool.Flushed() == r.spool.Written() && !r.asked && !ask {
		return nil
	}
	if wait := gather - now.Sub(r.flushed); wait > 0 && !r.asked && !ask && !r.urgent.Load() {
		if r.more {
			return nil // it comes faster than it could gather
		}
		return sleep(ctx, wait)
	}
	if err := r.spool.Flush(); err != nil {
		return err
	}
	r.noteSafe()
	r.flushed, r.reported, r.asked, r.unread = time.Now(), now, false, true
	return r.stream.Report(r.spool.Flushed(), ask)
}

// noteSafe shows how far capture has got.
func (r *receiver) noteSafe() {
	r.set(func(k *catalog.Capture) {
		k.ReceivedLSN, k.FlushedLSN = r.spool.Written(), r.spool.Flushed()
		k.ServerLSN = max(k.ServerLSN, r.server, r.spool.Flushed())
		r.settleTruth(k)
	})
}

// pause leaves the server's WAL with the server while the spool is full, and goes on telling it
// that we are here.
func (r *receiver) pause(ctx context.Context) error {
	if err := r.spool.Flush(); err != nil {
		return err
	}
	r.noteSafe()
	r.setPaused(true)
	defer r.setPaused(false)
	r.log.Warn("the spool is full; capture pauses until the store takes WAL again", "waiting_bytes", r.spool.Waiting())
	for r.spool.Full() {
		if err := r.stream.Report(r.spool.Flushed(), false); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-r.room:
		case <-time.After(reportEvery):
		}
	}
	r.heard = time.Now()
	return nil
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}
