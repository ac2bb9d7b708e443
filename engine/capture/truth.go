package capture

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
)

// truth is what the server says of itself: what time it was, and just after that, up to where its
// WAL went. What was committed before that time is here once that place is safe here, but for a
// commit whose time was taken just before its record was written: whoever resolves a time leaves a
// margin. A keepalive does not tell that: it carries the place that was sent, of which being level
// says nothing.
type truth struct {
	at       time.Time     // by the server's clock
	written  pg.LSN        // by commits that nobody has waited for, not flushed yet
	timeline pg.Timeline   // 0 where the server is a standby and does not say
	waits    bool          // commits wait for us, or may
	retained int64         // bytes that the slot has it retain
	room     int64         // bytes that it may retain still; -1 where there is no limit
	ahead    time.Duration // of its clock before ours
}

const (
	askEvery   = 500 * time.Millisecond
	askIdly    = time.Second // while nothing happens
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
		case <-time.After(untilNext(wait)):
		}
		err := c.ask(ctx, &conn)
		wait = c.askPause()
		if ctx.Err() != nil {
			return
		}
		c.set(func(*catalog.Capture) {
			if c.askTrouble = ""; err != nil {
				c.askTrouble = "the server cannot be asked how far its WAL goes (" + access.Remedy(err) +
					"), so that it is not known what is complete"
			}
		})
		if err != nil {
			wait = longestWait
		}
	}
}

// askPause is shorter while there is WAL on its way.
func (c *capturer) askPause() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.said) > 0 || c.state.State != catalog.CaptureStreaming {
		return askEvery
	}
	return askIdly
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
		c.walDir = c.walHere(ctx, opened)
	}
	said, err := c.askServer(ctx, *conn)
	if err != nil {
		_ = (*conn).Close(context.WithoutCancel(ctx))
		*conn = nil
		c.urgent.Store(true) // who knows
		return err
	}
	c.urgent.Store(said.waits)
	c.set(func(k *catalog.Capture) {
		c.said = append(c.said, said)
		c.settleTruth(k)
		k.Retained, k.ClockAhead = said.retained, said.ahead.Microseconds()
		if k.Room = said.room; said.room < 0 {
			k.Room = c.freeOnServer()
		}
	})
	return nil
}

// truthQuery asks for the clock first and for the place after it. Commits wait for us if the
// server says that our session is a synchronous standby's, or does not say.
const truthQuery = `select clock, coalesce(lsn::pg_catalog.text, '0/0'), case when standby then '' else pg_catalog.pg_walfile_name(lsn) end,
		case when pg_catalog.current_setting('synchronous_standby_names') operator(pg_catalog.=) '' then false else not exists (
			select from pg_catalog.pg_stat_replication r where r.application_name operator(pg_catalog.=) $2
			and r.sync_state operator(pg_catalog.=) 'async') end,
		coalesce(pg_catalog.pg_wal_lsn_diff(lsn, (select s.restart_lsn from pg_catalog.pg_replication_slots s
		where s.slot_name operator(pg_catalog.=) $1)), 0)::bigint,
		coalesce((select s.safe_wal_size from pg_catalog.pg_replication_slots s where s.slot_name operator(pg_catalog.=) $1), -1)
	from (select pg_catalog.clock_timestamp() as clock, pg_catalog.pg_is_in_recovery() as standby,
		case when pg_catalog.pg_is_in_recovery()
		then pg_catalog.pg_last_wal_receive_lsn() else pg_catalog.pg_current_wal_insert_lsn() end as lsn offset 0) s`

func (c *capturer) askServer(ctx context.Context, conn *pgx.Conn) (t truth, err error) {
	var at, segment string
	before := time.Now()
	if err := conn.QueryRow(ctx, truthQuery, c.cluster.Slot, access.AppName).Scan(&t.at, &at, &segment, &t.waits, &t.retained,
		&t.room); err != nil {
		return t, err
	}
	t.ahead = t.at.Sub(before.Add(time.Since(before) / 2))
	if len(segment) >= 8 {
		var timeline uint32
		if _, err := fmt.Sscanf(segment[:8], "%08X", &timeline); err != nil {
			return t, fmt.Errorf("%q names no timeline", segment)
		}
		t.timeline = pg.Timeline(timeline)
	}
	if t.written, err = pg.ParseLSN(at); err == nil && t.written == 0 {
		err = errors.New("the server does not know how far its WAL goes")
	}
	t.written = wal.EndBefore(t.written, c.cluster.SegmentSize)
	return t, err
}

// walHere is where the server writes its WAL, if that is on this machine; else "".
func (c *capturer) walHere(ctx context.Context, conn *pgx.Conn) string {
	var dir string
	if err := conn.QueryRow(ctx, `select setting from pg_catalog.pg_settings
		where name operator(pg_catalog.=) 'data_directory'`).Scan(&dir); err != nil || dir == "" {
		return ""
	}
	content, err := os.ReadFile(filepath.Join(dir, "global", "pg_control"))
	if err != nil {
		return ""
	}
	control, err := pg.ParseControl(content)
	if err != nil || control.SystemID != c.cluster.SystemID {
		return "" // another machine's directory may be called the same
	}
	return filepath.Join(dir, "pg_wal")
}

// freeOnServer is what is free where the server writes its WAL, if that is on this machine; else -1.
func (c *capturer) freeOnServer() int64 {
	if c.walDir == "" {
		return -1
	}
	var fs unix.Statfs_t
	if err := unix.Statfs(c.walDir, &fs); err != nil {
		return -1
	}
	return int64(fs.Bavail) * fs.Bsize
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
		k.ServerLSN = max(k.ServerLSN, t.written)
		if k.State == catalog.CaptureStreaming && t.written <= k.FlushedLSN {
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
