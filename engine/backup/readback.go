package backup

import (
	"context"
	"fmt"
	"hash/crc32"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/store/vault"
)

const labelFile = "backup_label"

// essential are the files without which a base backup cannot be started: they are read back
// from the store, and understood, before the backup is called complete.
func essential(f *layout.File) bool {
	return f.Place == layout.InData && (f.Path == controlFile || f.Path == labelFile)
}

// readBack makes sure that what is in the store by now can be restored: the control file is of
// this cluster and of a supported version, and the label begins where the backup does.
func (w *writer) readBack(ctx context.Context) error {
	content, err := w.storedFile(ctx, controlFile)
	if err != nil {
		return err
	}
	control, err := pg.ParseControl(content)
	if err != nil {
		return fmt.Errorf("the base backup could not be restored: %w", err)
	}
	if control.SystemID != w.head.SystemID || control.SegmentSize != w.head.SegmentSize {
		return fmt.Errorf("the base backup is of the cluster with system identifier %d and WAL segments of %d bytes, where %d and %d "+
			"were registered",
			control.SystemID, control.SegmentSize, w.head.SystemID, w.head.SegmentSize)
	}
	if content, err = w.storedFile(ctx, labelFile); err != nil {
		return err
	}
	label, err := pg.ParseBackupLabel(content)
	if err != nil {
		return fmt.Errorf("the base backup could not be restored: %w", err)
	}
	if label.Start != w.tail.Start || label.Timeline != w.tail.Timeline {
		return fmt.Errorf("the base backup's label begins at %s on timeline %d, the backup at %s on %d", label.Start, label.Timeline,
			w.tail.Start, w.tail.Timeline)
	}
	return nil
}

// storedFile reads an essential file from the packs in the store.
func (w *writer) storedFile(ctx context.Context, name string) ([]byte, error) {
	f := w.packs.essentials[name]
	if f == nil {
		return nil, fmt.Errorf("the base backup could not be restored: it lacks %s", name)
	}
	packs := w.t.Store.Packs(w.t.Cluster.ID)
	extents, err := vault.ReadSheet(ctx, packs, f, 0, nil)
	if err != nil {
		return nil, err
	}
	var content []byte
	for _, e := range extents {
		err := packs.Read(ctx, e.Pack, []vault.Frame{{Offset: e.Offset, Length: e.Length}}, func(_ int, plain []byte, _ layout.Hash) error {
			content = append(content, plain...)
			return nil
		})
		if err != nil {
			return nil, fmt.Errorf("read %s back from the store: %w", name, err)
		}
	}
	if f.CRC32C == nil || crc32.Checksum(content, pg.Castagnoli) != *f.CRC32C {
		return nil, fmt.Errorf("read %s back from the store: its checksum is not that of what was read from the server", name)
	}
	return content, nil
}
