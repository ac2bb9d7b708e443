package backup

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/zeebo/blake3"

	"velvetrewind/core/blocks"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/server/replication"
)

// fileSum is what is kept of each file until the server's manifest has been compared.
type fileSum struct {
	size int64
	crc  uint32
}

// fileHash stands for a file's place and path, so that memory does not grow with the
// length of paths.
func fileHash(f *layout.File) uint64 {
	h := blake3.Sum256([]byte(string(f.Place) + ":" + f.Path))
	return binary.BigEndian.Uint64(h[:8])
}

// compare holds the files received against the server's own manifest, both ways.
func (w *writer) compare(manifest io.Reader, base *replication.BaseBackup) error {
	listed := 0
	ranges, err := pg.ReadManifest(manifest, func(f pg.ManifestFile) error {
		listed++
		got, ok := w.sums[fileHash(&layout.File{Path: f.Path})]
		switch {
		case !ok:
			return fmt.Errorf("%s is listed, but did not arrive", f.Path)
		case got.size != f.Size:
			return fmt.Errorf("%s should have %d bytes, but %d arrived", f.Path, f.Size, got.size)
		case got.crc != f.CRC32C:
			return fmt.Errorf("%s arrived with another checksum than the server sent: it was damaged on the way", f.Path)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if listed != len(w.sums) {
		return fmt.Errorf("the server's backup manifest lists %d files, but %d arrived", listed, len(w.sums))
	}
	for _, r := range ranges {
		if r.Timeline == base.Timeline && r.Start > base.Start {
			return fmt.Errorf("the server's backup manifest needs WAL from %s on, but the backup began at %s", r.Start, base.Start)
		}
	}
	w.report.Log("the server's backup manifest agrees: %d files, sizes and checksums", listed)
	return nil
}

// suspect is a page whose checksum was wrong as it passed. It may have been torn:
// read while the server wrote it. Replay repairs a torn page, but not a damaged one.
type suspect struct {
	path   string
	offset int64 // in the file
	block  uint32
	fault  pg.PageFault
}

// mostSuspects bounds the memory for suspects; more than these are real damage.
const mostSuspects = 10_000

func checkPages(found []suspect, p *piece, checksums bool) []suspect {
	for at := 0; at+pg.BlockSize <= len(p.plain); at += pg.BlockSize {
		page := p.plain[at : at+pg.BlockSize]
		block := p.block + uint32(at/pg.BlockSize)
		if fault := pg.CheckPage(page, block, checksums); fault != "" {
			found = append(found, suspect{
				path: p.entry.Path, block: block, fault: fault,
				offset: int64(block%pg.BlocksPerFile) * pg.BlockSize,
			})
		}
	}
	return found
}

// reread reads a part of a file of the data directory once more. What is not there any
// more is short or nil.
type reread func(ctx context.Context, path string, offset, length int64) ([]byte, error)

// judgePages tells damage from torn reads. A page that the WAL of the backup changes is right once
// that is replayed, for its first change carries all of it; what was dropped or truncated meanwhile
// the WAL says too. The rest is damage, which is counted and told, for a backup with a damaged
// page is better than none, and is looked at again by the next backup.
func (w *writer) judgePages(ctx context.Context, again reread) error {
	if len(w.suspects) == 0 {
		w.report.Log("every page checksum is right (%d pages)", w.tail.Pages)
		return nil
	}
	if len(w.suspects) > mostSuspects {
		return fmt.Errorf("%d pages are damaged, for example %s, block %d: %s", len(w.suspects), w.suspects[0].path, w.suspects[0].block,
			w.suspects[0].fault)
	}
	replayed, err := w.t.changedBetween(ctx, w.tail.Timeline, w.tail.Start, w.tail.Stop)
	if err != nil {
		w.report.Warn("which pages the WAL of the backup changes is not known, so that torn pages count as damaged: %v", err)
		replayed = new(blocks.Set)
	}
	for _, s := range w.suspects {
		if fork, _, ok := forkOf(s.path); ok {
			if changed, cut := replayed.Since(fork, s.block, s.block+1); len(changed) > 0 || cut <= s.block {
				continue
			}
		}
		page, err := again(ctx, s.path, s.offset, pg.BlockSize)
		switch {
		case err != nil:
			w.damaged(ctx, s, fmt.Sprintf("%s; it could not be read again: %v", s.fault, err))
		case len(page) < pg.BlockSize: // dropped or truncated after the backup
			w.damaged(ctx, s, string(s.fault))
		case pg.CheckPage(page, s.block, w.head.Checksums) == "":
			w.damaged(ctx, s, fmt.Sprintf("%s; read again it was whole: the server's disk or memory errs", s.fault))
		default:
			w.damaged(ctx, s, string(s.fault))
		}
	}
	w.report.Log("%d pages were torn while the server wrote them, which replay repairs; %d are damaged",
		len(w.suspects)-len(w.tail.Damaged), len(w.tail.Damaged))
	return nil
}

// damaged records a page as damaged.
func (w *writer) damaged(ctx context.Context, s suspect, fault string) {
	d := layout.DamagedPage{Path: s.path, Block: s.block, Fault: fault}
	if ref, _, ok := wal.RelationOf(s.path); ok {
		if book, err := w.t.Books.Of(ctx, w.t.Cluster.ID); err == nil {
			if n, known := book.Now()(ref); known {
				d.Table = n.Label() + " in " + n.Database
			}
		}
	}
	w.tail.Damaged = append(w.tail.Damaged, d)
	w.tail.PageFaults = int64(len(w.tail.Damaged))
	w.report.Warn("damaged page: %s, block %d (%s): %s", s.path, s.block, cmp.Or(d.Table, "no table is known"), fault)
}
