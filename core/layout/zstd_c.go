//go:build cgo

package layout

import (
	"slices"
	"sync"

	"github.com/DataDog/zstd"
)

// zstdLevel is the C library's: the quickest that does not give up size for it.
const zstdLevel = 1

var zstdContexts = sync.Pool{New: func() any { return zstd.NewCtx() }}

// appendZstd appends the zstd frame of content. The C library takes less than half the
// time of the Go one, and somewhat less room.
func appendZstd(dst, content []byte) []byte {
	ctx := zstdContexts.Get().(zstd.Ctx)
	defer zstdContexts.Put(ctx)
	at := len(dst)
	dst = slices.Grow(dst, zstd.CompressBound(len(content)))
	out, err := ctx.CompressLevel(dst[at:cap(dst)], content, zstdLevel)
	if err != nil {
		return append(dst, content...) // not shorter, so it is stored plain
	}
	return dst[:at+len(out)]
}
