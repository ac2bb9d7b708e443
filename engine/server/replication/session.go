package replication

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"velvetrewind/core/pg"
	"velvetrewind/engine/server/access"
)

// Session is a connection in replication mode that is not streaming.
type Session struct {
	conn    *pgconn.PgConn
	input   *framed // what conn reads from
	access  access.Access
	version *pg.Version
}

// Open connects to the cluster in replication mode. A server of a version that is not
// supported is an error.
func Open(ctx context.Context, a access.Access) (*Session, error) {
	var input framed
	conn, err := a.Replication(ctx, dialBlocking, input.frontend)
	if err != nil {
		return nil, err
	}
	version, err := pg.ReportedVersion(conn.ParameterStatus("server_version"))
	if err != nil {
		return nil, errors.Join(err, conn.Close(ctx))
	}
	return &Session{conn: conn, input: &input, access: a, version: version}, nil
}

// Version is that of the server.
func (s *Session) Version() *pg.Version { return s.version }

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
	read := s.readSlot
	if !s.version.SlotReadable {
		read = s.selectSlot
	}
	row, err := read(ctx, name)
	if err != nil {
		return Slot{}, false, err
	}
	if row[0] == "" {
		return Slot{}, false, nil
	}
	if row[0] != "physical" {
		return Slot{}, false, fmt.Errorf("replication slot %q is a %s slot, not a physical one; drop it or choose another name", name,
			row[0])
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

// readSlot gives a slot's type, position and timeline; all are "" if there is no such slot.
func (s *Session) readSlot(ctx context.Context, name string) ([]string, error) {
	return s.one(ctx, "READ_REPLICATION_SLOT "+name, 3)
}

// selectSlot does so through SQL, for servers whose replication protocol cannot be asked. The
// timeline is found as the server would: by the history of its own.
func (s *Session) selectSlot(ctx context.Context, name string) ([]string, error) {
	conn, err := s.access.SQL(ctx, "")
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	row := make([]string, 3)
	err = conn.QueryRow(ctx, `select slot_type, coalesce(restart_lsn::pg_catalog.text, '') from pg_catalog.pg_replication_slots
		where slot_name operator(pg_catalog.=) $1`, name).Scan(&row[0], &row[1])
	if errors.Is(err, pgx.ErrNoRows) || err == nil && row[1] == "" {
		return row, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the slot %s: %w", name, err)
	}
	restart, err := pg.ParseLSN(row[1])
	if err != nil {
		return nil, err
	}
	sys, err := s.Identify(ctx)
	if err != nil {
		return nil, err
	}
	timeline := sys.Timeline
	if timeline > 1 {
		content, err := s.History(ctx, timeline)
		if err != nil {
			return nil, err
		}
		forks, err := pg.ParseHistory(timeline, content)
		if err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(forks, func(f pg.Fork) bool { return restart < f.At }); i >= 0 {
			timeline = forks[i].Timeline
		}
	}
	row[2] = strconv.FormatUint(uint64(timeline), 10)
	return row, nil
}

// CreateSlot makes a permanent physical slot that holds WAL back from now on.
func (s *Session) CreateSlot(ctx context.Context, name string) error {
	_, err := s.conn.Exec(ctx, "CREATE_REPLICATION_SLOT "+name+" PHYSICAL RESERVE_WAL").ReadAll()
	if pgErr := (*pgconn.PgError)(nil); errors.As(err, &pgErr) && pgErr.Code == "53400" {
		return fmt.Errorf("the server has no free replication slot; raise max_replication_slots (needs a restart) or drop a slot that "+
			"is not used: %w", err)
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
