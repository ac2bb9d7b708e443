package wal

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"velvetrewind/core/pg"
)

// ErrSieve says that WAL cannot be passed on to a server that lacks files.
var ErrSieve = errors.New("this WAL is replayed only where no file is lacking")

// Sieve passes WAL on to a server that lacks the files of some relations, and is only read. A record that touches nothing but these
// becomes a no-operation of the same length, with a right CRC; so do locks, for which there nobody waits. All else stays as it is,
// byte for byte. It holds one record in memory, and what a Reader does.
type Sieve struct {
	Lacks       func(RelationRef) bool
	SegmentSize pg.SegmentSize
	SystemID    uint64 // of the cluster; 0 accepts any
}

// Segment passes on the segment that begins at start. in is all of it; next, of what follows, is read only as far as the last record
// goes on there. carried is what Segment has returned for the segment before: the bytes with which the record goes on that crosses
// into this one, where they are others than those in in. What cannot be read as WAL, and what follows it, is passed on as it is:
// it is for the server to say where its WAL ends.
func (s Sieve) Segment(out io.Writer, start pg.LSN, in, next io.Reader, carried []byte) (carry []byte, err error) {
	w := &sieving{Sieve: s, out: bufio.NewWriterSize(out, 64<<10), base: start, end: start + pg.LSN(s.SegmentSize), carried: carried}
	w.src = io.MultiReader(in, next)
	r := NewReader(w, Options{Start: start, SegmentSize: s.SegmentSize, SystemID: s.SystemID})
	for w.base < w.end {
		rec, err := r.Next()
		if err != nil {
			var damage *Damage
			if !errors.Is(err, io.EOF) && !errors.Is(err, ErrUnwritten) && !errors.As(err, &damage) {
				return nil, err
			}
			return nil, w.rest()
		}
		if rec.Start >= w.end {
			break
		}
		drop, err := s.drops(rec, r.Version())
		if err != nil {
			return nil, err
		}
		if drop && rec.Start < w.base {
			return nil, fmt.Errorf("%w: the record at %s is of %d bytes", ErrSieve, rec.Start, rec.Length)
		}
		if drop {
			w.empty(rec)
		}
		if err := w.flush(rec.End); err != nil {
			return nil, err
		}
	}
	return w.carry, w.rest()
}

// drops tells whether a record is of no use where files are lacking.
func (s Sieve) drops(r *Record, v *pg.Version) (bool, error) {
	lacking := 0
	for i := range r.Blocks {
		if s.Lacks(r.Blocks[i].Relation()) {
			lacking++
		}
	}
	switch {
	case lacking > 0 && lacking < len(r.Blocks):
		return false, fmt.Errorf("%w: the record at %s is about files that are lacking and about others", ErrSieve, r.Start)
	case lacking > 0 && int(r.Manager) >= len(managerNames):
		return false, fmt.Errorf("%w: the record at %s is of an extension's resource manager (%d)", ErrSieve, r.Start, r.Manager)
	case lacking > 0:
		return true, nil
	case r.Manager != ManagerStorage && r.Manager != ManagerDatabase && r.Manager != ManagerStandby:
		return false, nil
	}
	body, err := Decode(r, v)
	if err != nil {
		return false, fmt.Errorf("%w: %w", ErrSieve, err)
	}
	switch b := body.(type) {
	case FileCreate:
		return s.Lacks(b.Relation), nil
	case FileTruncate:
		return s.Lacks(b.Relation), nil
	case Locks:
		return true, nil
	case DatabaseCreate:
		if b.FileCopy {
			return false, fmt.Errorf("%w: at %s a database is copied as files", ErrSieve, r.Start)
		}
	}
	return false, nil
}

// sieving is a segment being passed on. What its Reader has read is held until the record that it belongs to was seen.
type sieving struct {
	Sieve
	src     io.Reader
	out     *bufio.Writer
	held    []byte
	off     int    // where in held what was not passed on begins
	base    pg.LSN // of that
	end     pg.LSN // of the segment
	carried []byte
	carry   []byte // what changes after end
	raw     []byte // of the record that was emptied last
}

// mostHeld is more than a record that is about pages can be long; of longer ones nothing is changed.
const mostHeld = 16 << 20

// Read reads for the Reader, and holds what it has read.
func (w *sieving) Read(b []byte) (int, error) {
	if len(w.held)-w.off > mostHeld {
		if err := w.flush(w.base + pg.LSN(len(w.held)-w.off)); err != nil {
			return 0, err
		}
	}
	if w.off > mostHeld/32 {
		w.held, w.off = w.held[:copy(w.held, w.held[w.off:])], 0
	}
	n, err := w.src.Read(b)
	w.held = append(w.held, b[:n]...)
	if len(w.carried) > 0 && len(w.held) >= longHeader+len(w.carried) { // nothing was passed on yet
		copy(w.held[longHeader:], w.carried)
		w.carried = nil
	}
	return n, err
}

// flush passes on what comes before an address.
func (w *sieving) flush(to pg.LSN) error {
	n := min(int(min(to, w.end)-w.base), len(w.held)-w.off)
	if n <= 0 {
		return nil
	}
	_, err := w.out.Write(w.held[w.off : w.off+n])
	w.off += n
	w.base += pg.LSN(n)
	return err
}

// rest passes on what is left of the segment as it is.
func (w *sieving) rest() error {
	if err := w.flush(w.end); err != nil {
		return err
	}
	if _, err := io.CopyN(w.out, w.src, int64(w.end-w.base)); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	return w.out.Flush()
}

// each calls do with the stretches of a record, which goes around the headers of pages.
func (w *sieving) each(r *Record, do func(at pg.LSN, stretch []byte)) {
	at := r.Start
	for left := int(r.Length); left > 0; {
		if at == PageOf(at) {
			header := shortHeader
			if w.SegmentSize.Offset(at) == 0 {
				header = longHeader
			}
			at += pg.LSN(header)
		}
		n := min(left, int(PageOf(at)+PageSize-at))
		from := w.off + int(at-w.base)
		do(at, w.held[from:from+n])
		at, left = at+pg.LSN(n), left-n
	}
}

// empty makes a no-operation of a record: of its header and the few bytes after it, the rest stays.
func (w *sieving) empty(r *Record) {
	raw := w.raw[:0]
	w.each(r, func(_ pg.LSN, b []byte) { raw = append(raw, b...) })
	w.raw = raw
	const short, long = 2, 5 // the headers of the data that all that follows becomes
	changed := recordHeader
	switch body := len(raw) - recordHeader; {
	case body > short+255:
		raw[recordHeader] = idMainLong
		binary.LittleEndian.PutUint32(raw[recordHeader+1:], uint32(body-long))
		changed += long
	default:
		raw[recordHeader], raw[recordHeader+1] = idMainShort, byte(body-short)
		changed += short
	}
	raw[recordManager-1], raw[recordManager] = xlogNoop, byte(ManagerXLOG)
	crc := crc32.Update(crc32.Checksum(raw[recordHeader:], pg.Castagnoli), pg.Castagnoli, raw[:recordCRC])
	binary.LittleEndian.PutUint32(raw[recordCRC:], crc)
	raw = raw[:changed]
	w.each(r, func(at pg.LSN, b []byte) {
		n := copy(b, raw)
		if raw = raw[n:]; at >= w.end {
			w.carry = append(w.carry, b[:n]...)
		}
	})
}
