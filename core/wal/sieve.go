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
// becomes a no-operation of the same length, with a right CRC; so do locks, for which there nobody waits. Where such records follow
// each other all but the last become one, which takes their place: a server spends more on each record than on its bytes. All else
// stays as it is, byte for byte. It holds one record in memory, the run before it, and what a Reader does.
type Sieve struct {
	Lacks       func(RelationRef) bool
	Keep        []pg.LSN // addresses at which a server may begin or end: no record goes up into one that begins before
	SegmentSize pg.SegmentSize
	SystemID    uint64 // of the cluster; 0 accepts any
}

// CarriedAt is where in a segment stands what Segment is given as carried, and what it does not change: whoever does not have it yet may
// write it there afterwards.
const CarriedAt = longHeader

// Segment passes on the segment that begins at start. in is all of it; next, of what follows, is read only as far as the last record
// goes on there. carried is what Segment has returned for the segment before: the bytes with which the record goes on that crosses
// into this one, where they are others than those in in. What cannot be read as WAL, and what follows it, is passed on as it is:
// it is for the server to say where its WAL ends.
func (s Sieve) Segment(out io.Writer, start pg.LSN, in, next io.Reader, carried []byte) (carry []byte, err error) {
	w := &sieving{Sieve: s, out: bufio.NewWriterSize(out, 64<<10), base: start, end: start + pg.LSN(s.SegmentSize), carried: carried}
	w.src = io.MultiReader(in, next)
	r := NewReader(w, Options{Start: start, SegmentSize: s.SegmentSize, SystemID: s.SystemID})
	for at := start; at < w.end; {
		rec, err := r.Next()
		if err != nil {
			var damage *Damage
			if !errors.Is(err, io.EOF) && !errors.Is(err, ErrUnwritten) && !errors.As(err, &damage) {
				return nil, err
			}
			w.empty()
			return nil, w.rest()
		}
		if rec.Start >= w.end {
			break
		}
		drop, err := w.drops(rec, r.Version())
		if err != nil {
			return nil, err
		}
		if drop {
			err = w.leaveOut(rec)
		} else {
			w.empty()
			err = w.flush(rec.End)
		}
		at = rec.End
		if err != nil {
			return nil, err
		}
	}
	w.empty()
	return w.carry, w.rest()
}

// lacks is Lacks, which is not asked again for the relation that the record before was about, too.
func (w *sieving) lacks(f RelationRef) bool {
	if f != w.asked {
		w.asked, w.answer = f, w.Lacks(f)
	}
	return w.answer
}

