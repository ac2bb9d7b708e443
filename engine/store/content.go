package store

import (
	"context"
	"errors"
	"io"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
)

// OpenContent reads the verified content of an object.
func OpenContent(ctx context.Context, s Store, key string) (io.ReadCloser, error) {
	f, err := s.Open(ctx, key, 0)
	if err != nil {
		return nil, err
	}
	content, err := layout.OpenObject(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return struct {
		io.Reader
		io.Closer
	}{content, f}, nil
}

// OpenSegment reads a WAL segment of a cluster; of a cut one what there is.
func OpenSegment(ctx context.Context, s Store, cluster string, seg pg.Segment, z pg.SegmentSize) (io.ReadCloser, error) {
	return OpenContent(ctx, s, SegmentKey(cluster, seg.Timeline, seg.Name(z)))
}
