package wal

import (
	"encoding/binary"
	"errors"
	"fmt"

	"velvetrewind/core/pg"
)

// Record is one WAL record (XLogRecord) with its block references taken apart.
type Record struct {
	Start, End pg.LSN // End is where the server goes on: aligned, at a page's end the page border
	Prev       pg.LSN
	XID        pg.XID // 0 where no transaction wrote it
	TopXID     pg.XID // of a sub-transaction's first record with wal_level=logical, else 0
	Timeline   pg.Timeline
	Manager    Manager
	Info       uint8
	Length     uint32 // whole, with header and images, in bytes
	Origin     uint16 // replication origin, 0 for none
	Main       []byte // the resource manager's own data
	Blocks     []Block
	// Cut says that the record is so long that only its beginning was kept: Main, and the data and
	// images of its last blocks, end before they should. It was verified as a whole.
	Cut bool

	lengths [maxBlockID + 1]struct{ image, data int32 } // of the blocks, while they are taken apart
}

// Block is a reference to one page of a relation.
type Block struct {
	ID        uint8
	Fork      uint8 // ForkNumber: 0 main, 1 free-space map, 2 visibility map, 3 init
	WillInit  bool
	Space     uint32
	Database  uint32
	Filenode  uint32
	Number    uint32
	Data      []byte
	Image     []byte // a full-page image as it stands in the record, without its hole
	HoleStart uint16
	HoleSize  uint16
	ImageInfo uint8
}

// Relation names the files that the block belongs to.
func (b *Block) Relation() RelationRef { return RelationRef{b.Space, b.Database, b.Filenode} }

const (
	recordHeader  = 24
	recordPrev    = 8
	recordManager = 17
	recordCRC     = 20

	idMainShort = 255
	idMainLong  = 254
	idOrigin    = 253
	idTopXID    = 252
	maxBlockID  = 32

	blockForkMask = 0x0f
	blockHasImage = 0x10
	blockHasData  = 0x20
	blockWillInit = 0x40
	blockSameRel  = 0x80

	imageHasHole = 0x01
)

var errShort = errors.New("the record ends within its headers")

// decode takes raw, the record or its kept beginning, apart. Slices point into raw.
func (r *Record) decode(raw []byte, v *pg.Version) error {
	r.Length, r.XID = binary.LittleEndian.Uint32(raw), pg.XID(binary.LittleEndian.Uint32(raw[4:]))
	r.Prev = pg.LSN(binary.LittleEndian.Uint64(raw[recordPrev:]))
	r.Info, r.Manager, r.Cut = raw[16], Manager(raw[recordManager]), int(r.Length) > len(raw)
	r.TopXID, r.Origin, r.Blocks = 0, 0, r.Blocks[:0]
	d := headers{b: raw, at: recordHeader, version: v, record: r, cut: int(r.Length) - len(raw)}
	for last := false; !last && len(raw)-d.at+d.cut > d.payload; {
		var err error
		if last, err = d.next(); err != nil {
			return err
		}
	}
	return d.share()
}

// headers walks the block and data headers in front of a record's payload.
type headers struct {
	b        []byte
	at       int // of the next header in b
	version  *pg.Version
	record   *Record
	cut      int // bytes of the record that were not kept
	payload  int // bytes of images, block data and main data announced so far
	mainSize int
	relation RelationRef // of the block before, for SAME_REL
}

// lacks tells whether fewer than n bytes are left.
func (d *headers) lacks(n int) bool { return len(d.b)-d.at < n }

func (d *headers) next() (last bool, err error) {
	if d.lacks(1) {
		return false, errShort
	}
	id := d.b[d.at]
	if id <= maxBlockID {
		return false, d.block(id)
	}
	size := 0
	switch id {
	case idMainShort:
		size, last = 1, true
	case idMainLong:
		size, last = 4, true
	case idOrigin:
		size = 2
	case idTopXID:
		size = 4
	default:
		return false, fmt.Errorf("unknown header id %d", id)
	}
	if d.lacks(1 + size) {
		return false, errShort
	}
	b := d.b[d.at+1:]
	switch id {
	case idMainShort:
		d.mainSize = int(b[0])
	case idMainLong:
		d.mainSize = int(binary.LittleEndian.Uint32(b))
	case idOrigin:
		d.record.Origin = binary.LittleEndian.Uint16(b)
	case idTopXID:
		d.record.TopXID = pg.XID(binary.LittleEndian.Uint32(b))
	}
	d.at += 1 + size
	d.payload += d.mainSize
	return last, nil
}

