package replication

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"velvetrewind/core/pg"
)

// BaseBackupOptions choose how the server makes a base backup.
type BaseBackupOptions struct {
	Label string
	Fast  bool // checkpoint at once rather than spread out
}

// Tablespace is a tablespace outside the data directory.
type Tablespace struct {
	OID      uint32
	Location string
	Size     int64 // estimate in bytes
}

// BaseBackup is a base backup as the server sends it. Call NextArchive until
// io.EOF, read each archive to its end, then call Finish.
type BaseBackup struct {
	Start       pg.LSN
	Timeline    pg.Timeline
	Tablespaces []Tablespace // without the data directory itself
	Size        int64        // estimate in bytes of all archives

	conn *pgconn.PgConn
	stop func() bool
	// apart says that each archive comes in a copy of its own, without an announcement: first
	// the tablespaces in the order of announced, then the manifest.
	apart     bool
	announced []uint32
	pending   []byte // data of the current message not read yet
	archive   *archive
	manifest  bool
	ended     bool
}

// BaseBackup begins a base backup; the session is used up. Checksums of pages are
// left to the caller, who sees every page anyway.
func (s *Session) BaseBackup(ctx context.Context, opt BaseBackupOptions) (*BaseBackup, error) {
	s.conn.Frontend().Send(&pgproto3.Query{String: command(opt, s.version)})
	if err := s.conn.Frontend().Flush(); err != nil {
		return nil, fmt.Errorf("BASE_BACKUP: %w", err)
	}
	b := &BaseBackup{conn: s.conn, apart: !s.version.OneArchive}
	// One watch for the whole backup: ReceiveMessage is called without a context
	// of its own, which would cost a goroutine for each message.
	b.stop = context.AfterFunc(ctx, func() { _ = s.conn.Conn().SetDeadline(time.Unix(1, 0)) })
	if err := b.begin(); err != nil {
		b.stop()
		return nil, fmt.Errorf("BASE_BACKUP: %w", err)
	}
	return b, nil
}

// command asks for a base backup in the words of the server's version.
func command(opt BaseBackupOptions, v *pg.Version) string {
	label := strings.ReplaceAll(opt.Label, "'", "''")
	if !v.OneArchive {
		fast := ""
		if opt.Fast {
			fast = "FAST "
		}
		return fmt.Sprintf("BASE_BACKUP LABEL '%s' PROGRESS %sNOWAIT TABLESPACE_MAP NOVERIFY_CHECKSUMS MANIFEST 'yes' "+
			"MANIFEST_CHECKSUMS 'CRC32C'", label, fast)
	}
	checkpoint := "spread"
	if opt.Fast {
		checkpoint = "fast"
	}
	return fmt.Sprintf("BASE_BACKUP (LABEL '%s', CHECKPOINT '%s', WAIT false, MANIFEST 'yes', MANIFEST_CHECKSUMS 'CRC32C', "+
		"TABLESPACE_MAP true, PROGRESS true, VERIFY_CHECKSUMS false)",
		label, checkpoint)
}

// begin reads the two result sets in front of the archives.
func (b *BaseBackup) begin() error {
	sets := 0
	for {
		msg, err := b.receive()
		if err != nil {
			return err
		}
		switch m := msg.(type) {
		case *pgproto3.DataRow:
			if sets == 0 {
				b.Start, b.Timeline, err = position(m.Values)
			} else {
				err = b.addTablespace(m.Values)
			}
			if err != nil {
				return err
			}
		case *pgproto3.CommandComplete:
			sets++
		case *pgproto3.CopyOutResponse:
			if b.apart {
				b.nextApart()
			}
			return nil
		}
	}
}

// nextApart notes what the copy holds that begins now.
func (b *BaseBackup) nextApart() {
	if len(b.announced) == 0 {
		b.manifest = true
		return
	}
	b.archive = &archive{tablespace: b.announced[0], fresh: true}
	b.announced = b.announced[1:]
}

func (b *BaseBackup) addTablespace(values [][]byte) error {
	if len(values) < 3 {
		return errors.New("a tablespace in a form that is not known")
	}
	var size int64
	if values[2] != nil {
		kib, err := strconv.ParseInt(string(values[2]), 10, 64)
		if err != nil {
			return err
		}
		size = kib << 10
	}
	b.Size += size
	if values[0] == nil {
		b.announced = append(b.announced, 0)
		return nil // the data directory
	}
	oid, err := strconv.ParseUint(string(values[0]), 10, 32)
	if err != nil {
		return err
	}
	b.announced = append(b.announced, uint32(oid))
	b.Tablespaces = append(b.Tablespaces, Tablespace{OID: uint32(oid), Location: string(values[1]), Size: size})
	return nil
}

// Archive is one tar archive: a tablespace, or with OID 0 the data directory.
type Archive struct {
	Tablespace uint32
	io.Reader
}

