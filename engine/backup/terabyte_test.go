package backup

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

const (
	terabyte = 1024 // files of 1 GiB each: 8 million extents
	perPack  = 600  // extents in a pack
)

// BenchmarkTerabyte makes the manifest of a made-up cluster of a terabyte, opens it,
// compares all of it with a second backup in which one sheet in a hundred has changed,
// and forgets the first. Only the extents themselves are made up.
func BenchmarkTerabyte(b *testing.B) {
	compareMade(b, terabyte, b.ReportMetric)
	b.ReportMetric(0, "ns/op")
}

// TestTerabyteInSmall tries what BenchmarkTerabyte measures.
func TestTerabyteInSmall(t *testing.T) {
	compareMade(t, 24, func(value float64, unit string) { t.Logf("%g %s", value, unit) })
}

func compareMade(b testing.TB, files int, report func(float64, string)) {
	ctx := context.Background()
	bed := testbed.New(b)
	records := bed.Postgres("catalogue", false)
	c, err := catalog.Open(ctx, records.DSN(testbed.Superuser, "postgres")+" password='"+testbed.Password+"'")
	require.NoError(b, err)
	b.Cleanup(c.Close)
	d, err := dir.Open(bed.Path("store"), -1)
	require.NoError(b, err)
	k := catalog.Cluster{ID: catalog.NewID(), Name: "large", SystemID: 1, ServerVersion: 150000,
		SegmentSize: pg.DefaultSegmentSize, Slot: "s"}
	require.NoError(b, c.AddCluster(ctx, k))
	t := &Taker{Cluster: k, Catalog: c, Store: vault.Reading(d, nil, nil), Codec: layout.Zstd, Spool: bed.Path(), Now: time.Now}
	base := peak(b)

	first := made(b, t, files, nil, c)
	started := time.Now()
	old, err := openFormer(ctx, t.Store, k.ID, first, t.Spool)
	require.NoError(b, err)
	opened := time.Since(started)
	second := made(b, t, files, old, c)
	compared := time.Since(started) - opened
	old.close()
	record, err := c.Backup(ctx, second)
	require.NoError(b, err)
	require.EqualValues(b, files<<30/layout.ExtentSize, record.Extents, "all of it was compared")
	info, err := t.Store.Stat(ctx, store.ManifestKey(k.ID, second))
	require.NoError(b, err)

	started = time.Now()
	require.NoError(b, c.DropBackup(ctx, first))
	require.NoError(b, Remove(ctx, &notice.Board{Store: t.Store}, c, k.ID, first, task.Silent))
	report(opened.Seconds(), "open-s")
	report(compared.Seconds(), "compare-s")
	report(time.Since(started).Seconds(), "forget-s")
	report(float64(info.Size)/(1<<20), "manifest-MiB")
	report(peak(b)-base, "more-memory-MiB")
}

// made takes a made-up backup: with a former one all but one sheet in a hundred is as there.
func made(b testing.TB, t *Taker, files int, old *former, c *catalog.Catalog) string {
	ctx := context.Background()
	id := catalog.NewID()
	w, err := t.newWriter(ctx, Options{ID: id}, layout.Full, nil, old, task.Silent)
	require.NoError(b, err)
	defer w.abort()
	sheets := 0
	for n := range files {
		entry := &layout.File{Path: fmt.Sprintf("base/5/%d", 20000+n), Mode: 0o600, Size: 1 << 30, Modified: time.Unix(0, 0).UTC()}
		if old != nil && n%12 != 0 {
			require.NoError(b, w.feedParts(entry, parts{from: 1 << 30}, nil))
			continue
		}
		f, err := w.begin(entry)
		require.NoError(b, err)
		for from := 0; from < entry.Extents(); from += layout.SheetExtents {
			p, err := f.take(from, 0)
			require.NoError(b, err)
			sheets++
			for i := range layout.SheetExtents {
				p.kept = append(p.kept, madeExtent(n*entry.Extents()+from+i, old != nil && sheets%8 == 0))
			}
			p.last = from+layout.SheetExtents >= entry.Extents()
			require.NoError(b, w.give(p))
		}
	}
	require.NoError(b, w.drain())
	for pack := range w.packs.uses {
		if old == nil && strings.HasPrefix(pack, "made-") {
			_, err := t.Store.Put(ctx, store.PackKey(t.Cluster.ID, pack, 0), layout.Plain, []byte("made up"))
			require.NoError(b, err)
		}
	}
	w.tail.Stop, w.tail.Timeline = 1, 1
	require.NoError(b, w.finish())
	record, err := Record(w.head, w.tail, "")
	require.NoError(b, err)
	record.Start, record.Stop = 1, 2
	require.NoError(b, c.AddBackup(ctx, record))
	return id
}

func madeExtent(n int, changed bool) layout.Extent {
	e := layout.Extent{Pack: fmt.Sprintf("made-%06d", n/perPack), Offset: layout.HeaderSize + int64(n%perPack)*40_000, Length: 40_000}
	h := layout.HashOf(binary.LittleEndian.AppendUint64(nil, uint64(n)))
	if e.Hash = h; changed {
		e.Hash[0] ^= 1
	}
	return e
}

// peak is the most memory this process has had resident, in MiB.
func peak(b testing.TB) float64 {
	content, err := os.ReadFile("/proc/self/status")
	require.NoError(b, err)
	for _, line := range strings.Split(string(content), "\n") {
		var kib float64
		if n, _ := fmt.Sscanf(line, "VmHWM: %f", &kib); n == 1 {
			return kib / 1024
		}
	}
	return 0
}