// drops tells whether a record is of no use where files are lacking.
func (w *sieving) drops(r *Record, v *pg.Version) (bool, error) {
	lacking := 0
	for i := range r.Blocks {
		if w.lacks(r.Blocks[i].Relation()) {
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
		return w.lacks(b.Relation), nil
	case FileTruncate:
		return w.lacks(b.Relation), nil
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
	run     stretch
	last    stretch     // the record that was left out last, after those of run; of no length where there is none
	asked   RelationRef // that Lacks was asked about last
	answer  bool
}

// stretch is one record, or several that become one.
type stretch struct {
	start, end pg.LSN // end as a Record's, of the first
	length     int    // without the headers of pages
	prev       pg.LSN
	xid        pg.XID // the latest; 0 for none
}

// mostHeld is more than a record that is about pages can be long; of longer ones nothing is changed.
const mostHeld = 16 << 20

// Read reads for the Reader, and holds what it has read.
func (w *sieving) Read(b []byte) (int, error) {
	if len(w.held)-w.off > mostHeld {
		w.empty()
		if err := w.flush(w.base + pg.LSN(len(w.held)-w.off)); err != nil {
			return 0, err
		}
	}
	if w.off > mostHeld/32 {
		w.held, w.off = w.held[:copy(w.held, w.held[w.off:])], 0
	}
	n, err := w.src.Read(b)
	w.held = append(w.held, b[:n]...)
	if len(w.carried) > 0 && len(w.held) >= CarriedAt+len(w.carried) { // nothing was passed on yet
		copy(w.held[CarriedAt:], w.carried)
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

// longestRun bounds what goes up into one record, so that a server has room for it where it reads ahead.
const longestRun = 256 << 10

// leaveOut makes a no-operation of a record, once it is known whether others follow.
func (w *sieving) leaveOut(r *Record) error {
	if r.Start < w.base {
		return fmt.Errorf("%w: the record at %s is of %d bytes", ErrSieve, r.Start, r.Length)
	}
	one := stretch{r.Start, r.End, int(r.Length), r.Prev, r.XID}
	if !w.follows(one) {
		w.empty()
		if err := w.flush(r.Start); err != nil {
			return err
		}
		w.last = one
		return nil
	}
	if w.run.length == 0 {
		w.run = w.last
	} else {
		w.run.length, w.run.xid = payload(w.run.start, w.last.start)+w.last.length, laterXID(w.run.xid, w.last.xid)
	}
	w.last = one
	return nil
}

// follows tells whether a record comes right after the last that was left out, which may go up into the run before it then.
func (w *sieving) follows(one stretch) bool {
	if w.last.length == 0 || w.run.length+w.last.length > longestRun || one.start-w.last.end > shortHeader {
		return false
	}
	for _, k := range w.Keep {
		if w.last.start <= k && k <= one.start {
			return false
		}
	}
	return true
}

func laterXID(a, b pg.XID) pg.XID {
	if a == 0 || b != 0 && int32(b-a) > 0 {
		return b
	}
	return a
}

// payload is how many bytes lie between two addresses in one segment, without the headers of pages.
func payload(from, to pg.LSN) int {
	return int(to-from) - shortHeader*int((PageOf(to)-PageOf(from))/PageSize)
}

// each calls do with the pieces of a stretch, and the header of the page that each of them begins after; nil for the first.
func (w *sieving) each(s stretch, do func(at pg.LSN, header, piece []byte)) {
	at := s.start
	for left := s.length; left > 0; {
		var header []byte
		from := w.off + int(at-w.base)
		if at == PageOf(at) {
			size := shortHeader
			if w.SegmentSize.Offset(at) == 0 {
				size = longHeader
			}
			header = w.held[from : from+size]
			at, from = at+pg.LSN(size), from+size
		}
		n := min(left, int(PageOf(at)+PageSize-at))
		do(at, header, w.held[from:from+n])
		at, left = at+pg.LSN(n), left-n
	}
}

// empty makes no-operations of what was left out: of the run one, and of the record after it one of its own, which is where the next
// record says that the one before it begins.
func (w *sieving) empty() {
	if w.run.length > 0 {
		w.noop(w.run)
		w.last.prev = w.run.start
	}
	if w.last.length > 0 {
		w.noop(w.last)
	}
	w.run, w.last = stretch{}, stretch{}
}

// noop makes a no-operation of a stretch: its header, the few bytes after it, and what its pages' headers say; the rest stays.
func (w *sieving) noop(s stretch) {
	head := noopHead(s)
	crc, seen := crc32.Checksum(head[recordHeader:], pg.Castagnoli), 0
	w.each(s, func(_ pg.LSN, header, b []byte) {
		if header != nil {
			header[2] |= flagContinuation
			binary.LittleEndian.PutUint32(header[16:], uint32(s.length-seen))
		}
		crc = crc32.Update(crc, pg.Castagnoli, b[min(len(b), max(0, len(head)-seen)):])
		seen += len(b)
	})
	binary.LittleEndian.PutUint32(head[recordCRC:], crc32.Update(crc, pg.Castagnoli, head[:recordCRC]))
	w.each(s, func(at pg.LSN, _, b []byte) {
		n := copy(b, head)
		if head = head[n:]; at >= w.end {
			w.carry = append(w.carry, b[:n]...)
		}
	})
}

// noopHead is what a stretch begins with as a no-operation, but for its CRC: the record's header, and that of the data that all
// the rest becomes.
func noopHead(s stretch) []byte {
	const short, long = 2, 5
	head := make([]byte, recordHeader, recordHeader+long)
	binary.LittleEndian.PutUint32(head, uint32(s.length))
	binary.LittleEndian.PutUint32(head[4:], uint32(s.xid))
	binary.LittleEndian.PutUint64(head[recordPrev:], uint64(s.prev))
	head[recordManager-1], head[recordManager] = xlogNoop, byte(ManagerXLOG)
	if body := s.length - recordHeader; body > short+255 {
		return binary.LittleEndian.AppendUint32(append(head, idMainLong), uint32(body-long))
	}
	return append(head, idMainShort, byte(s.length-recordHeader-short))
}
