package capture

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/jackc/pgx/v5"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/server/access"
	"velvetrewind/engine/store"
)

const (
	authorsEvery = 200 * time.Millisecond // while there are writers
	authorsIdly  = time.Second            // while there are none
	authorsSave  = 5 * time.Second
	authorsSpan  = 10 * time.Minute // of one object in the store
	mostAuthors  = 20_000           // in one
)

// authors are those who were seen with a transaction id. An author is seen by the id alone: what was too short to be
// looked at has none, and none has another's.
type authors struct {
	mu    sync.Mutex
	seen  map[pg.FullXID]journal.Author // in the object that is being written
	since time.Time                     // when that began, by the server's clock
	dirty bool
	saved time.Time
	look  time.Duration // how long a look takes lately
}

// authorQuery lists who holds a transaction id, with the server's clock and the next id, which has its epoch.
const authorQuery = `select pg_catalog.clock_timestamp(),
	pg_catalog.pg_snapshot_xmax(pg_catalog.pg_current_snapshot())::pg_catalog.text::pg_catalog.int8,
	a.backend_xid::pg_catalog.text::pg_catalog.int8, coalesce(a.usename::pg_catalog.text, ''), coalesce(a.application_name, ''),
	coalesce(pg_catalog.host(a.client_addr), ''), coalesce(a.datname::pg_catalog.text, ''),
	coalesce(pg_catalog.concat(a.pid, ' ', a.backend_start), ''),
	case when $1::pg_catalog.int4 operator(pg_catalog.=) 0 then '' else pg_catalog.left(coalesce(a.query, ''), $1::pg_catalog.int4) end
	from pg_catalog.pg_stat_activity a where a.backend_xid is not null`

// authorLoop looks who writes until ctx ends. That it cannot look holds nothing up.
func (c *capturer) authorLoop(ctx context.Context) {
	var conn *pgx.Conn
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), askTimeout) // a store that hangs holds no end up
		defer cancel()
		c.saveAuthors(ctx, true)
		if conn != nil {
			_ = conn.Close(ctx)
		}
	}()
	wait, swept := authorsIdly, 0
	for sleep(ctx, wait) == nil {
		rule := c.authorRule.Load()
		if rule.Days == 0 {
			c.noteAuthors("")
			wait = authorsIdly
			continue
		}
		writers, err := c.lookForAuthors(ctx, &conn, rule.Statement)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			c.noteAuthors(err.Error())
			wait = longestWait
			continue
		case writers > 0:
			wait = authorsEvery
		default:
			wait = min(2*wait, authorsIdly)
		}
		c.noteAuthors("")
		c.saveAuthors(ctx, false)
		if today := time.Now().UTC().YearDay(); today != swept {
			swept = today
			c.forgetAuthors(ctx, time.Now().AddDate(0, 0, -rule.Days))
		}
	}
}

// noteAuthors shows how it stands with authors.
func (c *capturer) noteAuthors(problem string) {
	c.set(func(k *catalog.Capture) { k.AuthorsProblem, k.AuthorsLook = problem, c.authors.look.Microseconds() })
}

// lookForAuthors looks once, and tells how many hold an id.
func (c *capturer) lookForAuthors(ctx context.Context, conn **pgx.Conn, statement int) (writers int, err error) {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	if *conn == nil {
		if *conn, err = c.access.SQL(ctx, ""); err != nil {
			return 0, fmt.Errorf("who writes cannot be asked: %s", access.Remedy(err))
		}
		var sees, standby bool
		var role string
		err = (*conn).QueryRow(ctx, `select pg_catalog.pg_has_role('pg_read_all_stats', 'usage'), pg_catalog.pg_is_in_recovery(),
			current_user::pg_catalog.text`).Scan(&sees, &standby, &role)
		switch {
		case err == nil && !sees:
			err = fmt.Errorf("the role %s may not see who writes: GRANT pg_read_all_stats TO %s", role, role)
		case err == nil && standby:
			err = fmt.Errorf("a standby does not know who writes on its primary")
		}
	}
	begun := time.Now()
	if err == nil {
		writers, err = c.authors.once(ctx, *conn, statement)
	}
	if err != nil {
		_ = (*conn).Close(context.WithoutCancel(ctx))
		*conn = nil
		return 0, err
	}
	c.authors.look = (7*c.authors.look + time.Since(begun)) / 8
	return writers, nil
}

