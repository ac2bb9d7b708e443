package wal

// Flags of heap records, beside those in heap.go.
const (
	deleteOldTuple = 1 << 1 // XLH_DELETE_CONTAINS_OLD_TUPLE
	deleteOldKey   = 1 << 2 // XLH_DELETE_CONTAINS_OLD_KEY
	updateOldTuple = 1 << 2 // XLH_UPDATE_CONTAINS_OLD_TUPLE
	updateOldKey   = 1 << 3 // XLH_UPDATE_CONTAINS_OLD_KEY
	updatePrefix   = 1 << 5 // XLH_UPDATE_PREFIX_FROM_OLD
	updateSuffix   = 1 << 6 // XLH_UPDATE_SUFFIX_FROM_OLD

	initsPage = 0x80 // XLOG_HEAP_INIT_PAGE
)

// Place is where a row lies: its ctid in one file.
type Place struct {
	Relation RelationRef
	Block    uint32
	Offset   uint16
}

// RowEvent is one row that a record puts on a page, takes off it, or replaces.
type RowEvent struct {
	Old, New Place // of a row that was inserted there is no Old, of one that was deleted no New: their Offset is 0
	Moved    bool  // deleted here because an UPDATE inserts it into another partition
	Undone   bool  // deleted because the insertion was speculative and is taken back
	// Tuple is the new form, where the record holds it; else it stands in the image of its page, that the record holds
	// instead. Prefix and Suffix are how many bytes of the old form's columns come before and after it.
	Tuple          *Tuple
	Prefix, Suffix int
	// Logged is the old form, or of it what identifies the row, if KeyOnly, where the record holds it for logical decoding.
	Logged  *Tuple
	KeyOnly bool
}

// Form is the new form of a row, of which the old one is given where the record needs it; ok is false where that is nil.
func (e *RowEvent) Form(old *Tuple) (t Tuple, ok bool) {
	if e.Tuple == nil || e.Prefix+e.Suffix > 0 && (old == nil || e.Prefix > len(old.Body()) || e.Suffix > len(old.Data)) {
		return Tuple{}, false
	}
	t = *e.Tuple
	if e.Prefix+e.Suffix == 0 {
		return t, true
	}
	// As heap_xlog_update does: the header's rest, the beginning of the old columns, what is new, the end of the old row.
	head := t.body()
	data := append(make([]byte, 0, len(t.Data)+e.Prefix+e.Suffix), t.Data[:head]...)
	if e.Prefix > 0 {
		data = append(data, old.Body()[:e.Prefix]...)
	}
	data = append(data, t.Data[head:]...)
	if e.Suffix > 0 {
		data = append(data, old.Data[len(old.Data)-e.Suffix:]...)
	}
	t.Data = data
	return t, true
}

// RowEvents takes a heap record apart into the rows that it changes; none for every other record. What it returns is good
// as long as the record is.
func RowEvents(r *Record) ([]RowEvent, error) {
	if (r.Manager != ManagerHeap && r.Manager != ManagerHeap2) || len(r.Blocks) == 0 {
		return nil, nil
	}
	var list []RowEvent
	var err error
	f := fields{b: r.Main}
	switch op := r.Info & heapOpMask; {
	case r.Manager == ManagerHeap2 && op == heap2Multi:
		list, err = multiInserted(r, &f)
	case r.Manager == ManagerHeap2:
	case op == heapInsert:
		e := RowEvent{New: r.Blocks[0].place(f.u16())}
		err = e.take(r.Blocks[0].Data)
		list = []RowEvent{e}
	case op == heapDelete:
		f.skip(4) // xmax
		e := RowEvent{Old: r.Blocks[0].place(f.u16())}
		f.skip(1) // infomask bits
		flags := f.u8()
		e.Moved, e.Undone = flags&deleteIsMove != 0, flags&deleteIsSuper != 0
		err = e.logged(f.b, flags&deleteOldTuple != 0, flags&deleteOldKey != 0)
		list = []RowEvent{e}
	case op == heapUpdate || op == heapHotUpdate:
		list, err = updated(r, &f)
	}
	if err != nil || f.short {
		return nil, damaged(r.Start, "a record of changed rows ends within its fields")
	}
	return list, nil
}

func (b *Block) place(offset uint16) Place { return Place{b.Relation(), b.Number, offset} }

// take reads the new form, where it is there.
func (e *RowEvent) take(b []byte) error {
	if len(b) == 0 {
		return nil
	}
	t, err := readTuple(b)
	e.Tuple = &t
	return err
}

// logged reads what is kept of the old form.
func (e *RowEvent) logged(b []byte, whole, key bool) error {
	if !whole && !key {
		return nil
	}
	t, err := readTuple(b)
	e.Logged, e.KeyOnly = &t, !whole
	return err
}

// updated reads xl_heap_update. The old form lies on the second page, if there is one.
func updated(r *Record, f *fields) ([]RowEvent, error) {
	f.skip(4) // xmax of the old form
	old := f.u16()
	f.skip(1) // infomask bits
	flags := f.u8()
	f.skip(4) // xmax of the new form
	e := RowEvent{Old: r.Blocks[len(r.Blocks)-1].place(old), New: r.Blocks[0].place(f.u16())}
	if err := e.logged(f.b, flags&updateOldTuple != 0, flags&updateOldKey != 0); err != nil {
		return nil, err
	}
	b := fields{b: r.Blocks[0].Data}
	if len(b.b) == 0 {
		return []RowEvent{e}, nil
	}
	if flags&updatePrefix != 0 {
		e.Prefix = int(b.u16())
	}
	if flags&updateSuffix != 0 {
		e.Suffix = int(b.u16())
	}
	if len(b.b) == 0 {
		return nil, errTuple
	}
	err := e.take(b.b)
	return []RowEvent{e}, err
}

// multiInserted reads xl_heap_multi_insert. Where the page is new, the rows' places are not in the record: they are 1, 2, 3 …
func multiInserted(r *Record, f *fields) ([]RowEvent, error) {
	f.skip(2) // flags and padding
	n := int(f.u16())
	data := fields{b: r.Blocks[0].Data}
	var list []RowEvent
	for i := range n {
		offset := uint16(i + 1)
		if r.Info&initsPage == 0 {
			offset = f.u16()
		}
		e := RowEvent{New: r.Blocks[0].place(offset)}
		if len(r.Blocks[0].Data) > 0 {
			data.skip((len(r.Blocks[0].Data) - len(data.b)) % 2) // each begins at an even place
			length := int(data.u16())
			t := Tuple{Mask2: data.u16(), Mask: data.u16(), Offset: data.u8()}
			if data.short || length > len(data.b) {
				return nil, errTuple
			}
			t.Data = data.b[:length]
			data.skip(length)
			if !t.whole() {
				return nil, errTuple
			}
			e.Tuple = &t
		}
		if f.short {
			break
		}
		list = append(list, e)
	}
	return list, nil
}
