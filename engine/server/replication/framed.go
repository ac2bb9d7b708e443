package replication

import (
	"bufio"
	"encoding/binary"
	"io"

	"github.com/jackc/pgx/v5/pgproto3"
)

// receiveBuffer holds at least one message of WAL, of which the server sends 128 KiB at most.
const receiveBuffer = 256 << 10

// framed hands on what a server sends, but never more than the message that is being read. So
// nothing of what follows is lost when a Stream takes the buffer over from pgproto3.
type framed struct {
	r    *bufio.Reader
	left int // bytes of the current message that were not read yet
}

func newFramed(r io.Reader) *framed { return &framed{r: bufio.NewReaderSize(r, receiveBuffer)} }

// frontend builds the reader of a connection's messages over it.
func (f *framed) frontend(r io.Reader, w io.Writer) *pgproto3.Frontend {
	*f = *newFramed(r) // another try than the one before
	return pgproto3.NewFrontend(f, w)
}

// Read implements io.Reader.
func (f *framed) Read(p []byte) (int, error) {
	if f.left == 0 {
		head, err := f.r.Peek(5)
		if err != nil {
			return 0, err
		}
		f.left = 1 + int(binary.BigEndian.Uint32(head[1:]))
	}
	n, err := f.r.Read(p[:min(len(p), f.left)])
	f.left -= n
	return n, err
}
