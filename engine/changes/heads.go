package changes

import (
	"context"
	"errors"

	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/engine/store"
)

// errEnough ends a visit early.
var errEnough = errors.New("enough")

// Heads visits the heads of the segments numbered first to last of one timeline, in
// order, until visit says that it has had enough. A head is good until the next.
func (x *Indexes) Heads(ctx context.Context, t pg.Timeline, first, last uint64, visit func(*journal.Head) (more bool, err error)) error {
	for n := first; n <= last; {
		end := min(last, n/journal.ChapterSize*journal.ChapterSize+journal.ChapterSize-1)
		err := x.chapterHeads(ctx, t, n, end, visit)
		if errors.Is(err, errEnough) {
			return nil
		}
		if err != nil {
			return err
		}
		n = end + 1
	}
	return nil
}

// chapterHeads visits heads that belong to one chapter.
func (x *Indexes) chapterHeads(ctx context.Context, t pg.Timeline, next, last uint64, visit func(*journal.Head) (bool, error)) error {
	show := func(h *journal.Head) error {
		more, err := visit(h)
		if err == nil && !more {
			err = errEnough
		}
		return err
	}
	b, err := x.read(ctx, store.ChapterKey(x.Cluster.ID, t, next/journal.ChapterSize))
	if err == nil {
		err = journal.DecodeChapter(b, func(h *journal.Head) error {
			for ; next < h.Segment.Number && next <= last; next++ {
				if err := x.showOne(ctx, pg.Segment{Timeline: t, Number: next}, show); err != nil {
					return err
				}
			}
			if h.Segment.Number != next || next > last {
				return nil
			}
			next++
			return show(h)
		})
	}
	if err != nil && !lacking(err) {
		return err
	}
	for ; next <= last; next++ {
		if err := x.showOne(ctx, pg.Segment{Timeline: t, Number: next}, show); err != nil {
			return err
		}
	}
	return nil
}

func (x *Indexes) showOne(ctx context.Context, seg pg.Segment, show func(*journal.Head) error) error {
	h, err := x.readHead(ctx, seg)
	if lacking(err) {
		s, err := x.Get(ctx, seg)
		if err != nil {
			return err
		}
		return show(&s.Head)
	}
	if err != nil {
		return err
	}
	return show(&h)
}
