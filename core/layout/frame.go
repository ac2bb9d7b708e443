package layout

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/s2"
	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// Codec is how a frame's content is compressed.
type Codec uint8

// The codecs; S2 is fast, Zstd small.
const (
	Plain Codec = 0
	S2    Codec = 1
	Zstd  Codec = 2

	endMark Codec = 0xff
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

// FrameSize is how many bytes a frame holds at most before compression: one extent of 16 pages.
const FrameSize = 128 << 10

// A frame is a header and its stored bytes:
//
//	offset size
//	     0    1  codec (0 plain, 1 S2 block, 2 zstd frame, 255 end of object)
//	     1    3  zero
//	     4    4  bytes before compression, little-endian
//	     8    4  bytes stored behind the header, little-endian
//	    12   16  BLAKE3 of the 12 bytes above and the stored bytes, first 16 bytes
const (
	frameHeader = 28
	hashSize    = 16
)

// maxStored bounds what a reader allocates for a frame.
const maxStored = FrameSize + FrameSize/4

var zstdEncoder, zstdDecoder = newZstd()

func newZstd() (*zstd.Encoder, *zstd.Decoder) {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // only impossible options
	}
	d, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(FrameSize))
	if err != nil {
		panic(err)
	}
	return e, d
}

// AppendFrame appends the frame of at most FrameSize bytes to dst. Content that
// does not shrink is stored plain.
func AppendFrame(dst, content []byte, codec Codec) []byte {
	at := len(dst)
	dst = append(dst, make([]byte, frameHeader)...)
	switch codec {
	case S2:
		need := s2.MaxEncodedLen(len(content))
		if cap(dst)-len(dst) < need {
			dst = append(make([]byte, 0, len(dst)+need), dst...)
		}
		out := s2.Encode(dst[len(dst):len(dst)+need], content)
		dst = dst[:len(dst)+len(out)]
	case Zstd:
		dst = zstdEncoder.EncodeAll(content, dst)
	}
	stored := len(dst) - at - frameHeader
	if codec == Plain || stored >= len(content) {
		codec, stored = Plain, len(content)
		dst = append(dst[:at+frameHeader], content...)
	}
	seal(dst[at:], codec, len(content), stored)
	return dst
}

func seal(frame []byte, codec Codec, plain, stored int) {
	frame[0] = byte(codec)
	binary.LittleEndian.PutUint32(frame[4:], uint32(plain))
	binary.LittleEndian.PutUint32(frame[8:], uint32(stored))
	hash := frameHash(frame[:12], frame[frameHeader:frameHeader+stored])
	copy(frame[12:], hash[:])
}

func frameHash(head, stored []byte) (sum [hashSize]byte) {
	h := blake3.New()
	_, _ = h.Write(head)
	_, _ = h.Write(stored)
	copy(sum[:], h.Sum(nil))
	return sum
}

// ErrCorrupt is wrapped by every error about bytes that are not what was written.
var ErrCorrupt = errors.New("corrupt")

// FrameReader reads frames one after the other from a stream.
type FrameReader struct {
	src    io.Reader
	head   [frameHeader]byte
	stored []byte
	plain  []byte
	hashes *blake3.Hasher
	total  uint64
	inside bool
}

// NewFrameReader reads frames from src, which stands at a frame's beginning
// somewhere inside an object. Each frame is verified, the whole object is not.
func NewFrameReader(src io.Reader) *FrameReader {
	return &FrameReader{src: src, hashes: blake3.New(), inside: true}
}

// Next returns the content of the next frame, valid until the call after it. At
// the object's end mark, which must match an object read from its beginning, it is io.EOF.
func (r *FrameReader) Next() ([]byte, error) {
	if _, err := io.ReadFull(r.src, r.head[:]); err != nil {
		return nil, fmt.Errorf("%w: cut short within a frame's header: %w", ErrCorrupt, noEOF(err))
	}
	codec := Codec(r.head[0])
	plain, stored := int(binary.LittleEndian.Uint32(r.head[4:])), int(binary.LittleEndian.Uint32(r.head[8:]))
	if codec == endMark {
		return nil, r.end()
	}
	if codec > Zstd || plain > FrameSize || stored > maxStored {
		return nil, fmt.Errorf("%w: impossible frame header", ErrCorrupt)
	}
	if cap(r.stored) < stored {
		r.stored = make([]byte, stored)
	}
	r.stored = r.stored[:stored]
	if _, err := io.ReadFull(r.src, r.stored); err != nil {
		return nil, fmt.Errorf("%w: cut short within a frame: %w", ErrCorrupt, noEOF(err))
	}
	if hash := frameHash(r.head[:12], r.stored); string(hash[:]) != string(r.head[12:]) {
		return nil, fmt.Errorf("%w: a frame's hash is wrong", ErrCorrupt)
	}
	_, _ = r.hashes.Write(r.head[12:])
	r.total += uint64(plain)
	return r.open(codec, plain)
}

func (r *FrameReader) open(codec Codec, plain int) ([]byte, error) {
	out := r.stored
	var err error
	switch codec {
	case S2:
		if cap(r.plain) < FrameSize {
			r.plain = make([]byte, FrameSize)
		}
		out, err = s2.Decode(r.plain[:FrameSize], r.stored)
	case Zstd:
		out, err = zstdDecoder.DecodeAll(r.stored, r.plain[:0])
		if err == nil {
			r.plain = out
		}
	}
	if err != nil || len(out) != plain {
		return nil, fmt.Errorf("%w: a frame does not decompress to its size", ErrCorrupt)
	}
	return out, nil
}

// end verifies the mark that closes an object: the length of all content and the hash of all hashes.
func (r *FrameReader) end() error {
	for _, b := range r.head[1:12] {
		if b != 0 {
			return fmt.Errorf("%w: impossible end mark", ErrCorrupt)
		}
	}
	if !r.inside && endHash(r.hashes, r.total) != string(r.head[12:]) {
		return fmt.Errorf("%w: the object is not whole", ErrCorrupt)
	}
	return io.EOF
}

func endHash(hashes *blake3.Hasher, total uint64) string {
	h := hashes.Clone()
	_, _ = h.Write(binary.LittleEndian.AppendUint64(nil, total))
	return string(h.Sum(nil)[:hashSize])
}

func noEOF(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
