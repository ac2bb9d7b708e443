package pg

import "errors"

// UnpackPGLZ decodes the server's own compression (common/pg_lzcompress.c), to at most want bytes: a control byte, then
// eight items, each a literal byte or, where its bit is set, a copy of 3 to 273 bytes from up to 4095 bytes back.
func UnpackPGLZ(src []byte, want int) ([]byte, error) {
	bad := errors.New("the bytes compressed with pglz make no sense")
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
