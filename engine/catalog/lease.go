package catalog

import (
	"context"
	"fmt"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
)

// Spaces of advisory locks.
const (
	spaceInstance = 0x76656c01
	spaceCapture  = 0x76656c02
	spaceContent  = 0x76656c03
	spaceBegin    = 0x76656c04
	spaceTables   = 0x76656c05
	spaceKeys     = 0x76656c06
	spaceTrail    = 0x76656c07
	spaceTakeover = 0x76656c08
)

// TakeInstance gives this service a number that no other running service has.
func (c *Catalog) TakeInstance(ctx context.Context) (int64, *Lease, error) {
	var n int64
	if err := c.db.GetContext(ctx, &n, `select nextval('velvet.instances')`); err != nil {
		return 0, nil, err
	}
	l, err := c.HoldInstance(ctx, n)
	return n, l, err
}

// HoldInstance takes the lock of an instance's number, again after its connection was lost.
func (c *Catalog) HoldInstance(ctx context.Context, n int64) (*Lease, error) {
	l, ok, err := c.leases.take(ctx, right{spaceInstance, utoa(uint64(n))}, false)
	if err == nil && !ok {
		err = fmt.Errorf("instance number %d is taken", n)
	}
	return l, err
}

// TakeCapture gives the right to capture a cluster; ok is false if another instance has it.
func (c *Catalog) TakeCapture(ctx context.Context, cluster string) (l *Lease, ok bool, err error) {
	return c.leases.take(ctx, right{spaceCapture, cluster}, false)
}

// ShareContent gives the right to add to a cluster's backups; ok is false while another
// instance tidies them.
func (c *Catalog) ShareContent(ctx context.Context, cluster string) (l *Lease, ok bool, err error) {
	return c.leases.take(ctx, right{spaceContent, cluster}, true)
}

// OwnContent gives the right to tidy a cluster's backups; ok is false while any is being taken.
func (c *Catalog) OwnContent(ctx context.Context, cluster string) (l *Lease, ok bool, err error) {
	return c.leases.take(ctx, right{spaceContent, cluster}, false)
}

// OwnTakeover gives the right to carry out a takeover of a cluster; ok is false while another instance does.
func (c *Catalog) OwnTakeover(ctx context.Context, cluster string) (l *Lease, ok bool, err error) {
	return c.leases.take(ctx, right{spaceTakeover, cluster}, false)
}

// OwnKeys gives the right to change the store's keys; ok is false while another instance does.
func (c *Catalog) OwnKeys(ctx context.Context) (l *Lease, ok bool, err error) {
	return c.leases.take(ctx, right{spaceKeys, ""}, false)
}

// leases takes the rights of this process. All of them are advisory locks of one session
// beside the pool, however many there are: hundreds of captures must not need hundreds of
// connections. The database keeps other processes out; within this one, whose session may
// take a lock twice, it is written down who has what.
type leases struct {
	config *pgx.ConnConfig
	mu     sync.Mutex
	now    *session // nil before the first lease, and after a session died
}

// right is what a lease is of.
type right struct {
	space int32
	name  string
}

// session is a connection with the locks that it holds. When it ends, all are gone.
type session struct {
	conn     *pgx.Conn
	held     map[right]int // how many share it; alone has it who has it exclusively
	answered time.Time     // when it was last heard of
}

const alone = -1

// answerWithin is how long the catalogue may take to answer about leases. The waiting of
// one caller is never cut short for another's sake: that would end the session of all.
const answerWithin = 10 * time.Second

// What makes a lease's end known here before it is anybody else's: HeldLately asks the session at
// least every heldFor, and gives up after heldWithin; the server ends a session that it cannot reach
// only after silentFor. Whoever takes over from an instance that has not ended in order waits
// TakeoverWait first.
const (
	heldFor      = 500 * time.Millisecond
	heldWithin   = 2 * time.Second
	silentFor    = 20 * time.Second
	TakeoverWait = 5 * time.Second
)

