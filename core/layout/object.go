package layout

import (
	"io"

	"github.com/zeebo/blake3"
)

// ObjectWriter writes an object: the header, frames, and the end mark.
type ObjectWriter struct {
	dst    io.Writer
	seal   *Seal
	hashes *blake3.Hasher
	header Header
	total  uint64
	offset int64
}

// NewObjectWriter begins an object on dst. seal is nil exactly if the header names no key.
func NewObjectWriter(dst io.Writer, h Header, seal *Seal) *ObjectWriter {
	return &ObjectWriter{dst: dst, header: h, seal: seal, hashes: seal.marks()}
}

// WriteFrame appends a frame made by AppendFrame, which it seals, and returns the
// offset at which it begins. content is the hash of its content, without a key; of a
// sealed object it is not looked at.
func (w *ObjectWriter) WriteFrame(frame []byte, content Hash) (int64, error) {
	if err := w.begin(); err != nil {
		return 0, err
	}
	at := w.offset
	w.seal.seal(frame, uint64(at), content)
	return at, w.put(frame)
}

// put appends a frame that has its tag.
func (w *ObjectWriter) put(frame []byte) error {
	_, _ = w.hashes.Write(frame[tagAt:crcAt])
	w.total += uint64(plainLength(frame))
	return w.write(frame)
}

// Size is how many bytes have been written so far.
func (w *ObjectWriter) Size() int64 { return w.offset }

// Close writes the end mark; it does not close the destination.
func (w *ObjectWriter) Close() error {
	if err := w.begin(); err != nil {
		return err
	}
	end := make([]byte, FrameHeader)
	end[0] = byte(endMark)
	(*Seal)(nil).seal(end, 0, Hash([]byte(endHash(w.hashes, w.total))))
	return w.write(end)
}

func (w *ObjectWriter) begin() error {
	if w.offset > 0 {
		return nil
	}
	return w.write(w.header.Append(nil))
}

func (w *ObjectWriter) write(b []byte) error {
	n, err := w.dst.Write(b)
	w.offset += int64(n)
	return err
}

// Stream is an object as one stream of bytes: what is written to it is cut into frames.
type Stream struct {
	*ObjectWriter
	codec Codec
	buf   []byte
	frame []byte
}

// NewStream begins an object on dst whose content is what is written to the
// stream. Close it to complete the object.
func NewStream(dst io.Writer, h Header, seal *Seal, codec Codec) *Stream {
	return &Stream{ObjectWriter: NewObjectWriter(dst, h, seal), codec: codec, buf: make([]byte, 0, ExtentSize)}
}

func (s *Stream) Write(p []byte) (int, error) {
	for rest := p; len(rest) > 0; {
		n := min(len(rest), ExtentSize-len(s.buf))
		s.buf = append(s.buf, rest[:n]...)
		rest = rest[n:]
		if len(s.buf) == ExtentSize {
			if err := s.Flush(); err != nil {
				return 0, err
			}
		}
	}
	return len(p), nil
}

// Close writes what is left and the end mark; it does not close the destination.
func (s *Stream) Close() error {
	if err := s.Flush(); err != nil {
		return err
	}
	return s.ObjectWriter.Close()
}

// Flush ends the frame: what is written next begins another.
func (s *Stream) Flush() error {
	if len(s.buf) == 0 {
		return nil
	}
	s.frame = AppendFrame(s.frame[:0], s.buf, s.codec)
	var hash Hash
	if s.seal == nil {
		hash = HashOf(s.buf)
	}
	_, err := s.WriteFrame(s.frame, hash)
	s.buf = s.buf[:0]
	return err
}

// ReadHeader reads the header of an object.
func ReadHeader(src io.Reader) (Header, error) {
	head := make([]byte, HeaderSize)
	if _, err := io.ReadFull(src, head); err != nil {
		return Header{}, cutShort("before its content", err)
	}
	return ParseHeader(head)
}
