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
		return pg.UnpackPGLZ(b.Image, want)
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