// block reads a block header, and what follows it of an image and a relation.
func (d *headers) block(id uint8) error {
	const (
		header   = 4
		relation = 12
		number   = 4
	)
	if d.lacks(header) {
		return errShort
	}
	flags, n := d.b[d.at+1], len(d.record.Blocks)
	if n > maxBlockID {
		return errors.New("too many block references")
	}
	blk := d.record.nextBlock()
	blk.ID, blk.Fork, blk.WillInit = id, flags&blockForkMask, flags&blockWillInit != 0
	blk.HoleStart, blk.HoleSize, blk.ImageInfo = 0, 0, 0
	length := &d.record.lengths[n]
	length.data, length.image = int32(binary.LittleEndian.Uint16(d.b[d.at+2:])), 0
	d.at += header
	if flags&blockHasImage != 0 {
		var err error
		if length.image, err = d.image(blk); err != nil {
			return err
		}
	}
	if flags&blockSameRel == 0 {
		if d.lacks(relation) {
			return errShort
		}
		b := d.b[d.at : d.at+relation]
		d.relation = RelationRef{binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint32(b[4:]), binary.LittleEndian.Uint32(b[8:])}
		d.at += relation
	} else if n == 0 {
		return errors.New("the first block reference names no relation")
	}
	if d.lacks(number) {
		return errShort
	}
	blk.Space, blk.Database, blk.Filenode = d.relation.Space, d.relation.Database, d.relation.Filenode
	blk.Number = binary.LittleEndian.Uint32(d.b[d.at:])
	d.at += number
	d.payload += int(length.data + length.image)
	return nil
}

// nextBlock makes room for one more block.
func (r *Record) nextBlock() *Block {
	if n := len(r.Blocks); n < cap(r.Blocks) {
		r.Blocks = r.Blocks[:n+1]
	} else {
		r.Blocks = append(r.Blocks, Block{})
	}
	return &r.Blocks[len(r.Blocks)-1]
}

func (d *headers) image(blk *Block) (stored int32, err error) {
	const (
		header = 5
		hole   = 2
	)
	if d.lacks(header) {
		return 0, errShort
	}
	b := d.b[d.at:]
	d.at += header
	size := int(binary.LittleEndian.Uint16(b))
	blk.HoleStart, blk.ImageInfo = binary.LittleEndian.Uint16(b[2:]), b[4]
	compressed := blk.ImageInfo&compressionFlags(d.version) != 0
	switch {
	case blk.ImageInfo&imageHasHole == 0:
	case compressed:
		if d.lacks(hole) {
			return 0, errShort
		}
		blk.HoleSize = binary.LittleEndian.Uint16(b[header:])
		d.at += hole
	default:
		blk.HoleSize = uint16(pg.BlockSize - size)
	}
	if size > pg.BlockSize || int(blk.HoleStart)+int(blk.HoleSize) > pg.BlockSize {
		return 0, fmt.Errorf("impossible page image: %d bytes, hole of %d at %d", size, blk.HoleSize, blk.HoleStart)
	}
	return int32(size), nil
}

// share hands the payload out: each block's image and data in turn, then the main data.
func (d *headers) share() error {
	if follow := len(d.b) - d.at + d.cut; follow != d.payload {
		return fmt.Errorf("its headers announce %d bytes, %d follow", d.payload, follow)
	}
	for i := range d.record.Blocks {
		blk, length := &d.record.Blocks[i], d.record.lengths[i]
		blk.Image, blk.Data = d.give(int(length.image)), d.give(int(length.data))
	}
	d.record.Main = d.give(d.mainSize)
	return nil
}

// give hands out the next n bytes of the payload, or what was kept of them.
func (d *headers) give(n int) []byte {
	if n = min(n, len(d.b)-d.at); n == 0 {
		return nil
	}
	b := d.b[d.at : d.at+n]
	d.at += n
	return b
}
