package layout

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"fmt"

	"github.com/zeebo/blake3"
)

// Hash is the first 16 bytes of a BLAKE3 hash.
type Hash [16]byte

// HashKey keys the hashes of extents, so that who sees them learns nothing; nil hashes without a key.
type HashKey *[32]byte

// HashOf hashes content without a key.
func HashOf(content []byte) (h Hash) {
	sum := blake3.Sum256(content)
	copy(h[:], sum[:])
	return h
}

// Hasher hashes extents one after the other; each goroutine needs its own.
type Hasher struct{ keyed *blake3.Hasher }

// NewHasher makes a hasher with a key; with nil it hashes as HashOf does.
func NewHasher(key HashKey) *Hasher {
	if key == nil {
		return &Hasher{}
	}
	return &Hasher{keyed: keyed(key[:])}
}

// Of hashes the content of an extent.
func (h *Hasher) Of(content []byte) (sum Hash) {
	if h.keyed == nil {
		return HashOf(content)
	}
	h.keyed.Reset()
	_, _ = h.keyed.Write(content)
	var whole [32]byte
	copy(sum[:], h.keyed.Sum(whole[:0]))
	return sum
}

// Matches tells whether content is what an extent holds.
func (h *Hasher) Matches(e Extent, content []byte) bool {
	if e.Zero() {
		return bytes.Equal(content, zeroes[:len(content)])
	}
	return h.Of(content) == e.Hash
}

var zeroes [ExtentSize]byte

func keyed(key []byte) *blake3.Hasher {
	h, err := blake3.NewKeyed(key)
	if err != nil {
		panic(err) // only a key of another length
	}
	return h
}

// Header begins every object.
type Header struct {
	Key        uint32   // number of the key that seals its frames; 0: they are not encrypted
	Generation uint32   // of a pack that was condensed; 0 otherwise
	Salt       [16]byte // makes the object's own key; zero without one
}

// magic begins every object; its last byte is the version of the format.
const magic = "VELVETO\x02"

// HeaderSize is the length of an object's header, and so the offset of its first frame.
const HeaderSize = 32

// Append writes the header:
//
//	offset size
//	     0    8  magic
//	     8    4  number of the key, little-endian
//	    12    4  generation, little-endian
//	    16   16  salt
func (h Header) Append(dst []byte) []byte {
	dst = append(dst, magic...)
	dst = binary.LittleEndian.AppendUint32(dst, h.Key)
	dst = binary.LittleEndian.AppendUint32(dst, h.Generation)
	return append(dst, h.Salt[:]...)
}

// ParseHeader reads a header of HeaderSize bytes.
func ParseHeader(b []byte) (h Header, err error) {
	if len(b) < HeaderSize || string(b[:len(magic)]) != magic {
		return h, fmt.Errorf("%w: not an object of this store, or of another version of it", ErrCorrupt)
	}
	h.Key, h.Generation = binary.LittleEndian.Uint32(b[8:]), binary.LittleEndian.Uint32(b[12:])
	copy(h.Salt[:], b[16:])
	if h.Key == 0 && h.Salt != [16]byte{} {
		return h, fmt.Errorf("%w: impossible header", ErrCorrupt)
	}
	return h, nil
}

// Seal protects the frames of one object: a nil Seal by hashes alone.
type Seal struct {
	aead cipher.AEAD
	mac  []byte
}

// NewSeal makes the seal of an object from the key of its cluster, the object's salt
// and its name: AES-256-GCM for frames, keyed BLAKE3 for the end mark.
func NewSeal(clusterKey [32]byte, salt [16]byte, name string) *Seal {
	var keys [64]byte
	blake3.DeriveKey("velvet rewind 2026 object key", append(append(clusterKey[:], salt[:]...), name...), keys[:])
	block, err := aes.NewCipher(keys[:32])
	if err != nil {
		panic(err) // only a key of another length
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err)
	}
	return &Seal{aead: aead, mac: keys[32:]}
}

// nonce is the place of a frame, which no other frame of the object has.
func nonce(at uint64) []byte {
	n := make([]byte, 12)
	binary.LittleEndian.PutUint64(n, at)
	return n
}

// marks hashes the tags of an object's frames for its end mark.
func (s *Seal) marks() *blake3.Hasher {
	if s == nil {
		return blake3.New()
	}
	return keyed(s.mac)
}

// DeriveKey makes a key for a purpose from another.
func DeriveKey(key [32]byte, purpose, name string) (derived [32]byte) {
	blake3.DeriveKey("velvet rewind 2026 "+purpose, append(key[:], name...), derived[:])
	return derived
}
