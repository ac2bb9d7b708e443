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
	d := headers{b: raw[recordHeader:], version: v, record: r, cut: int(r.Length) - len(raw)}
	for len(d.b)+d.cut > d.payload {
		last, err := d.next()
		if err != nil {
			return err
		}
		if last {
			break
		}
	}
	return d.share()
}

// headers walks the block and data headers in front of a record's payload.
type headers struct {
	b        []byte
	version  *pg.Version
	record   *Record
	cut      int // bytes of the record that were not kept
	payload  int // bytes of images, block data and main data announced so far
	mainSize int
	relation [3]uint32 // of the block before, for SAME_REL
}

func (d *headers) take(n int) ([]byte, error) {
	if len(d.b) < n {
		return nil, errShort
	}
	b := d.b[:n]
	d.b = d.b[n:]
	return b, nil
}

func (d *headers) next() (last bool, err error) {
	idb, err := d.take(1)
	if err != nil {
		return false, err
	}
	var b []byte
	switch id := idb[0]; {
	case id == idMainShort:
		if b, err = d.take(1); err == nil {
			d.mainSize = int(b[0])
		}
		last = true
	case id == idMainLong:
		if b, err = d.take(4); err == nil {
			d.mainSize = int(binary.LittleEndian.Uint32(b))
		}
		last = true
	case id == idOrigin:
		if b, err = d.take(2); err == nil {
			d.record.Origin = binary.LittleEndian.Uint16(b)
		}
	case id == idTopXID:
		if b, err = d.take(4); err == nil {
			d.record.TopXID = pg.XID(binary.LittleEndian.Uint32(b))
		}
	case id <= maxBlockID:
		err = d.block(id)
	default:
		err = fmt.Errorf("unknown header id %d", id)
	}
	d.payload += d.mainSize
	return last, err
}

func (d *headers) block(id uint8) error {
	b, err := d.take(3)
	if err != nil {
		return err
	}
	flags, n := b[0], len(d.record.Blocks)
	if n > maxBlockID {
		return errors.New("too many block references")
	}
	blk := d.record.nextBlock()
	*blk = Block{ID: id, Fork: flags & blockForkMask, WillInit: flags&blockWillInit != 0}
	length := &d.record.lengths[n]
	length.data, length.image = int32(binary.LittleEndian.Uint16(b[1:])), 0
	if flags&blockHasImage != 0 {
		if length.image, err = d.image(blk); err != nil {
			return err
		}
	}
	if flags&blockSameRel == 0 {
		if b, err = d.take(12); err != nil {
			return err
		}
		for i := range d.relation {
			d.relation[i] = binary.LittleEndian.Uint32(b[i*4:])
		}
	} else if n == 0 {
		return errors.New("the first block reference names no relation")
	}
	blk.Space, blk.Database, blk.Filenode = d.relation[0], d.relation[1], d.relation[2]
	if b, err = d.take(4); err != nil {
		return err
	}
	blk.Number = binary.LittleEndian.Uint32(b)
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
	b, err := d.take(5)
	if err != nil {
		return 0, err
	}
	size := int(binary.LittleEndian.Uint16(b))
	blk.HoleStart, blk.ImageInfo = binary.LittleEndian.Uint16(b[2:]), b[4]
	compressed := blk.ImageInfo&compressionFlags(d.version) != 0
	switch {
	case blk.ImageInfo&imageHasHole == 0:
	case compressed:
		if b, err = d.take(2); err != nil {
			return 0, err
		}
		blk.HoleSize = binary.LittleEndian.Uint16(b)
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
	if follow := len(d.b) + d.cut; follow != d.payload {
		return fmt.Errorf("its headers announce %d bytes, %d follow", d.payload, follow)
	}
	for i := range d.record.Blocks {
		blk := &d.record.Blocks[i]
		blk.Image, blk.Data = d.give(int(d.record.lengths[i].image)), d.give(int(d.record.lengths[i].data))
	}
	d.record.Main = d.give(d.mainSize)
	return nil
}

// give hands out the next n bytes of the payload, or what was kept of them.
func (d *headers) give(n int) []byte {
	n = min(n, len(d.b))
	if n == 0 {
		return nil
	}
	b := d.b[:n]
	d.b = d.b[n:]
	return b
}
