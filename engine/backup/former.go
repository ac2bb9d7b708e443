package backup

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// former is the backup that a new one is compared with: its extents need not be stored
// again. Its lines lie in a file aside that has no name any more, so that nothing is left
// of it; in memory is where each begins.
type former struct {
	id    string
	head  layout.Head
	tail  layout.Tail
	lines *os.File
	at    map[uint64]span // by the hash of place and path
	packs *vault.Packs
}

type span struct {
	at     int64
	length int32
}

// openFormer reads the manifest of a backup. dir is where its lines are put aside.
func openFormer(ctx context.Context, v *vault.Vault, cluster, id, dir string) (p *former, err error) {
	manifest, err := v.Open(ctx, store.ManifestKey(cluster, id))
	if err != nil {
		return nil, err
	}
	defer func() { _ = manifest.Close() }()
	p = &former{id: id, at: make(map[uint64]span), packs: v.Packs(cluster)}
	if p.lines, err = os.CreateTemp(dir, "former-*"); err != nil {
		return nil, err
	}
	if err = os.Remove(p.lines.Name()); err == nil {
		err = p.read(manifest)
	}
	if err != nil {
		p.close()
		return nil, fmt.Errorf("the manifest of base %s: %w", id, err)
	}
	return p, nil
}

func (p *former) read(manifest io.Reader) (err error) {
	out := bufio.NewWriterSize(p.lines, 1<<20)
	at := int64(0)
	p.tail, err = layout.ReadManifest(manifest, layout.Visit{
		Head: func(h layout.Head) error { p.head = h; return nil },
		File: func(f *layout.File) error {
			line, err := json.Marshal(f)
			if err != nil {
				return err
			}
			p.at[fileHash(f)] = span{at: at, length: int32(len(line))}
			at += int64(len(line))
			_, err = out.Write(line)
			return err
		},
	})
	return errors.Join(err, out.Flush())
}

func (p *former) close() {
	if p != nil {
		_ = p.lines.Close()
	}
}

// find reads the line of a file; nil if the backup did not have it.
func (p *former) find(f *layout.File) (*layout.File, error) {
	if p == nil || f.Dir {
		return nil, nil
	}
	where, ok := p.at[fileHash(f)]
	if !ok {
		return nil, nil
	}
	line := make([]byte, where.length)
	if _, err := p.lines.ReadAt(line, where.at); err != nil {
		return nil, err
	}
	old := new(layout.File)
	if err := json.NewDecoder(bytes.NewReader(line)).Decode(old); err != nil {
		return nil, err
	}
	if old.Path != f.Path || old.Place != f.Place || old.Dir {
		return nil, nil
	}
	return old, nil
}

// extents walks through what a file's map was, one sheet in memory at a time.
type extents struct {
	former *former
	file   *layout.File // nil: there was no such file
	number int          // of the sheet that is loaded
	sheet  []layout.Extent
}

func (p *former) extents(old *layout.File) *extents {
	return &extents{former: p, file: old, number: -1}
}

// at gives the extent numbered n, if there was one.
func (e *extents) at(ctx context.Context, n int) (layout.Extent, bool, error) {
	if e.file == nil || n >= e.file.Extents() {
		return layout.Extent{}, false, nil
	}
	if want := n / layout.SheetExtents; want != e.number {
		var err error
		if e.sheet, err = vault.ReadSheet(ctx, e.former.packs, e.file, want, e.sheet[:0]); err != nil {
			return layout.Extent{}, false, fmt.Errorf("base %s: %w", e.former.id, err)
		}
		e.number = want
	}
	return e.sheet[n%layout.SheetExtents], true, nil
}

// ref is where a sheet was, and how many extents it had; ok is false if it lay within the file's line.
func (e *extents) ref(sheet int) (ref layout.SheetRef, count int, ok bool) {
	if e.file == nil || sheet >= len(e.file.Sheets) {
		return ref, 0, false
	}
	return e.file.Sheets[sheet], min(e.file.Extents()-sheet*layout.SheetExtents, layout.SheetExtents), true
}
