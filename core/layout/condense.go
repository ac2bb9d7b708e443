package layout

import (
	"encoding/binary"
	"fmt"
	"io"
)

// A condensed pack holds only those frames of a pack that are still used, byte for byte
// as they were, after a table of where they had been. Backups name a frame by its pack
// and its first offset for ever, so that no manifest changes when a pack is condensed.

// Moved is a frame of a condensed pack.
type Moved struct {
	Origin int64 // offset in the pack as it was first written
	Length int   // with its header
}

// MostFrames bounds the frames of a pack, so that its table fits into a frame.
const MostFrames = 16384

// tablePlace is the place of a condensed pack's table, which no frame has.
func tablePlace(generation uint32) uint64 { return 1<<63 | uint64(generation) }

// Condenser writes a condensed pack.
type Condenser struct {
	*ObjectWriter
	rest []Moved
}

// NewCondenser begins the next generation of a pack on dst with the frames that stay,
// in the order of their origin. h is the header of that generation, whose number no attempt before
// may have had: its table is sealed with it.
func NewCondenser(dst io.Writer, h Header, seal *Seal, stay []Moved) (*Condenser, error) {
	c := &Condenser{ObjectWriter: NewObjectWriter(dst, h, seal), rest: stay}
	var table []byte
	end := int64(0)
	for _, m := range stay {
		table = binary.AppendUvarint(table, uint64(m.Origin-end))
		table = binary.AppendUvarint(table, uint64(m.Length))
		end = m.Origin + int64(m.Length)
	}
	if len(stay) > MostFrames || len(table) > ExtentSize {
		return nil, fmt.Errorf("a pack of %d frames is more than a table holds", len(stay))
	}
	frame := AppendFrame(nil, table, tableMark)
	if err := c.begin(); err != nil {
		return nil, err
	}
	seal.seal(frame, tablePlace(h.Generation), HashOf(table))
	return c, c.put(frame)
}

// Add takes over the next frame as it is stored, header and all.
func (c *Condenser) Add(frame []byte) error {
	if len(c.rest) == 0 || len(frame) != c.rest[0].Length || len(frame) < FrameHeader {
		return fmt.Errorf("%w: not the frame whose turn it is", ErrCorrupt)
	}
	if frameCRC(frame[:FrameHeader], frame[FrameHeader:]) != binary.LittleEndian.Uint32(frame[crcAt:]) {
		return fmt.Errorf("%w: a frame's checksum is wrong", ErrCorrupt)
	}
	c.rest = c.rest[1:]
	return c.put(frame)
}

func plainLength(frame []byte) uint32 { return binary.LittleEndian.Uint32(frame[4:]) }

// Table reads the table of a condensed pack from src, which stands after its header,
// and says at which offset the first of the frames begins.
func Table(src io.Reader, h Header, seal *Seal) (list []Moved, first int64, err error) {
	r := NewObjectReader(src, h, seal)
	codec, content, err := r.next()
	if err != nil {
		return nil, 0, err
	}
	if codec != tableMark {
		return nil, 0, fmt.Errorf("%w: a condensed pack without its table", ErrCorrupt)
	}
	list, err = parseTable(content)
	return list, r.At(), err
}

func parseTable(b []byte) (list []Moved, err error) {
	end := int64(0)
	for len(b) > 0 {
		gap, n := binary.Uvarint(b)
		if n <= 0 {
			return nil, fmt.Errorf("%w: a table that cannot be read", ErrCorrupt)
		}
		length, k := binary.Uvarint(b[n:])
		if k <= 0 || gap > 1<<40 || length < FrameHeader || length > FrameHeader+maxStored {
			return nil, fmt.Errorf("%w: a table that cannot be read", ErrCorrupt)
		}
		b = b[n+k:]
		list = append(list, Moved{end + int64(gap), int(length)})
		end += int64(gap) + int64(length)
	}
	return list, nil
}

// takeTable has the frames that follow opened at the places where they had been.
func (r *FrameReader) takeTable(content []byte) error {
	list, err := parseTable(content)
	for _, m := range list {
		r.origin = append(r.origin, uint64(m.Origin))
	}
	return err
}
