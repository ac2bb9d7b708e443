package restore

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/engine/store"
	"velvetrewind/engine/task"
)

// Trees are the directories into which a base backup is laid out. They exist and are empty.
type Trees struct {
	Data        string
	Tablespaces string // one directory below it for each tablespace, named by its OID
	Config      string // configuration files that had lain outside the data directory
}

// layoutWorkers is how many files are written at once.
const layoutWorkers = 4

// LayOut writes every file of a base backup and returns its manifest's head and
// tail. When it returns, everything is safe on disk.
func LayOut(ctx context.Context, s store.Store, h *host.Host, cluster, backup string, trees Trees, total int64, report task.Report) (head layout.Head, tail layout.Tail, err error) {
	manifest, err := s.Open(ctx, store.ManifestKey(cluster, backup), 0)
	if err != nil {
		return head, tail, err
	}
	defer func() { _ = manifest.Close() }()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(layoutWorkers)
	var written atomic.Int64
	tail, err = layout.ReadManifest(manifest, func(h layout.Head) error { head = h; return nil }, func(f layout.File) error {
		path, err := trees.place(f)
		if err != nil {
			return err
		}
		if f.Dir {
			return makeDirs(h, trees, path, fs.FileMode(f.Mode))
		}
		if err := makeDirs(h, trees, filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		group.Go(func() error {
			if err := layOutFile(ctx, s, h, cluster, backup, f, path); err != nil {
				return fmt.Errorf("lay out %s: %w", f.Path, err)
			}
			report.Progress(written.Add(f.Size), total, task.Bytes, "laying out "+f.Path)
			return nil
		})
		return nil
	})
	if e := group.Wait(); e != nil {
		err = e // what made the reading of the manifest end, too
	}
	if err != nil {
		return head, tail, err
	}
	return head, tail, h.SyncFileSystem(trees.Data)
}

// place finds where a file goes; a path that leads out of its tree is refused.
func (t Trees) place(f layout.File) (string, error) {
	rel := filepath.FromSlash(f.Path)
	if !filepath.IsLocal(rel) {
		return "", fmt.Errorf("the manifest names %q, which leads out of the directory", f.Path)
	}
	if f.Place == layout.InConfig {
		return filepath.Join(t.Config, rel), nil
	}
	if below, ok := strings.CutPrefix(rel, "pg_tblspc"+string(filepath.Separator)); ok {
		return filepath.Join(t.Tablespaces, below), nil
	}
	return filepath.Join(t.Data, rel), nil
}

// makeDirs makes a directory and those between it and its tree's root.
func makeDirs(h *host.Host, t Trees, path string, mode fs.FileMode) error {
	if path == t.Data || path == t.Tablespaces || path == t.Config {
		return nil
	}
	if _, err := os.Lstat(path); err == nil {
		return nil
	}
	if err := makeDirs(h, t, filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return h.MakeDir(path, mode)
}

func layOutFile(ctx context.Context, s store.Store, h *host.Host, cluster, backup string, f layout.File, path string) error {
	out, err := h.Create(path, fs.FileMode(f.Mode))
	if err != nil {
		return err
	}
	crc, err := copyContent(ctx, s, cluster, backup, f, out)
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	if crc != f.CRC32C {
		return fmt.Errorf("%w: its content has checksum %08X, but the original server computed %08X", layout.ErrCorrupt, crc, f.CRC32C)
	}
	return nil
}

// copyContent follows a file's frames through the packs.
func copyContent(ctx context.Context, s store.Store, cluster, backup string, f layout.File, out io.Writer) (crc uint32, err error) {
	pack, offset := f.Pack, f.Offset
	for rest := f.Size; rest > 0; pack, offset = pack+1, 0 {
		src, err := s.Open(ctx, store.PackKey(cluster, backup, pack), offset)
		if err != nil {
			return 0, err
		}
		n, sum, err := copyFrames(ctx, src, offset == 0, rest, crc, out)
		if err = errors.Join(err, src.Close()); err != nil {
			return 0, fmt.Errorf("pack %d: %w", pack, err)
		}
		rest, crc = rest-n, sum
	}
	return crc, nil
}

// copyFrames copies up to rest bytes of content from one pack.
func copyFrames(ctx context.Context, src io.Reader, fromStart bool, rest int64, crc uint32, out io.Writer) (n int64, sum uint32, err error) {
	buffered := bufio.NewReaderSize(src, 256<<10)
	if fromStart {
		if err := layout.SkipMagic(buffered); err != nil {
			return 0, 0, err
		}
	}
	frames := layout.NewFrameReader(buffered)
	for n < rest {
		if ctx.Err() != nil {
			return n, crc, context.Cause(ctx)
		}
		content, err := frames.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return n, crc, err
		}
		if int64(len(content)) > rest-n {
			return n, crc, fmt.Errorf("%w: more content than the file has", layout.ErrCorrupt)
		}
		if _, err := out.Write(content); err != nil {
			return n, crc, err
		}
		crc = crc32.Update(crc, pg.Castagnoli, content)
		n += int64(len(content))
	}
	return n, crc, nil
}