func (a *authors) once(ctx context.Context, conn *pgx.Conn, statement int) (writers int, err error) {
	rows, err := conn.Query(ctx, authorQuery, statement)
	if err != nil {
		return 0, err
	}
	var who journal.Author
	var next, xid int64
	_, err = pgx.ForEachRow(rows, []any{&who.Last, &next, &xid, &who.Role, &who.Application, &who.Address, &who.Database,
		&who.Session, &who.Statement},
		func() error {
			writers++
			who.XID = pg.XID(xid).Near(pg.FullXID(next))
			a.see(who)
			return nil
		})
	return writers, err
}

// see notes an author.
func (a *authors) see(who journal.Author) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, text := range []*string{&who.Role, &who.Application, &who.Database} { // which anybody can choose
		*text = strings.Map(func(r rune) rune {
			if unicode.IsControl(r) {
				return '?'
			}
			return r
		}, *text)
	}
	who.Statement = strings.ToValidUTF8(who.Statement, "\uFFFD") // the server shows it in the encoding of its session's database
	who.Last = who.Last.UTC()
	who.First = who.Last
	if before, is := a.seen[who.XID]; is {
		who.First = before.First
	}
	if a.seen == nil {
		a.seen, a.since = make(map[pg.FullXID]journal.Author), who.Last
	}
	a.seen[who.XID], a.dirty = who, true
}

// of is the author of a transaction, as far as that was seen lately.
func (a *authors) of(x pg.FullXID) (journal.Author, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	who, is := a.seen[x]
	return who, is
}

// saveAuthors puts into the store who was seen, now and then. What could not be written is written the next time.
func (c *capturer) saveAuthors(ctx context.Context, now bool) {
	a := &c.authors
	a.mu.Lock()
	list := slices.SortedFunc(maps.Values(a.seen), func(x, y journal.Author) int {
		return cmp.Or(x.First.Compare(y.First), cmp.Compare(x.XID, y.XID))
	})
	key, due := store.AuthorsKey(c.cluster.ID, a.since), a.dirty && (now || time.Since(a.saved) >= authorsSave)
	if due {
		a.dirty, a.saved = false, time.Now()
	}
	a.mu.Unlock()
	if !due {
		return
	}
	content, err := journal.EncodeAuthors(list)
	if err == nil {
		_, err = c.store.Put(ctx, key, c.codec, content)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err != nil {
		a.dirty = true
		c.log.Warn("who wrote was not put into the store yet", "error", err)
		return
	}
	newest := list[len(list)-1].First
	if newest.Sub(a.since) > authorsSpan || len(list) >= mostAuthors {
		// Those who may be open still go on in the next one.
		maps.DeleteFunc(a.seen, func(_ pg.FullXID, who journal.Author) bool { return newest.Sub(who.Last) > 2*authorsIdly })
		a.since = newest
	}
}

// forgetAuthors deletes what was seen on days before one.
func (c *capturer) forgetAuthors(ctx context.Context, day time.Time) {
	var old []string
	err := c.store.List(ctx, store.AuthorsPrefix(c.cluster.ID), func(i store.Info) error {
		if i.Key < store.AuthorsDay(c.cluster.ID, day) {
			old = append(old, i.Key)
		}
		return nil
	})
	for _, key := range old {
		if err == nil {
			err = c.store.Delete(ctx, key)
		}
	}
	if err != nil {
		c.log.Warn("authors of long ago were not deleted", "error", err)
	}
}
