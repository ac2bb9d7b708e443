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

// Heads visits the heads of the segments numbered first to last of one timeline, in order, until visit says that it has had
// enough. A head is good until the next. Where the sum of a whole chapter's heads is at hand, enough, if not nil, is told that
// first, and says whether it suffices in place of them.
func (x *Indexes) Heads(ctx context.Context, t pg.Timeline, first, last uint64, enough func(all *journal.Head) bool,
	visit func(*journal.Head) (more bool, err error)) error {
	ctx, cancel := context.WithCancel(ctx)
	ahead := x.readAhead(ctx, t, first/journal.ChapterSize, last/journal.ChapterSize)
	defer func() {
		cancel()
		for range ahead {
			continue // until nobody reads any more
		}
	}()
	for n := first; n <= last; {
		end := min(last, n/journal.ChapterSize*journal.ChapterSize+journal.ChapterSize-1)
		read := <-<-ahead
		err := x.chapterHeads(ctx, t, n, end, read, enough, visit)
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

// chapterObject is what was read of a chapter.
type chapterObject struct {
	content []byte
	err     error
}

// chaptersAhead is how many chapters are read while one is looked at: the store has to be waited for.
const chaptersAhead = 4

// readAhead reads chapters, in order, until ctx ends.
func (x *Indexes) readAhead(ctx context.Context, t pg.Timeline, first, last uint64) <-chan chan chapterObject {
	list := make(chan chan chapterObject, chaptersAhead)
	go func() {
		defer close(list)
		for n := first; n <= last && ctx.Err() == nil; n++ {
			one := make(chan chapterObject, 1)
			go func() {
				content, err := x.read(ctx, store.ChapterKey(x.Cluster.ID, t, n))
				one <- chapterObject{content, err}
			}()
			select {
			case list <- one:
			case <-ctx.Done():
				return
			}
		}
	}()
	return list
}

// chapterHeads visits heads that belong to one chapter.
func (x *Indexes) chapterHeads(ctx context.Context, t pg.Timeline, next, last uint64, chapter chapterObject,
	enough func(*journal.Head) bool, visit func(*journal.Head) (bool, error)) error {
	show := func(h *journal.Head) error {
		more, err := visit(h)
		if err == nil && !more {
			err = errEnough
		}
		return err
	}
	whole := func(all *journal.Head, heads int) bool {
		if enough == nil || heads != journal.ChapterSize || last-next+1 != journal.ChapterSize || !enough(all) {
			return false
		}
		next = last + 1
		return true
	}
	err := chapter.err
	if err == nil {
		err = journal.DecodeChapter(chapter.content, whole, func(h *journal.Head) error {
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
