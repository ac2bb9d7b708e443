package pg

import (
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
)

// heapPage has three rows of 32 bytes: one whole, one that leads on to it, one dead.
func heapPage() []byte {
	p := make([]byte, BlockSize)
	binary.LittleEndian.PutUint16(p[12:], 24+3*4)
	binary.LittleEndian.PutUint16(p[14:], BlockSize-32)
	binary.LittleEndian.PutUint16(p[16:], BlockSize)
	binary.LittleEndian.PutUint16(p[18:], BlockSize|4)
	p[BlockSize-32+22] = 24
	binary.LittleEndian.PutUint32(p[24:], BlockSize-32|itemNormal<<15|32<<17)
	binary.LittleEndian.PutUint32(p[28:], 1|itemRedirect<<15)
	binary.LittleEndian.PutUint32(p[32:], itemDead<<15)
	return p
}

func TestCheckItems(t *testing.T) {
	assert.Empty(t, CheckItems(heapPage(), HeapPage))
	assert.Empty(t, CheckItems(make([]byte, BlockSize), HeapPage), "a page of zeroes is new")
	assert.NotEmpty(t, CheckItems(heapPage(), ItemPage), "an index has no redirects")
	for what, item := range map[string]uint32{
		"beyond the page":      BlockSize - 8 | itemNormal<<15 | 32<<17,
		"in the line pointers": 24 | itemNormal<<15 | 32<<17,
		"shorter than a row":   BlockSize - 32 | itemNormal<<15 | 16<<17,
		"not aligned":          BlockSize - 31 | itemNormal<<15 | 24<<17,
		"leads nowhere":        9 | itemRedirect<<15,
		"unused with a length": 32 << 17,
	} {
		p := heapPage()
		binary.LittleEndian.PutUint32(p[28:], item)
		assert.NotEmpty(t, CheckItems(p, HeapPage), what)
		assert.Empty(t, CheckItems(p, OtherPage), what)
	}
	p := heapPage()
	p[BlockSize-32+22] = 40
	assert.NotEmpty(t, CheckItems(p, HeapPage), "its data begins after its end")
	p = heapPage()
	binary.LittleEndian.PutUint16(p[12:], 24+3*4+1)
	assert.NotEmpty(t, CheckItems(p, HeapPage), "line pointers end within one")
}

func TestCheckRelationMap(t *testing.T) {
	for _, v := range Versions() {
		b := make([]byte, 8+8*v.MapEntries+4)
		binary.LittleEndian.PutUint32(b, relationMapMagic)
		binary.LittleEndian.PutUint32(b[4:], 17)
		binary.LittleEndian.PutUint32(b[8+8*v.MapEntries:], crc32.Checksum(b[:8+8*v.MapEntries], Castagnoli))
		assert.NoError(t, CheckRelationMap(b, v))
		assert.Error(t, CheckRelationMap(b[:40], v))
		for _, at := range []int{0, 5, 100, len(b) - 1} {
			b[at] ^= 1
			assert.Error(t, CheckRelationMap(b, v), "byte %d", at)
			b[at] ^= 1
		}
	}
}
