package journal

// ChapterMagic begins every chapter; its last byte is the version of the format.
const ChapterMagic = "VELVETC\x03"

// ChapterSize is how many segments, by number, one chapter gathers the heads of.
const ChapterSize = 256

// EncodeChapter writes the heads of one timeline's segments, so that a query over
// months opens one object where it would open many, with their sum before them.
func EncodeChapter(heads []Head) []byte {
	w := newWriter()
	all := sum(heads)
	first := writer{texts: w.texts}
	all.write(&first)
	w.list = first.list
	w.bytes(first.b)
	w.count(len(heads))
	for i := range heads {
		heads[i].write(w)
	}
	return w.seal(ChapterMagic)
}

// DecodeChapter reads what EncodeChapter wrote. Unless enough, which is told the sum of so many heads, says that this
// suffices, it visits each head, good until the next. Whatever the bytes, they are a chapter or ErrFormat.
func DecodeChapter(b []byte, enough func(all *Head, heads int) bool, visit func(*Head) error) error {
	p, err := unseal(b, ChapterMagic)
	if err != nil {
		return err
	}
	first := parser{texts: p.texts, format: p.format}
	if p.format > 2 {
		first.b = p.bytes()
	}
	n := p.count()
	var h Head
	if len(first.b) > 0 && enough != nil {
		h.read(&first)
		if err := first.err(); err != nil {
			return err
		}
		if enough(&h, n) {
			return nil
		}
	}
	for range n {
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
