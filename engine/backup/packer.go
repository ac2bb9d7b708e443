package backup

import (
	"context"
	"slices"
	"strings"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// packer takes pieces in order, puts what is new into packs, gathers the maps of files,
// and writes a line of the manifest for each file.
type packer struct {
	w        *writer
	manifest *vault.Writer
	lines    *layout.ManifestWriter
	data     packStream
	sheets   packStream

	file  layout.File // whose map is being gathered
	sheet []layout.Extent
	same  bool // the sheet is what it was, so far
	uses  map[string]*layout.Use
	// essentials are the lines of the files that are read back at the end.
	essentials map[string]*layout.File
	tail       layout.Tail
	frame      []byte
}

func (k *packer) run() error {
	for p := range k.w.order {
		select {
		case <-p.ready:
		case <-k.w.ctx.Done():
			return context.Cause(k.w.ctx)
		}
		if err := k.piece(p); err != nil {
			return err
		}
		k.w.suspects = append(k.w.suspects, p.suspects...)
		k.w.free <- p // never blocks: it has room for every piece
	}
	for _, s := range []*packStream{&k.data, &k.sheets} {
		if err := s.finish(); err != nil {
			return err
		}
	}
	return nil
}

func (k *packer) piece(p *piece) error {
	if p.first {
		k.file, k.sheet, k.same = *p.entry, k.sheet[:0], true
	}
	for _, e := range p.kept {
		if err := k.add(p, e, true); err != nil {
			return err
		}
	}
	if len(p.plain) > 0 {
		e, err := k.store(p)
		if err != nil {
			return err
		}
		if err := k.add(p, e, p.had && e == p.before); err != nil {
			return err
		}
	}
	if !p.last {
		return nil
	}
	if err := k.endSheet(p); err != nil {
		return err
	}
	k.file.CRC32C = p.crc
	if essential(&k.file) {
		f := k.file
		k.essentials[f.Path] = &f
	}
	return k.lines.Add(&k.file)
}

// store finds a place for an extent that was read: where it is already, or in a pack.
func (k *packer) store(p *piece) (layout.Extent, error) {
	switch {
	case p.zero:
		return layout.Extent{}, nil
	case p.same:
		return p.before, nil
	}
	k.tail.NewExtents++
	pack, at, err := k.data.add(p.frame, p.hash)
	return layout.Extent{Pack: pack, Offset: at, Length: len(p.frame), Hash: p.hash}, err
}

// add appends an extent to the file's map; same tells that it was there before in the same place.
func (k *packer) add(p *piece, e layout.Extent, same bool) error {
	k.tail.Extents++
	if e.Zero() {
		k.tail.ZeroExtents++
	} else {
		k.use(e.Pack, e.Length)
	}
	k.sheet = append(k.sheet, e)
	k.same = k.same && same
	if len(k.sheet) == layout.SheetExtents {
		return k.endSheet(p)
	}
	return nil
}

// endSheet puts the sheet where it belongs: one of a short file into its line, one that
// is as it was nowhere, for it is in a pack already.
func (k *packer) endSheet(p *piece) error {
	n := len(k.sheet)
	if n == 0 {
		return nil
	}
	defer func() { k.sheet, k.same = k.sheet[:0], true }()
	if k.file.Extents() <= vault.InlineExtents {
		k.file.Sheet = layout.AppendSheet(nil, k.sheet)
		return nil
	}
	if ref, count, ok := p.old.ref(len(k.file.Sheets)); ok && k.same && count == n {
		k.use(ref.Pack, ref.Length)
		k.file.Sheets = append(k.file.Sheets, ref)
		return nil
	}
	content := layout.AppendSheet(nil, k.sheet)
	k.frame = layout.AppendFrame(k.frame[:0], content, layout.Zstd)
	pack, at, err := k.sheets.add(k.frame, layout.HashOf(content))
	if err != nil {
		return err
	}
	k.use(pack, len(k.frame))
	k.file.Sheets = append(k.file.Sheets, layout.SheetRef{Pack: pack, Offset: at, Length: len(k.frame)})
	return nil
}

func (k *packer) use(pack string, bytes int) {
	u := k.uses[pack]
	if u == nil {
		u = &layout.Use{Pack: pack}
		k.uses[pack] = u
	}
	u.Frames++
	u.Bytes += int64(bytes)
	if !store.PackOf(pack, k.w.opt.ID) {
		k.tail.BytesShared += int64(bytes)
	}
}

// listUses gives what is used of each pack, by its id.
func (k *packer) listUses() []layout.Use {
	list := make([]layout.Use, 0, len(k.uses))
	for _, u := range k.uses {
		list = append(list, *u)
	}
	slices.SortFunc(list, func(a, b layout.Use) int { return strings.Compare(a.Pack, b.Pack) })
	return list
}

func (k *packer) abort() {
	k.data.abort()
	k.sheets.abort()
	k.manifest.Abort()
}

// packStream writes frames into packs, one after the other.
type packStream struct {
	w          *writer
	name       func(backup string, n int) string
	number     int // of the current pack, from 1
	pack       *vault.PackWriter
	stored     int64
	committing chan error // of the pack before, while it is flushed
}

func (s *packStream) add(frame []byte, content layout.Hash) (pack string, at int64, err error) {
	if s.pack != nil && s.pack.Full() {
		if err := s.close(); err != nil {
			return "", 0, err
		}
	}
	if s.pack == nil {
		s.number++
		if s.pack, err = s.w.t.Store.CreatePack(s.w.ctx, s.w.t.Cluster.ID, s.name(s.w.opt.ID, s.number)); err != nil {
			return "", 0, err
		}
	}
	at, err = s.pack.Add(frame, content)
	return s.pack.ID, at, err
}

// close ends the current pack and has it flushed while the next one fills.
func (s *packStream) close() error {
	if s.pack == nil {
		return nil
	}
	if err := s.pack.Close(); err != nil {
		return err
	}
	s.stored += s.pack.Size()
	if err := s.settle(); err != nil {
		return err
	}
	pack, done := s.pack, make(chan error, 1)
	s.pack, s.committing = nil, done
	go func() { done <- pack.Commit() }()
	return nil
}

// settle waits for the pack that is being flushed.
func (s *packStream) settle() error {
	if s.committing == nil {
		return nil
	}
	err := <-s.committing
	s.committing = nil
	return err
}

func (s *packStream) finish() error {
	if err := s.close(); err != nil {
		return err
	}
	return s.settle()
}

func (s *packStream) abort() {
	_ = s.settle()
	if s.pack != nil {
		s.pack.Abort()
		s.pack = nil
	}
}
