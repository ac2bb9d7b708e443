package pg

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// LSN is a byte position in the write-ahead log (XLogRecPtr).
type LSN uint64

// ParseLSN reads the server's notation, two hexadecimal halves: "16/B374D848".
func ParseLSN(s string) (LSN, error) {
	high, low, ok := strings.Cut(s, "/")
	if !ok || high == "" || low == "" {
		return 0, fmt.Errorf("%q is not an LSN; write it as the server does, for example 0/5A3F2B8", s)
	}
	h, err := strconv.ParseUint(high, 16, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not an LSN: %q is not a 32-bit hexadecimal number", s, high)
	}
	l, err := strconv.ParseUint(low, 16, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not an LSN: %q is not a 32-bit hexadecimal number", s, low)
	}
	return LSN(h<<32 | l), nil
}

func (l LSN) String() string {
	return fmt.Sprintf("%X/%X", uint64(l)>>32, uint32(l))
}

// MarshalText and UnmarshalText give LSNs their notation in JSON.
func (l LSN) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText is the inverse of MarshalText; the empty text is 0/0.
func (l *LSN) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*l = 0
		return nil
	}
	v, err := ParseLSN(string(b))
	*l = v
	return err
}

// Scan lets a pg_lsn or text column be read into an LSN; NULL is 0/0.
func (l *LSN) Scan(src any) error {
	switch v := src.(type) {
	case nil:
		*l = 0
		return nil
	case string:
		return l.UnmarshalText([]byte(v))
	case []byte:
		return l.UnmarshalText(v)
	}
	return fmt.Errorf("an LSN cannot be read from %T", src)
}

// Timeline is a timeline id (TimeLineID); the first timeline of a cluster is 1.
type Timeline uint32

// XID is a 32-bit transaction id, without its epoch.
type XID uint32

// Precedes tells whether x is older than y in the circular order of 32-bit ids
// (TransactionIdPrecedes): half of the id space lies after each id.
func (x XID) Precedes(y XID) bool { return int32(x-y) < 0 }

// FullXID is a 64-bit transaction id: epoch and XID (FullTransactionId).
type FullXID uint64

// Near widens x to the 64-bit id that lies nearest to a known one.
func (x XID) Near(known FullXID) FullXID {
	full := int64(known) + int64(int32(x-XID(known)))
	if full < 0 {
		return FullXID(x)
	}
	return FullXID(full)
}

// Timestamp turns a TimestampTz, microseconds since 2000-01-01 UTC, into a time.
func Timestamp(us int64) time.Time {
	return time.UnixMicro(us + epochShift).UTC()
}

// ToTimestamp is the inverse of Timestamp, dropping what is finer than a microsecond.
func ToTimestamp(t time.Time) int64 { return t.UnixMicro() - epochShift }

// epochShift is 2000-01-01 in microseconds of Unix time.
const epochShift = 946_684_800_000_000
