package wal

import (
	"errors"
	"fmt"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"

	"velvetrewind/core/pg"
)

// compressionFlags are the bits of a page image's flags of which one says how it is compressed.
func compressionFlags(v *pg.Version) uint8 { return v.ImagePGLZ | v.ImageLZ4 | v.ImageZstd }

var imageDecoder = newImageDecoder()

func newImageDecoder() *zstd.Decoder {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<20))
	if err != nil {
		panic(err) // only impossible options
	}
	return d
}

// Page gives the whole page of a full-page image, with its hole filled with zeroes.
// It is an error if the block has no image, or one that cannot be right.
func (b *Block) Page(v *pg.Version) ([]byte, error) {
	if len(b.Image) == 0 {
		return nil, errors.New("the block has no page image")
	}
	want := pg.BlockSize - int(b.HoleSize)
	packed, err := b.unpack(v, want)
	if err != nil {
		return nil, err
	}
	if len(packed) != want {
		return nil, fmt.Errorf("a page image of %d bytes where %d and a hole of %d make a page", len(packed), want, b.HoleSize)
	}
	page := make([]byte, pg.BlockSize)
	copy(page, packed[:b.HoleStart])
	copy(page[int(b.HoleStart)+int(b.HoleSize):], packed[b.HoleStart:])
	return page, nil
}

func (b *Block) unpack(v *pg.Version, want int) ([]byte, error) {
	switch method := b.ImageInfo & compressionFlags(v); method {
	case 0:
		return b.Image, nil
	case v.ImagePGLZ:
		return unpackPGLZ(b.Image, want)
	case v.ImageLZ4:
		out := make([]byte, want)
		n, err := lz4.UncompressBlock(b.Image, out)
		if err != nil {
			return nil, fmt.Errorf("LZ4 page image: %w", err)
		}
		return out[:n], nil
	case v.ImageZstd:
		out, err := imageDecoder.DecodeAll(b.Image, make([]byte, 0, want))
		if err != nil {
			return nil, fmt.Errorf("zstd page image: %w", err)
		}
		return out, nil
	}
	return nil, fmt.Errorf("page image compressed in more than one way (%#x)", b.ImageInfo)
}

// unpackPGLZ decodes the server's own compression (common/pg_lzcompress.c): a
// control byte, then eight items, each a literal byte or, where its bit is set, a
// copy of 3 to 273 bytes from up to 4095 bytes back.
func unpackPGLZ(src []byte, want int) ([]byte, error) {
	bad := errors.New("pglz page image: its bytes make no sense")
	out := make([]byte, 0, want)
	for len(src) > 0 && len(out) < want {
		control := src[0]
		src = src[1:]
		for bit := 0; bit < 8 && len(src) > 0 && len(out) < want; bit, control = bit+1, control>>1 {
			if control&1 == 0 {
				out, src = append(out, src[0]), src[1:]
				continue
			}
			if len(src) < 2 {
				return nil, bad
			}
			length, back := int(src[0]&0x0f)+3, int(src[0]&0xf0)<<4|int(src[1])
			src = src[2:]
			if length == 18 {
				if len(src) < 1 {
					return nil, bad
				}
				length, src = length+int(src[0]), src[1:]
			}
			if back == 0 || back > len(out) {
				return nil, bad
			}
			for range min(length, want-len(out)) {
				out = append(out, out[len(out)-back])
			}
		}
	}
	return out, nil
}
