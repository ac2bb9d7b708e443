package changes

import (
	"context"
	"errors"
	"io"

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
	ahead := x.openAhead(ctx, t, first/journal.ChapterSize, last/journal.ChapterSize)
	defer func() {
		cancel()
		for one := range ahead {
			c := <-one
			c.close()
		}
	}()
	for n := first; n <= last; {
		end := min(last, n/journal.ChapterSize*journal.ChapterSize+journal.ChapterSize-1)
		c := <-<-ahead
		err := x.chapterHeads(ctx, t, n, end, &c, enough, visit)
		c.close()
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

// frontSize is how much of a chapter is read at first: most of them begin with a sum that is shorter.
const frontSize = 8 << 10

// chapterObject is a chapter of which the front was read.
type chapterObject struct {
	front []byte
	rest  io.ReadCloser // nil if it cannot be read
	err   error
}

func (c *chapterObject) close() {
	if c.rest != nil {
		_ = c.rest.Close()
	}
}

// whole reads the rest.
func (c *chapterObject) whole() ([]byte, error) {
	if c.err != nil {
		return nil, c.err
	}
	rest, err := io.ReadAll(c.rest)
	return append(c.front, rest...), err
}

// chaptersAhead is how many chapters are opened while one is looked at: the store has to be waited for.
const chaptersAhead = 4

// openAhead opens chapters, in order, until ctx ends. Whoever takes one closes it.
func (x *Indexes) openAhead(ctx context.Context, t pg.Timeline, first, last uint64) <-chan chan chapterObject {
	list := make(chan chan chapterObject, chaptersAhead)
	go func() {
		defer close(list)
		for n := first; n <= last && ctx.Err() == nil; n++ {
			one := make(chan chapterObject, 1)
			go func() { one <- x.openChapter(ctx, t, n) }()
			select {
			case list <- one:
			case <-ctx.Done():
				c := <-one
				c.close()
				return
			}
		}
	}()
	return list
}

func (x *Indexes) openChapter(ctx context.Context, t pg.Timeline, n uint64) (c chapterObject) {
	if c.rest, c.err = x.Store.Open(ctx, store.ChapterKey(x.Cluster.ID, t, n)); c.err != nil {
		c.rest = nil
		return c
	}
	front := make([]byte, frontSize)
	got, err := c.rest.Read(front) // no more than a frame, which is where the sum ends
	c.front = front[:got]
	if err != nil && !errors.Is(err, io.EOF) {
		c.err = err
	}
	return c
}

// chapterHeads visits heads that belong to one chapter.
func (x *Indexes) chapterHeads(ctx context.Context, t pg.Timeline, next, last uint64, c *chapterObject,
	enough func(*journal.Head) bool, visit func(*journal.Head) (bool, error)) error {
	if enough != nil && last-next+1 == journal.ChapterSize {
		if all, heads, ok := journal.DecodeSum(c.front); ok && heads == journal.ChapterSize && enough(&all) {
			return nil
		}
	}
	show := func(h *journal.Head) error {
		more, err := visit(h)
		if err == nil && !more {
			err = errEnough
		}
		return err
	}
	content, err := c.whole()
	if err == nil {
		err = journal.DecodeChapter(content, func(h *journal.Head) error {
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
