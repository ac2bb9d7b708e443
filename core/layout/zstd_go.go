//go:build !cgo

package layout

import "github.com/klauspost/compress/zstd"

var zstdEncoder = newZstdEncoder()

func newZstdEncoder() *zstd.Encoder {
	// A window of an extent, named before the level, makes each extent one block.
	e, err := zstd.NewWriter(nil, zstd.WithWindowSize(ExtentSize), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false))
	if err != nil {
		panic(err) // only impossible options
	}
	return e
}

// appendZstd appends the zstd frame of content, where no C compiler was at hand.
func appendZstd(dst, content []byte) []byte { return zstdEncoder.EncodeAll(content, dst) }
