package journal

// ChapterMagic begins every chapter; its last byte is the version of the format.
const ChapterMagic = "VELVETC\x03"

// ChapterSize is how many segments, by number, one chapter gathers the heads of.
const ChapterSize = 256

// EncodeChapter writes the heads of one timeline's segments, so that a query over
// months opens one object where it would open many.
func EncodeChapter(heads []Head) []byte {
	w := newWriter()
	w.count(len(heads))
	for i := range heads {
		heads[i].write(w)
	}
	return w.seal(ChapterMagic)
}

// DecodeChapter reads what EncodeChapter wrote, and visits each head, good until the
// next. Whatever the bytes, they are a chapter or ErrFormat.
func DecodeChapter(b []byte, visit func(*Head) error) error {
	p, err := unseal(b, ChapterMagic)
	if err != nil {
		return err
	}
	var h Head
	for range p.count() {
		h.read(p)
		if err := p.err(); err != nil {
			return err
		}
		if err := visit(&h); err != nil {
			return err
		}
	}
	return p.err()
}
