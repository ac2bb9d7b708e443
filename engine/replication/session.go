package replication

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/pg"
	"velvetrewind/engine/access"
)

// Session is a connection in replication mode that is not streaming.
type Session struct {
	conn *pgconn.PgConn
}

// Open connects to the cluster in replication mode.
func Open(ctx context.Context, a access.Access) (*Session, error) {
	conn, err := a.Replication(ctx)
	if err != nil {
		return nil, err
	}
	return &Session{conn: conn}, nil
}

// Close ends the session.
func (s *Session) Close(ctx context.Context) error { return s.conn.Close(ctx) }

// System is the answer to IDENTIFY_SYSTEM.
type System struct {
	ID       uint64
	Timeline pg.Timeline
	Flushed  pg.LSN
}

// Identify asks who the server is.
func (s *Session) Identify(ctx context.Context) (System, error) {
	row, err := s.one(ctx, "IDENTIFY_SYSTEM", 3)
	if err != nil {
		return System{}, err
	}
	id, err := strconv.ParseUint(row[0], 10, 64)
	if err != nil {
		return System{}, fmt.Errorf("IDENTIFY_SYSTEM: %w", err)
	}
	t, err := strconv.ParseUint(row[1], 10, 32)
	if err != nil {
		return System{}, fmt.Errorf("IDENTIFY_SYSTEM: %w", err)
	}
	at, err := pg.ParseLSN(row[2])
	return System{ID: id, Timeline: pg.Timeline(t), Flushed: at}, err
}

// Slot is a physical replication slot; Restart is 0 until it has reserved WAL.
type Slot struct {
	Restart         pg.LSN
	RestartTimeline pg.Timeline
}

// ReadSlot looks a slot up; ok is false if there is none of that name.
func (s *Session) ReadSlot(ctx context.Context, name string) (slot Slot, ok bool, err error) {
	row, err := s.one(ctx, "READ_REPLICATION_SLOT "+name, 3)
	if err != nil {
		return Slot{}, false, err
	}
	if row[0] == "" {
		return Slot{}, false, nil
	}
	if row[0] != "physical" {
		return Slot{}, false, fmt.Errorf("replication slot %q is a %s slot, not a physical one; drop it or choose another name", name, row[0])
	}
	if err := slot.Restart.UnmarshalText([]byte(row[1])); err != nil {
		return Slot{}, false, err
	}
	if row[2] != "" {
		t, err := strconv.ParseUint(row[2], 10, 32)
		if err != nil {
			return Slot{}, false, err
		}
		slot.RestartTimeline = pg.Timeline(t)
	}
	return slot, true, nil
}

// CreateSlot makes a permanent physical slot that holds WAL back from now on.
func (s *Session) CreateSlot(ctx context.Context, name string) error {
	_, err := s.conn.Exec(ctx, "CREATE_REPLICATION_SLOT "+name+" PHYSICAL RESERVE_WAL").ReadAll()
	if pgErr := (*pgconn.PgError)(nil); errors.As(err, &pgErr) && pgErr.Code == "53400" {
		return fmt.Errorf("the server has no free replication slot; raise max_replication_slots (needs a restart) or drop a slot that is not used: %w", err)
	}
	return err
}

// History fetches the history file of a timeline above 1.
func (s *Session) History(ctx context.Context, t pg.Timeline) ([]byte, error) {
	row, err := s.one(ctx, fmt.Sprintf("TIMELINE_HISTORY %d", t), 2)
	if err != nil {
		return nil, err
	}
	return []byte(row[1]), nil
}

// one runs a command that answers with one row of at least n columns; NULL is "".
func (s *Session) one(ctx context.Context, command string, n int) ([]string, error) {
	verb, _, _ := strings.Cut(command, " ")
	results, err := s.conn.Exec(ctx, command).ReadAll()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", verb, err)
	}
	if len(results) != 1 || len(results[0].Rows) != 1 || len(results[0].Rows[0]) < n {
		return nil, fmt.Errorf("%s: the server answered in a form that is not known", verb)
	}
	row := make([]string, len(results[0].Rows[0]))
	for i, v := range results[0].Rows[0] {
		row[i] = string(v)
	}
	return row, nil
}

// DropSlot removes a slot, waiting until it is no longer in use; one that is not
// there is no error.
func (s *Session) DropSlot(ctx context.Context, name string) error {
	_, err := s.conn.Exec(ctx, "DROP_REPLICATION_SLOT "+name+" WAIT").ReadAll()
	if pgErr := (*pgconn.PgError)(nil); errors.As(err, &pgErr) && pgErr.Code == "42704" {
		return nil
	}
	return err
}
