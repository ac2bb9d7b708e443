package changes

import (
	"context"
	"fmt"

	"velvetrewind/core/blocks"
	"velvetrewind/core/journal"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
)

// Blocks gathers the pages that the WAL between two LSNs of the newest timeline changes.
// Where that is not all there, it is an error.
func (j *Journal) Blocks(ctx context.Context, from, to pg.LSN) (*blocks.Set, error) {
	z := j.archive.Cluster.SegmentSize
	set := new(blocks.Set)
	before := pg.LSN(0) // where the summary of the segment before ended
	for n := z.Number(from); n <= z.Number(to-1); n++ {
		seg := j.archive.SegmentOf(n)
		s := j.tail[n]
		if s == nil {
			if !j.archive.Stored(seg) {
				return nil, fmt.Errorf("segment %s was not captured", seg.Name(z))
			}
			var err error
			if s, err = j.index.Get(ctx, seg); err != nil {
				return nil, fmt.Errorf("the summary of segment %s: %w", seg.Name(z), err)
			}
		}
		if before == 0 && s.From > from || before != 0 && s.From != before || n == z.Number(to-1) && s.State.Next < to {
			return nil, fmt.Errorf("the summary of segment %s does not tell of every record", seg.Name(z))
		}
		before = s.State.Next
		for _, c := range s.Blocks {
			set.Add(c)
		}
	}
	return set, nil
}

// Removed lists the files and the databases that transactions remove which end between two LSNs of the newest timeline.
func (j *Journal) Removed(ctx context.Context, from, to pg.LSN) (files []wal.RelationRef, databases []uint32, err error) {
	z := j.archive.Cluster.SegmentSize
	for n := z.Number(from); n <= z.Number(to-1); n++ {
		s, err := j.segment(ctx, n)
		if err != nil {
			return nil, nil, fmt.Errorf("the summary of segment %s: %w", j.archive.SegmentOf(n).Name(z), err)
		}
		err = s.Each(func(t *journal.Transaction) error {
			if t.End > from {
				files, databases = append(files, t.Dropped...), append(databases, t.DroppedDatabases...)
			}
			return nil
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return files, databases, nil
}

// Told is where the last record ends that was captured.
func (j *Journal) Told(ctx context.Context) (pg.LSN, error) {
	if len(j.stretches) == 0 {
		return 0, nil
	}
	s, err := j.segment(ctx, j.stretches[len(j.stretches)-1].Last)
	if err != nil {
		return 0, err
	}
	return s.State.Next, nil
}

// Until gathers what is known for sure of the pages that the WAL between two LSNs changes: all of what it cuts off, and the
// pages of the segments that end before the second LSN.
func (j *Journal) Until(ctx context.Context, from, to pg.LSN) (*blocks.Set, error) {
	z := j.archive.Cluster.SegmentSize
	set, n := new(blocks.Set), z.Number(to-1)
	if n > z.Number(from) {
		last, err := j.segment(ctx, n-1)
		if err != nil {
			return nil, err
		}
		if last.State.Next > from {
			if set, err = j.Blocks(ctx, from, last.State.Next); err != nil {
				return nil, err
			}
		}
	}
	s, err := j.segment(ctx, n)
	if err != nil {
		return nil, err
	}
	for _, c := range s.Blocks {
		set.Add(blocks.Changed{Fork: c.Fork, Cut: c.Cut})
	}
	return set, nil
}