// NextArchive goes on to the next archive. After the last one it is io.EOF, and
// Manifest may be read.
func (b *BaseBackup) NextArchive() (Archive, error) {
	if err := b.drain(); err != nil {
		return Archive{}, err
	}
	if b.archive == nil { // the first announcement has not been seen
		if _, err := b.fill(); err != nil && !errors.Is(err, io.EOF) {
			return Archive{}, err
		}
	}
	next := b.archive
	if b.manifest || b.ended || next == nil {
		return Archive{}, io.EOF
	}
	b.archive.fresh = false
	return Archive{Tablespace: next.tablespace, Reader: b}, nil
}

type archive struct {
	tablespace uint32
	fresh      bool // announced, and not handed out yet
}

func (b *BaseBackup) drain() error {
	_, err := io.Copy(io.Discard, b)
	return err
}

// Manifest reads the server's own backup manifest, which follows the archives.
func (b *BaseBackup) Manifest() io.Reader { return manifestReader{b} }

type manifestReader struct{ b *BaseBackup }

func (m manifestReader) Read(p []byte) (int, error) { return m.b.readPending(p) }

// Read reads the current archive.
func (b *BaseBackup) Read(p []byte) (int, error) {
	if b.archive == nil || b.archive.fresh || b.manifest {
		return 0, io.EOF
	}
	return b.readPending(p)
}

func (b *BaseBackup) readPending(p []byte) (int, error) {
	for len(b.pending) == 0 {
		if b.ended {
			return 0, io.EOF
		}
		if border, err := b.fill(); err != nil {
			return 0, err
		} else if border {
			return 0, io.EOF
		}
	}
	n := copy(p, b.pending)
	b.pending = b.pending[n:]
	return n, nil
}

// fill waits for the next message with data; border is true where the content
// that was being read has ended.
func (b *BaseBackup) fill() (border bool, err error) {
	for {
		msg, err := b.receive()
		if err != nil {
			return false, err
		}
		switch m := msg.(type) {
		case *pgproto3.CopyData:
			if len(m.Data) == 0 {
				continue
			}
			if b.apart {
				b.pending = m.Data
				return false, nil
			}
			switch m.Data[0] {
			case 'd':
				b.pending = m.Data[1:]
				return false, nil
			case 'n':
				b.archive, err = newArchive(m.Data[1:])
				return true, err
			case 'm':
				b.manifest = true
				return true, nil
			}
		case *pgproto3.CopyOutResponse:
			b.nextApart()
			return true, nil
		case *pgproto3.CopyDone:
			if b.apart && !b.manifest {
				continue // the next copy follows
			}
			b.ended = true
			return true, nil
		}
	}
}

// newArchive reads an announcement: two zero-terminated texts, the archive's name and the tablespace's path.
func newArchive(announcement []byte) (*archive, error) {
	name, _, ok := bytes.Cut(announcement, []byte{0})
	digits, isTar := strings.CutSuffix(string(name), ".tar")
	if !ok || !isTar {
		return nil, fmt.Errorf("unknown archive %q in the base backup", announcement)
	}
	if digits == "base" {
		return &archive{fresh: true}, nil
	}
	oid, err := strconv.ParseUint(digits, 10, 32)
	if err != nil {
		return nil, fmt.Errorf("unknown archive %q in the base backup", name)
	}
	return &archive{tablespace: uint32(oid), fresh: true}, nil
}

// Finish reads to the end and returns the LSN up to which WAL is needed.
func (b *BaseBackup) Finish() (stop pg.LSN, err error) {
	defer b.stop()
	for !b.ended {
		if _, err := b.fill(); err != nil {
			return 0, err
		}
	}
	for {
		msg, err := b.receive()
		if err != nil {
			return 0, err
		}
		switch m := msg.(type) {
		case *pgproto3.DataRow:
			if stop, _, err = position(m.Values); err != nil {
				return 0, err
			}
		case *pgproto3.ReadyForQuery:
			if stop == 0 {
				return 0, errors.New("the server ended the base backup without a stop position")
			}
			return stop, nil
		}
	}
}

func (b *BaseBackup) receive() (pgproto3.BackendMessage, error) {
	msg, err := b.conn.ReceiveMessage(context.Background())
	if err != nil {
		return nil, err
	}
	if e, ok := msg.(*pgproto3.ErrorResponse); ok {
		return nil, pgconn.ErrorResponseToPgError(e)
	}
	return msg, nil
}

func position(values [][]byte) (pg.LSN, pg.Timeline, error) {
	if len(values) < 2 {
		return 0, 0, errors.New("a position in a form that is not known")
	}
	at, err := pg.ParseLSN(string(values[0]))
	if err != nil {
		return 0, 0, err
	}
	t, err := strconv.ParseUint(string(values[1]), 10, 32)
	return at, pg.Timeline(t), err
}
