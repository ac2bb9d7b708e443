package wal

import (
	"encoding/binary"
	"hash/crc32"

	"velvetrewind/core/pg"
)

// writer lays records out on pages as the server does, for the tests of the reader.
type writer struct {
	out   []byte
	start pg.LSN
	size  pg.SegmentSize
	prev  pg.LSN
}

const testSystem = 4242

func newWriter(start pg.LSN) *writer { return &writer{start: start, size: 1 << 20} }

func (w *writer) at() pg.LSN { return w.start + pg.LSN(len(w.out)) }

// header begins a page; remaining is what a record goes on with there.
func (w *writer) header(remaining int) {
	at, flags, size := w.at(), uint16(0), shortHeader
	if remaining > 0 {
		flags |= flagContinuation
	}
	if w.size.Offset(at) == 0 {
		flags, size = flags|flagLongHeader, longHeader
	}
	h := make([]byte, size)
	binary.LittleEndian.PutUint16(h, pg.Major(15).PageMagic)
	binary.LittleEndian.PutUint16(h[2:], flags)
	binary.LittleEndian.PutUint32(h[4:], 1)
	binary.LittleEndian.PutUint64(h[8:], uint64(at))
	binary.LittleEndian.PutUint32(h[16:], uint32(remaining))
	if size == longHeader {
		binary.LittleEndian.PutUint64(h[24:], testSystem)
		binary.LittleEndian.PutUint32(h[32:], uint32(w.size))
		binary.LittleEndian.PutUint32(h[36:], PageSize)
	}
	w.out = append(w.out, h...)
}

// record appends a record with main data and returns where it begins.
func (w *writer) record(m Manager, info uint8, xid pg.XID, main []byte) pg.LSN {
	body := []byte{idMainLong, 0, 0, 0, 0}
	binary.LittleEndian.PutUint32(body[1:], uint32(len(main)))
	return w.raw(m, info, xid, append(body, main...))
}

func (w *writer) raw(m Manager, info uint8, xid pg.XID, body []byte) pg.LSN {
	if len(w.out)%PageSize == 0 {
		w.header(0)
	}
	start := w.at()
	rec := make([]byte, recordHeader, recordHeader+len(body))
	binary.LittleEndian.PutUint32(rec, uint32(recordHeader+len(body)))
	binary.LittleEndian.PutUint32(rec[4:], uint32(xid))
	binary.LittleEndian.PutUint64(rec[recordPrev:], uint64(w.prev))
	rec[16], rec[17] = info, byte(m)
	crc := crc32.Update(crc32.Checksum(body, pg.Castagnoli), pg.Castagnoli, rec[:recordCRC])
	binary.LittleEndian.PutUint32(rec[recordCRC:], crc)
	rec = append(rec, body...)
	for {
		room := PageSize - len(w.out)%PageSize
		n := min(room, len(rec))
		w.out = append(w.out, rec[:n]...)
		rec = rec[n:]
		if len(rec) == 0 {
			break
		}
		w.header(len(rec))
	}
	for len(w.out)%8 != 0 {
		w.out = append(w.out, 0)
	}
	w.prev = start
	return start
}

// switchSegment ends the segment early.
func (w *writer) switchSegment() {
	w.raw(ManagerXLOG, xlogSwitch, 0, nil)
	for w.size.Offset(w.at()) != 0 {
		w.out = append(w.out, 0)
	}
}

// commitData is the main data of a commit or abort at a time, with sub-transactions.
func commitData(us int64, subs ...pg.XID) (info uint8, main []byte) {
	main = binary.LittleEndian.AppendUint64(nil, uint64(us))
	if len(subs) == 0 {
		return 0, main
	}
	main = binary.LittleEndian.AppendUint32(main, xinfoSubxacts)
	main = binary.LittleEndian.AppendUint32(main, uint32(len(subs)))
	for _, s := range subs {
		main = binary.LittleEndian.AppendUint32(main, uint32(s))
	}
	return xactHasInfo, main
}
