package backup

import (
	"context"

	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
)

// packer writes pieces in order into packs, and a line of the manifest for each file.
type packer struct {
	w        *writer
	manifest store.Writer
	lines    *layout.ManifestWriter

	number int // of the current pack, from 1
	pack   store.Writer
	object *layout.ObjectWriter
	entry  struct {
		pack   int
		offset int64
	}
	stored     int64
	committing chan error // of the pack before, while it is flushed
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
	if err := k.close(); err != nil {
		return err
	}
	return k.settle()
}

func (k *packer) piece(p *piece) error {
	if p.first {
		k.entry.pack, k.entry.offset = 0, 0
	}
	if len(p.plain) > 0 {
		if err := k.room(); err != nil {
			return err
		}
		at, err := k.object.WriteFrame(p.frame, len(p.plain))
		if err != nil {
			return err
		}
		if p.first {
			k.entry.pack, k.entry.offset = k.number, at
		}
	}
	if !p.last {
		return nil
	}
	e := p.entry
	e.Pack, e.Offset = k.entry.pack, k.entry.offset
	return k.lines.Add(e)
}

// room makes sure that a pack is open and not yet full.
func (k *packer) room() error {
	if k.pack != nil && k.object.Size() < packSize {
		return nil
	}
	if err := k.close(); err != nil {
		return err
	}
	k.number++
	var err error
	k.pack, err = k.w.t.Store.Create(k.w.ctx, store.PackKey(k.w.t.Cluster.ID, k.w.opt.ID, k.number))
	if err != nil {
		k.pack = nil
		return err
	}
	k.object = layout.NewObjectWriter(k.pack)
	return nil
}

// close ends the current pack and has it flushed while the next one fills.
func (k *packer) close() error {
	if k.pack == nil {
		return nil
	}
	if err := k.object.Close(); err != nil {
		return err
	}
	k.stored += k.object.Size()
	if err := k.settle(); err != nil {
		return err
	}
	pack, done := k.pack, make(chan error, 1)
	k.pack, k.committing = nil, done
	go func() { done <- pack.Commit() }()
	return nil
}

// settle waits for the pack that is being flushed.
func (k *packer) settle() error {
	if k.committing == nil {
		return nil
	}
	err := <-k.committing
	k.committing = nil
	return err
}

func (k *packer) abort() {
	_ = k.settle()
	if k.pack != nil {
		k.pack.Abort()
	}
	k.manifest.Abort()
}