// Lease is a right that lasts until it is released or the session dies that holds it.
type Lease struct {
	from    *leases
	session *session // nil once it was released
	right   right
	shared  bool
}

// take tries to take a right, alone or shared; ok is false if somebody else's stands against it.
func (l *leases) take(ctx context.Context, r right, shared bool) (lease *Lease, ok bool, err error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), answerWithin)
	defer cancel()
	l.mu.Lock()
	defer l.mu.Unlock()
	s, err := l.current(ctx)
	if err != nil {
		return nil, false, err
	}
	lease = &Lease{from: l, session: s, right: r, shared: shared}
	switch n := s.held[r]; {
	case shared && n > 0:
		s.held[r]++
		return lease, true, nil
	case n != 0:
		return nil, false, nil
	}
	query := `select pg_try_advisory_lock($1, hashtext($2))`
	if shared {
		query = `select pg_try_advisory_lock_shared($1, hashtext($2))`
	}
	if err := s.conn.QueryRow(ctx, query, r.space, r.name).Scan(&ok); err != nil {
		l.end(s)
		return nil, false, fmt.Errorf("take a lease in the catalogue: %w", err)
	}
	if !ok {
		return nil, false, nil
	}
	s.held[r] = alone
	if shared {
		s.held[r] = 1
	}
	return lease, true, nil
}

// current is the session that there is, if it still answers, or else a new one.
func (l *leases) current(ctx context.Context) (*session, error) {
	if l.now != nil {
		if l.now.conn.Ping(ctx) == nil {
			return l.now, nil
		}
		l.end(l.now)
	}
	config := l.config.Copy()
	for name, value := range map[string]time.Duration{"tcp_keepalives_idle": silentFor / 2, "tcp_keepalives_interval": silentFor / 4} {
		config.RuntimeParams[name] = strconv.Itoa(int(value.Seconds()))
	}
	config.RuntimeParams["tcp_keepalives_count"] = "2"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("open the catalogue's session for leases: %w", err)
	}
	l.now = &session{conn: conn, held: make(map[right]int), answered: time.Now()}
	return l.now, nil
}

// end closes a session, by which all that it holds is given back.
func (l *leases) end(s *session) {
	ctx, cancel := context.WithTimeout(context.Background(), answerWithin)
	defer cancel()
	_ = s.conn.Close(ctx)
	if l.now == s {
		l.now = nil
	}
}

func (l *leases) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.now != nil {
		l.end(l.now)
	}
}

// Held says whether the lease's session still answers, and so the lease is still ours.
func (l *Lease) Held(ctx context.Context) bool { return l.held(ctx, 0) }

// HeldLately says whether it did within the last half second: one answer is for the leases of many.
func (l *Lease) HeldLately(ctx context.Context) bool { return l.held(ctx, heldFor) }

func (l *Lease) held(ctx context.Context, lately time.Duration) bool {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), heldWithin)
	defer cancel()
	l.from.mu.Lock()
	defer l.from.mu.Unlock()
	if l.session == nil || l.from.now != l.session {
		return false
	}
	if time.Since(l.session.answered) < lately {
		return true
	}
	asked := time.Now()
	if l.session.conn.Ping(ctx) == nil {
		l.session.answered = asked
		return true
	}
	l.from.end(l.session)
	return false
}

// Release gives the right back; again does nothing. That of a session that died is given
// back already.
func (l *Lease) Release() {
	ctx, cancel := context.WithTimeout(context.Background(), answerWithin)
	defer cancel()
	l.from.mu.Lock()
	defer l.from.mu.Unlock()
	s := l.session
	if l.session = nil; s == nil || l.from.now != s {
		return
	}
	query := `select pg_advisory_unlock($1, hashtext($2))`
	if l.shared {
		if s.held[l.right]--; s.held[l.right] > 0 {
			return
		}
		query = `select pg_advisory_unlock_shared($1, hashtext($2))`
	}
	delete(s.held, l.right)
	if _, err := s.conn.Exec(ctx, query, l.right.space, l.right.name); err != nil {
		l.from.end(s)
	}
}
