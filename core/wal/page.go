package wal

import (
	"encoding/binary"
	"fmt"

	"velvetrewind/core/pg"
)

// PageSize is the size of a WAL page.
const PageSize = pg.WALBlockSize

const (
	shortHeader = 24
	longHeader  = 40

	flagContinuation   = 0x1 // XLP_FIRST_IS_CONTRECORD
	flagLongHeader     = 0x2 // XLP_LONG_HEADER
	flagOverwritesLost = 0x8 // XLP_FIRST_IS_OVERWRITE_CONTRECORD
)

// pageHeader is an XLogPageHeaderData, with the fields of the long form that
// stands at the beginning of each segment.
type pageHeader struct {
	version     *pg.Version
	flags       uint16
	timeline    pg.Timeline
	address     pg.LSN
	remaining   uint32 // bytes of the record continued from the page before
	size        int    // of this header: 24 or 40
	systemID    uint64 // long form only
	segmentSize pg.SegmentSize
}

// Damage is WAL that cannot be what the server wrote there, or that cannot be replayed.
type Damage struct {
	LSN    pg.LSN
	Reason string
}

func (d *Damage) Error() string {
	return fmt.Sprintf("the WAL cannot be replayed from %s on: %s", d.LSN, d.Reason)
}

func damaged(at pg.LSN, format string, args ...any) *Damage {
	return &Damage{LSN: at, Reason: fmt.Sprintf(format, args...)}
}

// parsePage decodes the header of the page that must stand at address at. The
// page may be cut short, but not within its header.
func parsePage(page []byte, at pg.LSN) (pageHeader, error) {
	if len(page) < shortHeader {
		return pageHeader{}, damaged(at, "%d bytes are too few for a page header", len(page))
	}
	h := pageHeader{
		flags:     binary.LittleEndian.Uint16(page[2:]),
		timeline:  pg.Timeline(binary.LittleEndian.Uint32(page[4:])),
		address:   pg.LSN(binary.LittleEndian.Uint64(page[8:])),
		remaining: binary.LittleEndian.Uint32(page[16:]),
		size:      shortHeader,
	}
	magic := binary.LittleEndian.Uint16(page)
	if h.version = pg.PageVersion(magic); h.version == nil {
		return h, damaged(at, "page magic %04X is not one of PostgreSQL %s", magic, pg.SupportedVersions())
	}
	if h.address != at {
		return h, damaged(at, "the page says that it belongs at %s", h.address)
	}
	if h.flags&flagLongHeader != 0 {
		if len(page) < longHeader {
			return h, damaged(at, "%d bytes are too few for a long page header", len(page))
		}
		h.size = longHeader
		h.systemID = binary.LittleEndian.Uint64(page[24:])
		h.segmentSize = pg.SegmentSize(binary.LittleEndian.Uint32(page[32:]))
		if blk := binary.LittleEndian.Uint32(page[36:]); blk != PageSize {
			return h, damaged(at, "WAL pages of %d bytes; only the default of %d is supported", blk, PageSize)
		}
	}
	return h, nil
}

// EndBefore is where WAL ends that the server means to go on at an address: that is after the
// header of a page when the WAL before it ends with the page before.
func EndBefore(at pg.LSN, z pg.SegmentSize) pg.LSN {
	header := pg.LSN(shortHeader)
	if z.Offset(PageOf(at)) == 0 {
		header = longHeader
	}
	if at == PageOf(at)+header {
		return PageOf(at)
	}
	return at
}
