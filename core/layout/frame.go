package layout

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"velvetrewind/core/pg"
)

// Codec is how a frame's content is compressed.
type Codec uint8

// The codecs; S2 is fast, Zstd small.
const (
	Plain Codec = 0
	S2    Codec = 1
	Zstd  Codec = 2

	tableMark Codec = 0xfe // the frame is the table of a condensed pack
	endMark   Codec = 0xff
)

// ParseCodec reads the name of a codec that can be chosen.
func ParseCodec(name string) (Codec, error) {
	switch name {
	case "s2":
		return S2, nil
	case "zstd":
		return Zstd, nil
	}
	return Plain, fmt.Errorf("%q is not a compression; choose zstd (small) or s2 (fast)", name)
}

// ExtentSize is how many bytes of a file an extent holds, and a frame at most before
// compression: 16 pages.
const ExtentSize = 128 << 10

// A frame is a header and its stored bytes:
//
//	offset size
//	     0    1  codec (0 plain, 1 S2 block, 2 zstd frame, 254 table of a condensed pack, 255 end of object)
//	     1    3  zero
//	     4    4  bytes before compression, little-endian
//	     8    4  bytes stored after the header, little-endian
//	    12   16  tag: of a sealed object AES-256-GCM's, with the 12 bytes above as
//	             additional data and the frame's place as nonce; else the hash of the content
//	    28    4  CRC-32C of the 28 bytes above and the stored bytes, little-endian
const (
	FrameHeader = 32
	tagAt       = 12
	crcAt       = 28
)

// maxStored bounds what a reader allocates for a frame.
const maxStored = ExtentSize + ExtentSize/4

// What is read is decompressed by the Go library, however it was compressed: it may be
// damaged, or made to do damage.
var zstdDecoder = newZstdDecoder()

func newZstdDecoder() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(ExtentSize))
	if err != nil {
		panic(err) // only impossible options
	}
	return d
}

// AppendFrame appends the frame of at most ExtentSize bytes to dst, without its tag,
// which it gets when an ObjectWriter writes it. Content that does not shrink is stored plain.
func AppendFrame(dst, content []byte, codec Codec) []byte {
	at := len(dst)
	dst = append(dst, make([]byte, FrameHeader)...)
	switch codec {
	case S2:
		need := s2.MaxEncodedLen(len(content))
		if cap(dst)-len(dst) < need {
			dst = append(make([]byte, 0, len(dst)+need), dst...)
		}
		out := s2.Encode(dst[len(dst):len(dst)+need], content)
		dst = dst[:len(dst)+len(out)]
	case Zstd:
		dst = appendZstd(dst, content)
	}
	stored := len(dst) - at - FrameHeader
	if codec == Plain || codec == tableMark || stored >= len(content) {
		if codec != tableMark {
			codec = Plain
		}
		stored = len(content)
		dst = append(dst[:at+FrameHeader], content...)
	}
	frame := dst[at:]
	frame[0] = byte(codec)
	binary.LittleEndian.PutUint32(frame[4:], uint32(len(content)))
	binary.LittleEndian.PutUint32(frame[8:], uint32(stored))
	return dst
}

// seal gives a frame its tag and checksum. at is its place in the object.
func (s *Seal) seal(frame []byte, at uint64, content Hash) {
	if s == nil {
		copy(frame[tagAt:], content[:])
	} else {
		stored := frame[FrameHeader:]
		out := s.aead.Seal(stored[:0], nonce(at), stored, frame[:tagAt]) // in place where the tag has room after
		copy(stored, out)
		copy(frame[tagAt:], out[len(stored):])
	}
	binary.LittleEndian.PutUint32(frame[crcAt:], frameCRC(frame[:FrameHeader], frame[FrameHeader:]))
}

func frameCRC(head, stored []byte) uint32 {
	return crc32.Update(crc32.Checksum(head[:crcAt], pg.Castagnoli), pg.Castagnoli, stored)
}

// ErrCorrupt is wrapped by every error about bytes that are not what was written.
var ErrCorrupt = errors.New("corrupt")

// FrameReader reads frames one after the other from a stream.
type FrameReader struct {
	src    io.Reader
	seal   *Seal
	head   [FrameHeader]byte
	stored []byte
	plain  []byte
	at     uint64 // place of the next frame
	origin []uint64
	gen    uint32
	hashes *blake3.Hasher // of the tags; nil where the whole object is not verified
	total  uint64
}

// NewFrameReader reads frames from src, which stands at offset at of an object. Each
// frame is verified, the whole object is not.
func NewFrameReader(src io.Reader, seal *Seal, at int64) *FrameReader {
	return &FrameReader{src: src, seal: seal, at: uint64(at)}
}

// Reuse has a reader of NewFrameReader begin with another source and seal, in the memory that it has.
func (r *FrameReader) Reuse(src io.Reader, seal *Seal, at int64) {
	*r = FrameReader{src: src, seal: seal, at: uint64(at), stored: r.stored, plain: r.plain}
}

// NewObjectReader reads all frames of an object from src, which stands after its header.
func NewObjectReader(src io.Reader, h Header, seal *Seal) *FrameReader {
	r := NewFrameReader(src, seal, HeaderSize)
	r.hashes, r.gen = seal.marks(), h.Generation
	return r
}

// At is the offset of the next frame in the bytes that are read.
func (r *FrameReader) At() int64 { return int64(r.at) }

// Resume goes on with another source that stands at offset At. It is for a reader
// whose last Next failed.
func (r *FrameReader) Resume(src io.Reader) { r.src = src }

