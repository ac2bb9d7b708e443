package layout_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log"

	"velvetrewind/core/layout"
)

// Everything in the store is an object: a header, frames, and an end mark. A frame holds at most 128 KiB of content,
// compressed if that makes it shorter, with a checksum and the hash of what it holds; a reader hands over no byte that is
// not what was written there.
func Example() {
	var object bytes.Buffer
	h := layout.Header{}
	w := layout.NewStream(&object, h, nil, layout.Zstd) // without a seal: not encrypted
	if _, err := io.Copy(w, bytes.NewReader(bytes.Repeat([]byte("The 07:40 to Heron Point. "), 10_000))); err != nil {
		log.Fatal(err)
	}
	if err := w.Close(); err != nil {
		log.Fatal(err)
	}

	read := func(object []byte) (frames, size int, err error) {
		src := bytes.NewReader(object)
		h, err := layout.ReadHeader(src)
		if err != nil {
			return 0, 0, err
		}
		for r := layout.NewObjectReader(src, h, nil); ; frames++ {
			content, err := r.Next()
			if errors.Is(err, io.EOF) {
				return frames, size, nil
			}
			if err != nil {
				return frames, size, err
			}
			size += len(content)
		}
	}
	frames, size, err := read(object.Bytes())
	fmt.Println(frames, "frames of", size, "bytes;", "shorter as an object:", object.Len() < size/100, err)

	_, _, err = read(object.Bytes()[:object.Len()-1])
	fmt.Println(err)
	object.Bytes()[60] ^= 1
	_, _, err = read(object.Bytes())
	fmt.Println(err)
	// Output:
	// 2 frames of 260000 bytes; shorter as an object: true <nil>
	// corrupt: cut short within a frame's header
	// corrupt: a frame's checksum is wrong
}
