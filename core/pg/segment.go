package pg

import (
	"fmt"
	"strconv"
	"strings"
)

// SegmentSize is the size of a WAL segment in bytes: a power of two from 1 MiB
// to 1 GiB, fixed for each cluster (wal_segment_size).
type SegmentSize uint32

// DefaultSegmentSize is what initdb chooses unless told otherwise.
const DefaultSegmentSize SegmentSize = 16 << 20

// Valid tells whether PostgreSQL could have this segment size.
func (z SegmentSize) Valid() bool {
	return z >= 1<<20 && z <= 1<<30 && z&(z-1) == 0
}

// Number is the index of the segment that holds l.
func (z SegmentSize) Number(l LSN) uint64 { return uint64(l) / uint64(z) }

// Start is the first byte of the segment numbered n.
func (z SegmentSize) Start(n uint64) LSN { return LSN(n * uint64(z)) }

// Offset is where l lies within its segment.
func (z SegmentSize) Offset(l LSN) int64 { return int64(uint64(l) % uint64(z)) }

// Segment identifies one WAL segment file.
type Segment struct {
	Timeline Timeline
	Number   uint64
}

// Name is the 24-digit file name of the segment (XLogFileName).
func (s Segment) Name(z SegmentSize) string {
	perID := uint64(1<<32) / uint64(z)
	return fmt.Sprintf("%08X%08X%08X", uint32(s.Timeline), s.Number/perID, s.Number%perID)
}

// ParseSegmentName reads a 24-digit segment file name of a cluster with segment size z.
func ParseSegmentName(name string, z SegmentSize) (Segment, error) {
	bad := func() (Segment, error) {
		return Segment{}, fmt.Errorf("%q is not the name of a WAL segment; that has 24 hexadecimal digits", name)
	}
	if len(name) != 24 || strings.ToUpper(name) != name {
		return bad()
	}
	var part [3]uint64
	for i := range part {
		v, err := strconv.ParseUint(name[i*8:i*8+8], 16, 32)
		if err != nil {
			return bad()
		}
		part[i] = v
	}
	perID := uint64(1<<32) / uint64(z)
	if part[0] == 0 || part[2] >= perID {
		return bad()
	}
	return Segment{Timeline: Timeline(part[0]), Number: part[1]*perID + part[2]}, nil
}
