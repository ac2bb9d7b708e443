package wal

import (
	"hash/crc32"

	"velvetrewind/core/pg"
)

// What is kept of a record that crosses pages. Those that carry what the journal needs in their
// own data, however many sub-transactions or relations that names, are kept up to keptWhole bytes;
// the others, which are long only by what a user has put into them, up to keptHead.
const (
	keptWhole = 16 << 20
	keptHead  = 1 << 20
)

// crossing is a record that crosses pages, as far as it was read.
type crossing struct {
	start pg.LSN
	total int // its length; 0 while there is none
	got   int
	crc   uint32 // of what follows the header
	kept  []byte // its beginning
}

func (c *crossing) begin(start pg.LSN, total int) {
	kept := c.kept[:0]
	if cap(kept) > keptHead {
		kept = nil // that of one long record is not held for ever
	}
	*c = crossing{start: start, total: total, kept: kept}
}

// add takes the next bytes of the record.
func (c *crossing) add(b []byte) {
	if header := max(recordHeader-c.got, 0); header < len(b) {
		c.crc = crc32.Update(c.crc, pg.Castagnoli, b[header:])
	}
	c.got += len(b)
	limit := keptHead
	if len(c.kept) > recordManager && Manager(c.kept[recordManager]).telling() {
		limit = keptWhole
	}
	if room := limit - len(c.kept); room > 0 {
		c.kept = append(c.kept, b[:min(room, len(b))]...)
	}
}