// Place says at which offset the next frame stood when it was written.
func (r *FrameReader) Place(at int64) { r.at = uint64(at) }

// Tag is the tag of the frame that was read last: of an object that is not sealed, the
// hash of its content. Length is how long it is with its header.
func (r *FrameReader) Tag() Hash   { return Hash(r.head[tagAt:crcAt]) }
func (r *FrameReader) Length() int { return FrameHeader + len(r.stored) }

// Next returns the content of the next frame, valid until the call after it. At the
// object's end mark, which must match an object read from its beginning, it is io.EOF.
// After an error the reader stands where it stood.
func (r *FrameReader) Next() ([]byte, error) {
	for {
		codec, content, err := r.next()
		if err != nil || codec != tableMark {
			return content, err
		}
	}
}

func (r *FrameReader) next() (Codec, []byte, error) {
	if _, err := io.ReadFull(r.src, r.head[:]); err != nil {
		return 0, nil, cutShort("within a frame's header", err)
	}
	codec := Codec(r.head[0])
	plain, stored := int(binary.LittleEndian.Uint32(r.head[4:])), int(binary.LittleEndian.Uint32(r.head[8:]))
	if codec > Zstd && codec < tableMark || plain > ExtentSize || stored > maxStored || r.head[1] != 0 || r.head[2] != 0 || r.head[3] != 0 {
		return 0, nil, fmt.Errorf("%w: impossible frame header", ErrCorrupt)
	}
	if cap(r.stored) < stored {
		r.stored = make([]byte, stored, room(r.stored, stored)+len(Hash{})) // with room for the tag
	}
	r.stored = r.stored[:stored]
	if _, err := io.ReadFull(r.src, r.stored); err != nil {
		return 0, nil, cutShort("within a frame", err)
	}
	if frameCRC(r.head[:], r.stored) != binary.LittleEndian.Uint32(r.head[crcAt:]) {
		return 0, nil, fmt.Errorf("%w: a frame's checksum is wrong", ErrCorrupt)
	}
	if codec == endMark {
		return 0, nil, r.end()
	}
	content, err := r.open(codec, plain)
	if err != nil {
		return 0, nil, err
	}
	if codec == tableMark {
		if err := r.takeTable(content); err != nil {
			return 0, nil, err
		}
	} else if len(r.origin) > 0 {
		r.origin = r.origin[1:]
	}
	if r.hashes != nil {
		_, _ = r.hashes.Write(r.head[tagAt:crcAt])
	}
	r.total += uint64(plain)
	r.at += uint64(FrameHeader + stored)
	return codec, content, nil
}

// place is where the frame stood when it was sealed.
func (r *FrameReader) place(codec Codec) uint64 {
	switch {
	case codec == tableMark:
		return tablePlace(r.gen)
	case len(r.origin) > 0:
		return r.origin[0]
	}
	return r.at
}

// open deciphers and decompresses the frame that was read, and verifies its content.
func (r *FrameReader) open(codec Codec, plain int) ([]byte, error) {
	stored := r.stored
	if r.seal != nil {
		var err error
		sealed := append(stored, r.head[tagAt:crcAt]...)
		r.stored = sealed[:len(stored)]
		if stored, err = r.seal.aead.Open(sealed[:0], nonce(r.place(codec)), sealed, r.head[:tagAt]); err != nil {
			return nil, fmt.Errorf("%w: a frame was not sealed with this key at this place", ErrCorrupt)
		}
	}
	out := stored
	var err error
	switch codec {
	case S2:
		if cap(r.plain) < plain {
			r.plain = make([]byte, room(r.plain, plain))
		}
		// What it says of itself first: room would be made for any length.
		if n, lenErr := s2.DecodedLen(stored); lenErr != nil || n != plain {
			return nil, fmt.Errorf("%w: a frame does not decompress to its size", ErrCorrupt)
		}
		out, err = s2.Decode(r.plain[:plain], stored)
	case Zstd:
		if out, err = zstdDecoder.DecodeAll(stored, r.plain[:0]); err == nil {
			r.plain = out
		}
	}
	if err != nil || len(out) != plain {
		return nil, fmt.Errorf("%w: a frame does not decompress to its size", ErrCorrupt)
	}
	if r.seal == nil && HashOf(out) != Hash(r.head[tagAt:crcAt]) {
		return nil, fmt.Errorf("%w: a frame's hash is wrong", ErrCorrupt)
	}
	return out, nil
}

// room is how much is made for what a frame takes, where there was not enough: most objects are small, and of one frame.
func room(had []byte, needs int) int {
	if had == nil {
		return needs
	}
	return max(needs, ExtentSize)
}

// end verifies the mark that closes an object: the length of all content and the hash of all tags.
func (r *FrameReader) end() error {
	if len(r.stored) != 0 || binary.LittleEndian.Uint32(r.head[4:]) != 0 {
		return fmt.Errorf("%w: impossible end mark", ErrCorrupt)
	}
	if r.hashes != nil && endHash(r.hashes, r.total) != string(r.head[tagAt:crcAt]) {
		return fmt.Errorf("%w: the object is not whole", ErrCorrupt)
	}
	return io.EOF
}

func endHash(hashes *blake3.Hasher, total uint64) string {
	h := hashes.Clone()
	_, _ = h.Write(binary.LittleEndian.AppendUint64(nil, total))
	return string(h.Sum(nil)[:len(Hash{})])
}

// cutShort makes an end where there should be none an error about the bytes. Another error is the source's, and says
// nothing of them: whoever reads on later, or elsewhere, may find them whole.
func cutShort(where string, err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("%w: cut short %s", ErrCorrupt, where)
	}
	return err
}
