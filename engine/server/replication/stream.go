package replication

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"velvetrewind/core/pg"
)

// Stream is the WAL of one timeline, arriving. It belongs to one goroutine.
type Stream struct {
	conn    net.Conn
	input   *bufio.Reader
	used    int // of input, by the message returned last
	stopCtx func() bool
	report  [39]byte
}

// Message is WAL data or, with empty Data, a keepalive.
type Message struct {
	Start      pg.LSN // of Data
	Data       []byte // valid until the next Receive
	ServerEnd  pg.LSN // how far the server's WAL had got
	ServerTime time.Time
	ReplyNow   bool
}

// ErrQuiet says that no message came in time.
var ErrQuiet = errors.New("the server has said nothing")

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
			st := &Stream{conn: hijacked.Conn, input: s.input.r}
			st.stopCtx = context.AfterFunc(ctx, func() { _ = st.conn.Close() })
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

// Receive gives the next message, for which it waits until a time; ErrQuiet if none has come
// whole by then. The end of the timeline is an *EndOfTimeline.
func (st *Stream) Receive(until time.Time) (Message, error) {
	for {
		kind, body, err := st.next(until)
		if err != nil {
			return Message{}, err
		}
		switch kind {
		case 'd':
			return parseMessage(body)
		case 'c': // CopyDone
			if err := st.send([]byte{'c', 0, 0, 0, 4}); err != nil {
				return Message{}, err
			}
		case 'D':
			var row pgproto3.DataRow
			if err := row.Decode(body); err != nil {
				return Message{}, err
			}
			return Message{}, endOfTimeline(row.Values)
		case 'E':
			var failure pgproto3.ErrorResponse
			if err := failure.Decode(body); err != nil {
				return Message{}, err
			}
			return Message{}, pgconn.ErrorResponseToPgError(&failure)
		case 'Z': // ReadyForQuery
			return Message{}, errors.New("the server ended the stream")
		}
	}
}

// Arrived tells whether the next message has arrived already.
func (st *Stream) Arrived() bool {
	rest := st.input.Buffered() - st.used
	if rest < 5 {
		return false
	}
	b, err := st.input.Peek(st.used + 5)
	return err == nil && rest >= 1+int(binary.BigEndian.Uint32(b[st.used+1:]))
}

// next reads a message of the protocol: its kind, and its content, which is valid until next is
// called again. Of one that has come in part nothing is lost at the deadline.
func (st *Stream) next(until time.Time) (kind byte, body []byte, err error) {
	if _, err := st.input.Discard(st.used); err != nil {
		return 0, nil, err
	}
	st.used = 0
	if !st.Arrived() {
		if err := st.conn.SetReadDeadline(until); err != nil {
			return 0, nil, err
		}
	}
	head, err := st.input.Peek(5)
	if err != nil {
		return 0, nil, quiet(err)
	}
	length := 1 + int(binary.BigEndian.Uint32(head[1:]))
	if length < 5 || length > receiveBuffer {
		return 0, nil, fmt.Errorf("a message of %d bytes in the WAL stream; the longest are of %d", length, receiveBuffer)
	}
	b, err := st.input.Peek(length)
	if err != nil {
		return 0, nil, quiet(err)
	}
	st.used = length
	return b[0], b[5:], nil
}

func quiet(err error) error {
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return ErrQuiet
	}
	return err
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

// writeTimeout is how long a server may refuse to take a report.
const writeTimeout = 30 * time.Second

// Report tells the server up to where WAL is written and safe. The server may remove WAL
// below that, and a synchronous commit returns. With answer it sends a keepalive at once.
func (st *Stream) Report(flushed pg.LSN, answer bool) error {
	b := append(st.report[:0], 'd', 0, 0, 0, 38, 'r')
	b = binary.BigEndian.AppendUint64(b, uint64(flushed))
	b = binary.BigEndian.AppendUint64(b, uint64(flushed))
	b = binary.BigEndian.AppendUint64(b, 0) // nothing is applied
	b = binary.BigEndian.AppendUint64(b, uint64(pg.ToTimestamp(time.Now())))
	if answer {
		b = append(b, 1)
	} else {
		b = append(b, 0)
	}
	return st.send(b)
}

func (st *Stream) send(b []byte) error {
	if err := st.conn.SetWriteDeadline(time.Now().Add(writeTimeout)); err != nil {
		return err
	}
	_, err := st.conn.Write(b)
	return err
}
