package pg

import "hash/crc32"

// Castagnoli is the CRC-32C table that PostgreSQL uses for WAL records, the
// control file and its backup manifests.
var Castagnoli = crc32.MakeTable(crc32.Castagnoli)

// JoinCRC32C is the CRC-32C of two stretches of bytes, of which the second is length bytes
// long, from the CRC-32C of each. A checksum is linear: as many zero bits are pushed after
// the first as the second has, by squaring the matrix that pushes one.
func JoinCRC32C(first, second uint32, length int64) uint32 {
	push := pushOneBit.square()
	push = push.square()
	for ; length > 0; length >>= 1 {
		push = push.square() // first of 8 bits, then twice as many each time
		if length&1 == 1 {
			first = push.times(first)
		}
	}
	return first ^ second
}

// matrix is 32 columns over GF(2).
type matrix [32]uint32

var pushOneBit = func() (m matrix) {
	m[0] = crc32.Castagnoli
	for i := range 31 {
		m[i+1] = 1 << i
	}
	return m
}()

func (m *matrix) times(v uint32) (sum uint32) {
	for i := 0; v != 0; i, v = i+1, v>>1 {
		if v&1 == 1 {
			sum ^= m[i]
		}
	}
	return sum
}

func (m *matrix) square() (squared matrix) {
	for i, column := range m {
		squared[i] = m.times(column)
	}
	return squared
}
