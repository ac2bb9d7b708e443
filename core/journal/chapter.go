package journal

// ChapterMagic begins every chapter; its last byte is the version of the format.
const ChapterMagic = "VELVETC\x03"

// ChapterSize is how many segments, by number, one chapter gathers the heads of.
const ChapterSize = 256

// EncodeChapter writes the heads of one timeline's segments, so that a query over months opens one object where it would open
// many. It begins with their sum, which DecodeSum reads from as many bytes as the second result says.
func EncodeChapter(heads []Head) (chapter []byte, toSum int) {
	w := newWriter()
	all := sum(heads)
	first := writer{texts: w.texts}
	all.write(&first)
	w.list = first.list
	w.bytes(first.b)
	w.count(len(heads))
	sumEnds := len(w.b)
	for i := range heads {
		heads[i].write(w)
	}
	chapter = w.seal(ChapterMagic)
	return chapter, len(chapter) - len(w.b) + sumEnds
}

// DecodeSum reads from the beginning of a chapter the sum of its heads, and how many they are. It is not ok where that does not
// reach so far, or the chapter has no sum.
func DecodeSum(b []byte) (all Head, heads int, ok bool) {
	p, err := unseal(b, ChapterMagic)
	if err != nil || p.format < 3 {
		return all, 0, false
	}
	first := parser{texts: p.texts, format: p.format, b: p.bytes()}
	all.read(&first)
	heads = int(p.uint())
	return all, heads, p.err() == nil && first.err() == nil && len(first.b) == 0
}

// DecodeChapter visits each head of what EncodeChapter wrote, good until the next. Whatever the bytes, they are a chapter or
// ErrFormat.
func DecodeChapter(b []byte, visit func(*Head) error) error {
	p, err := unseal(b, ChapterMagic)
	if err != nil {
		return err
	}
	if p.format > 2 {
		p.bytes() // the sum
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

// sum is what the heads of segments that follow one another tell together: how much was done to each table in all, and at
// most by one transaction, and where and when that began and ended.
func sum(heads []Head) (all Head) {
	for i := range heads {
		all.join(&heads[i])
	}
	return all
}

// join adds the head of the segment that follows.
func (h *Head) join(next *Head) {
	if h.Records == 0 && h.Segment == (Head{}).Segment {
		h.Segment, h.From = next.Segment, next.From
	}
	h.To, h.End = next.To, next.End
	h.Records, h.Bytes = h.Records+next.Records, h.Bytes+next.Bytes
	h.Aborts += next.Aborts
	if next.MaxXID != 0 {
		h.noteXID(next.MinXID)
		h.noteXID(next.MaxXID)
	}
	if next.Commits > 0 {
		if h.Commits == 0 {
			h.First, h.Earliest, h.Latest = next.First, next.Earliest, next.Latest
		}
		h.Commits, h.Last = h.Commits+next.Commits, next.Last
		if next.Earliest.Before(h.Earliest) {
			h.Earliest = next.Earliest
		}
		if next.Latest.After(h.Latest) {
			h.Latest = next.Latest
		}
	}
	for k, n := range next.Most {
		h.Most[k] = max(h.Most[k], n)
	}
	h.MostRows = max(h.MostRows, next.MostRows)
	h.RestorePoints = append(h.RestorePoints, next.RestorePoints...)
	h.Objects = append(h.Objects, next.Objects...)
	for i := range next.Tables {
		s := &next.Tables[i]
		of := &h.Tables[h.sumFor(s.key(), s)]
		for k := range s.Sum {
			of.Sum[k] += s.Sum[k]
			of.Most[k] = max(of.Most[k], s.Most[k])
		}
	}
}
