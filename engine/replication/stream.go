package replication

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strconv"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"velvetrewind/core/pg"
)

// Stream is the WAL of one timeline, arriving. One goroutine may call Receive
// while another calls Report.
type Stream struct {
	conn     net.Conn
	frontend *pgproto3.Frontend
	stopCtx  func() bool
	writing  sync.Mutex
}

// Message is WAL data or, with empty Data, a keepalive.
type Message struct {
	Start      pg.LSN // of Data
	Data       []byte // valid until the next Receive
	ServerEnd  pg.LSN // how far the server's WAL had got
	ServerTime time.Time
	ReplyNow   bool
}

// Next is where the stream of a timeline ended because another took over.
type Next struct {
	Timeline pg.Timeline
	At       pg.LSN
}

// EndOfTimeline is the error by which Receive says that the server has no more
// WAL on this timeline.
type EndOfTimeline struct{ Next Next }

func (e *EndOfTimeline) Error() string {
	return fmt.Sprintf("the timeline ended at %s; timeline %d goes on from there", e.Next.At, e.Next.Timeline)
}

// Start turns the session into a stream from the slot; the session is used up.
// from should be the beginning of a segment or a place within one already received.
func (s *Session) Start(ctx context.Context, slot string, t pg.Timeline, from pg.LSN) (*Stream, error) {
	s.conn.Frontend().Send(&pgproto3.Query{String: fmt.Sprintf("START_REPLICATION SLOT %s PHYSICAL %s TIMELINE %d", slot, from, t)})
	if err := s.conn.Frontend().Flush(); err != nil {
		return nil, fmt.Errorf("START_REPLICATION: %w", err)
	}
	for {
		msg, err := s.conn.ReceiveMessage(ctx)
		if err != nil {
			return nil, fmt.Errorf("START_REPLICATION: %w", err)
		}
		switch m := msg.(type) {
		case *pgproto3.CopyBothResponse:
			hijacked, err := s.conn.Hijack()
			if err != nil {
				return nil, err
			}
			st := &Stream{conn: hijacked.Conn, frontend: hijacked.Frontend}
			st.stopCtx = context.AfterFunc(ctx, func() { _ = st.conn.SetDeadline(time.Unix(1, 0)) })
			return st, nil
		case *pgproto3.ErrorResponse:
			return nil, fmt.Errorf("START_REPLICATION: %w", pgconn.ErrorResponseToPgError(m))
		case *pgproto3.RowDescription, *pgproto3.DataRow:
			// The server has nothing on this timeline and names the next one at once.
			if row, ok := msg.(*pgproto3.DataRow); ok {
				return nil, endOfTimeline(row.Values)
			}
		}
	}
}

// Close ends the stream by ending the connection.
func (st *Stream) Close() error {
	st.stopCtx()
	return st.conn.Close()
}

// Receive waits for the next message. The end of the timeline is an *EndOfTimeline.
func (st *Stream) Receive() (Message, error) {
	for {
		msg, err := st.frontend.Receive()
		if err != nil {
			return Message{}, err
		}
		switch m := msg.(type) {
		case *pgproto3.CopyData:
			return parseMessage(m.Data)
		case *pgproto3.CopyDone:
			if err := st.send(&pgproto3.CopyDone{}); err != nil {
				return Message{}, err
			}
		case *pgproto3.DataRow:
			return Message{}, endOfTimeline(m.Values)
		case *pgproto3.ErrorResponse:
			return Message{}, pgconn.ErrorResponseToPgError(m)
		case *pgproto3.ReadyForQuery:
			return Message{}, errors.New("the server ended the stream")
		}
	}
}

func parseMessage(b []byte) (Message, error) {
	if len(b) == 0 {
		return Message{}, errors.New("an empty message in the WAL stream")
	}
	u64 := func(at int) uint64 { return binary.BigEndian.Uint64(b[at:]) }
	switch {
	case b[0] == 'w' && len(b) >= 25:
		return Message{Start: pg.LSN(u64(1)), ServerEnd: pg.LSN(u64(9)), ServerTime: pg.Timestamp(int64(u64(17))), Data: b[25:]}, nil
	case b[0] == 'k' && len(b) >= 18:
		return Message{ServerEnd: pg.LSN(u64(1)), ServerTime: pg.Timestamp(int64(u64(9))), ReplyNow: b[17] != 0}, nil
	}
	return Message{}, fmt.Errorf("unknown message %q of %d bytes in the WAL stream", b[0], len(b))
}

func endOfTimeline(values [][]byte) error {
	if len(values) < 2 {
		return errors.New("the server ended the timeline without naming the next")
	}
	t, err := strconv.ParseUint(string(values[0]), 10, 32)
	if err != nil {
		return fmt.Errorf("end of timeline: %w", err)
	}
	at, err := pg.ParseLSN(string(values[1]))
	if err != nil {
		return fmt.Errorf("end of timeline: %w", err)
	}
	return &EndOfTimeline{Next{Timeline: pg.Timeline(t), At: at}}
}

// Report tells the server how far WAL has been written and how far it is safe.
// The server may forget WAL below flushed, and a synchronous commit returns. With
// answer it sends a keepalive at once.
func (st *Stream) Report(written, flushed pg.LSN, answer bool) error {
	b := make([]byte, 0, 34)
	b = append(b, 'r')
	b = binary.BigEndian.AppendUint64(b, uint64(written))
	b = binary.BigEndian.AppendUint64(b, uint64(flushed))
	b = binary.BigEndian.AppendUint64(b, 0) // nothing is applied
	b = binary.BigEndian.AppendUint64(b, uint64(pg.ToTimestamp(time.Now())))
	if answer {
		b = append(b, 1)
	} else {
		b = append(b, 0)
	}
	return st.send(&pgproto3.CopyData{Data: b})
}

func (st *Stream) send(m pgproto3.FrontendMessage) error {
	b, err := m.Encode(nil)
	if err != nil {
		return err
	}
	st.writing.Lock()
	defer st.writing.Unlock()
	_, err = st.conn.Write(b)
	return err
}
