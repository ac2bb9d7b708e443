package vault

import (
	"context"
	"fmt"

	"velvetrewind/core/layout"
)

// InlineExtents is how many extents a file has at most whose only sheet lies in its line of
// the manifest.
const InlineExtents = 8

// SheetCount is how many sheets a file's map has.
func SheetCount(f *layout.File) int {
	return (f.Extents() + layout.SheetExtents - 1) / layout.SheetExtents
}

// CheckSheets looks whether a file's map can have as many extents as the file says.
func CheckSheets(f *layout.File) error {
	sheets := len(f.Sheets)
	if f.Sheet != nil {
		sheets = max(sheets, 1)
	}
	if f.Size < 0 || int64(f.Extents()) > int64(sheets)*layout.SheetExtents {
		return fmt.Errorf("%s: %w: %d bytes with a map of %d sheets", f.Path, layout.ErrCorrupt, f.Size, sheets)
	}
	return nil
}

// ReadSheet appends the extents of the n-th sheet of a file's map to dst.
func ReadSheet(ctx context.Context, packs *Packs, f *layout.File, n int, dst []layout.Extent) ([]layout.Extent, error) {
	from := len(dst)
	var err error
	switch {
	case f.Sheet != nil && n == 0:
		dst, err = layout.DecodeSheet(f.Sheet, dst)
	case n < len(f.Sheets):
		ref := f.Sheets[n]
		frame := []Frame{{Offset: ref.Offset, Length: ref.Length}}
		err = packs.Read(ctx, ref.Pack, frame, func(_ int, content []byte, _ layout.Hash) (err error) {
			dst, err = layout.DecodeSheet(content, dst)
			return err
		})
	default:
		err = fmt.Errorf("%w: its map lacks sheet %d", layout.ErrCorrupt, n)
	}
	want := min(f.Extents()-n*layout.SheetExtents, layout.SheetExtents)
	if err == nil && len(dst)-from != want {
		err = fmt.Errorf("%w: its map has %d extents where there should be %d", layout.ErrCorrupt, len(dst)-from, want)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Path, err)
	}
	return dst, nil
}

// EachSheet visits the sheets of a file's map in turn. What a visit is given is good until the next.
func EachSheet(ctx context.Context, packs *Packs, f *layout.File, visit func(n int, extents []layout.Extent) error) error {
	var extents []layout.Extent
	for n := range SheetCount(f) {
		var err error
		if extents, err = ReadSheet(ctx, packs, f, n, extents[:0]); err != nil {
			return err
		}
		if err := visit(n, extents); err != nil {
			return err
		}
	}
	return nil
}
