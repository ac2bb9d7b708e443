package layout

import (
	"fmt"
	"io"

	"github.com/zeebo/blake3"
)

// magic begins every object; its last byte is the version of the format.
const magic = "VELVETO\x01"

// ObjectWriter writes an object: the magic, frames, and the end mark.
type ObjectWriter struct {
	dst    io.Writer
	hashes *blake3.Hasher
	total  uint64
	offset int64
	begun  bool
}

// NewObjectWriter begins an object on dst.
func NewObjectWriter(dst io.Writer) *ObjectWriter {
	return &ObjectWriter{dst: dst, hashes: blake3.New()}
}

// WriteFrame appends a frame made by AppendFrame that holds plain bytes of
// content, and returns the offset at which it begins.
func (w *ObjectWriter) WriteFrame(frame []byte, plain int) (int64, error) {
	if err := w.begin(); err != nil {
		return 0, err
	}
	at := w.offset
	_, _ = w.hashes.Write(frame[12:frameHeader])
	w.total += uint64(plain)
	return at, w.write(frame)
}

// Size is how many bytes have been written so far.
func (w *ObjectWriter) Size() int64 { return w.offset }

// Close writes the end mark; it does not close the destination.
func (w *ObjectWriter) Close() error {
	if err := w.begin(); err != nil {
		return err
	}
	var end [frameHeader]byte
	end[0] = byte(endMark)
	copy(end[12:], endHash(w.hashes, w.total))
	return w.write(end[:])
}

func (w *ObjectWriter) begin() error {
	if w.begun {
		return nil
	}
	w.begun = true
	return w.write([]byte(magic))
}

func (w *ObjectWriter) write(b []byte) error {
	n, err := w.dst.Write(b)
	w.offset += int64(n)
	return err
}

// Stream is an object as one stream of bytes: what is written to it is cut into frames.
type Stream struct {
	object *ObjectWriter
	codec  Codec
	buf    []byte
	frame  []byte
}

// NewStream begins an object on dst whose content is what is written to the
// stream. Close it to complete the object.
func NewStream(dst io.Writer, codec Codec) *Stream {
	return &Stream{object: NewObjectWriter(dst), codec: codec, buf: make([]byte, 0, FrameSize)}
}

func (s *Stream) Write(p []byte) (int, error) {
	for rest := p; len(rest) > 0; {
		n := min(len(rest), FrameSize-len(s.buf))
		s.buf = append(s.buf, rest[:n]...)
		rest = rest[n:]
		if len(s.buf) == FrameSize {
			if err := s.flush(); err != nil {
				return 0, err
			}
		}
	}
	return len(p), nil
}

// Close writes what is left and the end mark; it does not close the destination.
func (s *Stream) Close() error {
	if err := s.flush(); err != nil {
		return err
	}
	return s.object.Close()
}

func (s *Stream) flush() error {
	if len(s.buf) == 0 {
		return nil
	}
	s.frame = AppendFrame(s.frame[:0], s.buf, s.codec)
	_, err := s.object.WriteFrame(s.frame, len(s.buf))
	s.buf = s.buf[:0]
	return err
}

// OpenObject reads the content of an object as one stream, verifying all of it:
// the reader's io.EOF means that the object was whole.
func OpenObject(src io.Reader) (io.Reader, error) {
	if err := SkipMagic(src); err != nil {
		return nil, err
	}
	frames := NewFrameReader(src)
	frames.inside = false
	return &objectReader{frames: frames}, nil
}

// SkipMagic reads over the beginning of an object, up to its first frame.
func SkipMagic(src io.Reader) error {
	var head [len(magic)]byte
	if _, err := io.ReadFull(src, head[:]); err != nil {
		return fmt.Errorf("%w: cut short before its content: %w", ErrCorrupt, noEOF(err))
	}
	if string(head[:]) != magic {
		return fmt.Errorf("%w: not an object of this store, or of a newer version of it", ErrCorrupt)
	}
	return nil
}

type objectReader struct {
	frames *FrameReader
	rest   []byte
	err    error
}

func (o *objectReader) Read(p []byte) (int, error) {
	for len(o.rest) == 0 {
		if o.err != nil {
			return 0, o.err
		}
		o.rest, o.err = o.frames.Next()
	}
	n := copy(p, o.rest)
	o.rest = o.rest[n:]
	return n, nil
}
