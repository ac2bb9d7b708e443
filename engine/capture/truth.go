package capture

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/pg"
	"velvetrewind/engine/access"
	"velvetrewind/engine/catalog"
)

// truth is what the server says of itself: up to where its WAL is flushed, and what time it was
// just before. What was committed before that time is here once that place is safe here, but for
// a commit whose time was taken just before its record was written. A keepalive does not tell
// that: it carries the place that was sent, of which being level says nothing.
type truth struct {
	at       time.Time // by the server's clock
	flushed  pg.LSN
	timeline pg.Timeline // 0 where the server is a standby and does not say
}

const (
	askEvery   = 500 * time.Millisecond
	askTimeout = 10 * time.Second
)

// askLoop asks the server until ctx ends, over one session that is opened again when it breaks.
func (c *capturer) askLoop(ctx context.Context) {
	var conn *pgx.Conn
	defer func() {
		if conn != nil {
			_ = conn.Close(context.WithoutCancel(ctx))
		}
	}()
	wait := askEvery
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = askEvery
		err := c.ask(ctx, &conn)
		if ctx.Err() != nil {
			return
		}
		c.set(func(*catalog.Capture) {
			if c.askTrouble = ""; err != nil {
				c.askTrouble = "the server cannot be asked how far its WAL goes (" + access.Remedy(err) + "), so that it is not known what is complete"
			}
		})
		if err != nil {
			wait = longestWait
		}
	}
}

// ask opens a session if there is none, and asks once.
func (c *capturer) ask(ctx context.Context, conn **pgx.Conn) error {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	if *conn == nil {
		opened, err := c.access.SQL(ctx, "")
		if err != nil {
			return err
		}
		*conn = opened
	}
	said, err := askServer(ctx, *conn)
	if err != nil {
		_ = (*conn).Close(context.WithoutCancel(ctx))
		*conn = nil
		return err
	}
	c.set(func(k *catalog.Capture) {
		c.said = append(c.said, said)
		c.settleTruth(k)
	})
	return nil
}

// askServer asks for the clock first and for the place after it.
func askServer(ctx context.Context, conn *pgx.Conn) (t truth, err error) {
	var at, segment string
	err = conn.QueryRow(ctx, `select clock, coalesce(lsn::text, '0/0'), case when standby then '' else pg_catalog.pg_walfile_name(lsn) end
		from (select pg_catalog.clock_timestamp() as clock, pg_catalog.pg_is_in_recovery() as standby,
			case when pg_catalog.pg_is_in_recovery() then pg_catalog.pg_last_wal_receive_lsn() else pg_catalog.pg_current_wal_flush_lsn() end as lsn offset 0) s`).
		Scan(&t.at, &at, &segment)
	if err != nil {
		return t, err
	}
	if len(segment) >= 8 {
		var timeline uint32
		if _, err := fmt.Sscanf(segment[:8], "%08X", &timeline); err != nil {
			return t, fmt.Errorf("%q names no timeline", segment)
		}
		t.timeline = pg.Timeline(timeline)
	}
	if t.flushed, err = pg.ParseLSN(at); err == nil && t.flushed == 0 {
		err = errors.New("the server does not know how far its WAL goes")
	}
	return t, err
}

// mostSaid is how many answers wait to be reached; of more the older ones are thinned out.
const mostSaid = 256

// settleTruth notes the newest time for which everything is safe here, and how far the server
// is. It is called under the capturer's lock whenever either side has moved.
func (c *capturer) settleTruth(k *catalog.Capture) {
	reached := -1
	for i, t := range c.said {
		if t.timeline != 0 && t.timeline != k.Timeline {
			continue // its places are not ours
		}
		k.ServerLSN = max(k.ServerLSN, t.flushed)
		if k.State == catalog.CaptureStreaming && t.flushed <= k.FlushedLSN {
			k.CompleteTo = sql.NullTime{Time: t.at, Valid: true}
			reached = i
		}
	}
	c.said = c.said[reached+1:]
	if n := len(c.said); n > mostSaid {
		for i := range n / 2 {
			c.said[i] = c.said[2*i+1]
		}
		c.said = c.said[:n/2]
	}
}
