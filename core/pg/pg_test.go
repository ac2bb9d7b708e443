package pg

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestLSNNotation(t *testing.T) {
	for text, want := range map[string]LSN{"0/0": 0, "0/5A3F2B8": 0x5A3F2B8, "16/B374D848": 0x16B374D848, "FFFFFFFF/FFFFFFFF": 1<<64 - 1} {
		got, err := ParseLSN(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
		assert.Equal(t, text, got.String())
	}
	for _, bad := range []string{"", "0", "/", "0/", "/0", "0/G", "100000000/0", "0/100000000", "0/1/2", "-1/0", "0x1/0"} {
		_, err := ParseLSN(bad)
		assert.Error(t, err, bad)
	}
	for _, half := range []string{"", "0", "/", "0/", "/0"} {
		_, err := ParseLSN(half)
		assert.ErrorContains(t, err, "write it as the server does", half)
	}
}

func TestLSNScansColumns(t *testing.T) {
	var l LSN
	require.NoError(t, l.Scan("1/2"))
	assert.Equal(t, LSN(1<<32|2), l)
	require.NoError(t, l.Scan([]byte("0/7")))
	assert.Equal(t, LSN(7), l)
	require.NoError(t, l.Scan(nil))
	assert.Zero(t, l)
	assert.Error(t, l.Scan(7))
}

func TestSegmentNames(t *testing.T) {
	for _, c := range []struct {
		size SegmentSize
		seg  Segment
		name string
	}{
		{16 << 20, Segment{1, 1}, "000000010000000000000001"},
		{16 << 20, Segment{1, 256}, "000000010000000100000000"},
		{16 << 20, Segment{0x1a, 0x1234}, "0000001A0000001200000034"},
		{1 << 20, Segment{2, 4095}, "000000020000000000000FFF"},
		{1 << 20, Segment{2, 4096}, "000000020000000100000000"},
		{1 << 30, Segment{3, 7}, "000000030000000100000003"},
	} {
		assert.Equal(t, c.name, c.seg.Name(c.size))
		back, err := ParseSegmentName(c.name, c.size)
		require.NoError(t, err)
		assert.Equal(t, c.seg, back)
	}
	for _, bad := range []string{"", "00000001000000000000000", "0000000100000000000000FG", "000000000000000000000001",
		"000000010000000000000100", "00000001000000000000000a", "000000010000000000000001.partial"} {
		_, err := ParseSegmentName(bad, 16<<20)
		assert.Error(t, err, bad)
	}
}

func TestSegmentArithmetic(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := SegmentSize(1 << rapid.IntRange(20, 30).Draw(t, "bits"))
		require.True(t, z.Valid())
		l := LSN(rapid.Uint64Range(0, 1<<62).Draw(t, "lsn"))
		assert.Equal(t, l, z.Start(z.Number(l))+LSN(z.Offset(l)))
		assert.Less(t, z.Offset(l), int64(z))
	})
	for _, bad := range []SegmentSize{0, 1, 3 << 20, 1 << 31} {
		assert.False(t, bad.Valid(), bad)
	}
}

func TestXIDOrderIsCircular(t *testing.T) {
	assert.True(t, XID(3).Precedes(4))
	assert.True(t, XID(0xfffffff0).Precedes(5))
	assert.False(t, XID(5).Precedes(0xfffffff0))
	assert.False(t, XID(5).Precedes(5))
	assert.Equal(t, FullXID(7), XID(7).Near(9))
	assert.Equal(t, FullXID(1<<32|7), XID(7).Near(1<<32|9))
	assert.Equal(t, FullXID(0xfffffff0), XID(0xfffffff0).Near(1<<32|9))
}

func TestTimestamps(t *testing.T) {
	at := time.Date(2026, 11, 23, 14, 3, 7, 412_000_000, time.UTC)
	assert.Equal(t, at, Timestamp(ToTimestamp(at)))
	assert.Equal(t, time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC), Timestamp(0))
}

// TestLastShared finds where one history left the way to another.
func TestLastShared(t *testing.T) {
	ours := []Fork{{Timeline: 1, At: 100}, {Timeline: 2, At: 200}} // of timeline 3
	for name, c := range map[string]struct {
		servers []Fork
		want    int
	}{
		"before ours began":              {[]Fork{{Timeline: 1, At: 50}}, 0},
		"after our parent did":           {[]Fork{{Timeline: 1, At: 100}, {Timeline: 2, At: 150}}, 1},
		"over others in between":         {[]Fork{{Timeline: 1, At: 50}, {Timeline: 4, At: 70}}, 0},
		"another second timeline":        {[]Fork{{Timeline: 1, At: 90}, {Timeline: 2, At: 150}}, 0},
		"of a history that is not known": {[]Fork{{Timeline: 7, At: 50}}, -1},
		"that has none":                  {nil, -1},
	} {
		assert.Equal(t, c.want, LastShared(c.servers, ours), name)
	}
}

func TestHistory(t *testing.T) {
	forks, err := ParseHistory(3, []byte("1\t0/3000000\tno recovery target specified\n\n# a comment\n2\t0/5000158\tbefore 2026\n"))
	require.NoError(t, err)
	assert.Equal(t, []Fork{{1, 0x3000000}, {2, 0x5000158}}, forks)
	for _, bad := range []string{"1\n", "x\t0/1\n", "1\tnowhere\n", "2\t0/1\n1\t0/2\n", "2\t0/1\n2\t0/2\n", "3\t0/1\n",
		"1\t0/1\n4\t0/2\n"} {
		_, err := ParseHistory(3, []byte(bad))
		assert.ErrorContains(t, err, "line ", bad)
	}
	name := HistoryName(0x2a)
	assert.Equal(t, "0000002A.history", name)
	back, ok := ParseHistoryName(name)
	assert.True(t, ok)
	assert.Equal(t, Timeline(0x2a), back)
	for _, other := range []string{"000000010000000000000001", "0000002.history", "000000002.history", "0000002A.histor", "0000002A",
		"0000000G.history", "00000001.history", "00000000.history"} {
		_, ok = ParseHistoryName(other)
		assert.False(t, ok, other)
	}
	_, err = ParseHistory(3, []byte("1\t0/1\n\n# a comment\n2\n"))
	assert.ErrorContains(t, err, "line 4")
	forks, err = ParseHistory(2, []byte("1 0/3000000"))
	require.NoError(t, err, "a reason is not needed")
	assert.Equal(t, []Fork{{1, 0x3000000}}, forks)
}

func TestRelationFiles(t *testing.T) {
	for name, want := range map[string]RelationFile{
		"base/5/1259":      {Database: 5, Filenode: 1259},
		"base/5/16385.3":   {Database: 5, Filenode: 16385, Part: 3},
		"base/5/16385_fsm": {Database: 5, Filenode: 16385, Fork: "fsm"},
		"global/1262_vm":   {Filenode: 1262, Fork: "vm"},
		"pg_tblspc/16400/PG_15_202209061/5/16401_init": {Database: 5, Filenode: 16401, Fork: "init"},
	} {
		got, ok := ParseRelationFile(name)
		assert.True(t, ok, name)
		assert.Equal(t, want, got, name)
	}
	for _, other := range []string{"PG_VERSION", "global/pg_control", "base/5/pg_filenode.map", "base/5/t3_16385", "base/5/16385_x",
		"base/5/16385.x", "pg_xact/0000", "base/x/16385", "pg_tblspc/16400/x/5/1", "base/5/016385", "base/5/+1", "base/5/0",
		"base/5/99999999999",
		"1259", "pg_wal/1259", "global/5/1259", "base/1259", "base/5/6/1259", "other/5/1259", "pg_tblspc/16400/PG_15_1/1259",
		"pg_tblspc/16400/PG_15_1/5/6/1259", "elsewhere/16400/PG_15_1/5/1259"} {
		_, ok := ParseRelationFile(other)
		assert.False(t, ok, other)
	}
	f, _ := ParseRelationFile("base/5/16385.2")
	assert.Equal(t, uint32(2*BlocksPerFile), f.FirstBlock())
}

// page makes a sound page of one relation block.
func page(block uint32) []byte {
	p := make([]byte, BlockSize)
	binary.LittleEndian.PutUint32(p[4:], 0x1000)
	binary.LittleEndian.PutUint16(p[12:], 28)
	binary.LittleEndian.PutUint16(p[14:], 8000)
	binary.LittleEndian.PutUint16(p[16:], BlockSize)
	binary.LittleEndian.PutUint16(p[18:], BlockSize|4)
	copy(p[8000:], "some row of some ferry")
	binary.LittleEndian.PutUint16(p[8:], PageChecksum(p, block))
	return p
}

func TestPagesAreChecked(t *testing.T) {
	assert.Empty(t, CheckPage(page(7), 7, true))
	assert.Empty(t, CheckPage(make([]byte, BlockSize), 7, true), "a page of zeroes is new")
	assert.Contains(t, CheckPage(page(7), 8, true), "checksum", "a page in another's place")
	rapid.Check(t, func(t *rapid.T) {
		p := page(7)
		p[rapid.IntRange(0, BlockSize-1).Draw(t, "byte")] ^= byte(1 << rapid.IntRange(0, 7).Draw(t, "bit"))
		assert.NotEmpty(t, CheckPage(p, 7, true))
	})
	p := page(7)
	p[8100] ^= 1
	assert.Empty(t, CheckPage(p, 7, false), "without checksums only the header can tell")
	for what, c := range map[string]struct {
		lower, upper, special, size uint16
		ok                          bool
	}{
		"an empty one":            {24, 8192, 8192, 8192 | 4, true},
		"a full one":              {100, 100, 8192, 8192 | 4, true},
		"with a special area":     {24, 8000, 8000, 8192 | 4, true},
		"lower in the header":     {23, 8192, 8192, 8192 | 4, false},
		"lower above upper":       {101, 100, 8192, 8192 | 4, false},
		"upper above special":     {24, 8001, 8000, 8192 | 4, false},
		"special beyond the page": {24, 8192, 8193, 8192 | 4, false},
		"of another size":         {24, 8192, 8192, 4096 | 4, false},
	} {
		for i, v := range []uint16{c.lower, c.upper, c.special, c.size} {
			binary.LittleEndian.PutUint16(p[12+2*i:], v)
		}
		assert.Equal(t, c.ok, CheckPage(p, 7, false) == "", what)
	}
	p = make([]byte, BlockSize)
	p[5000] = 1
	assert.Contains(t, CheckPage(p, 7, true), "not empty")
	assert.Equal(t, LSN(0x1000), PageLSN(page(1)))
}

// The sums must not depend on what the processor can do.
func TestWideLanesEqualTheReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rows := make([]byte, rapid.IntRange(0, 5*checksumRow).Draw(t, "length"))
		if rapid.Bool().Draw(t, "whole rows") {
			rows = rows[:len(rows)/checksumRow*checksumRow]
		}
		random := rand.New(rand.NewPCG(7, rapid.Uint64().Draw(t, "seed")))
		for i := range rows {
			rows[i] = byte(random.Uint32())
		}
		sums := lanes(checksumBase)
		want := sums
		want.mixRows(rows)
		sums.mix(rows)
		require.Equal(t, want, sums)
	})
}

// TestKnownChecksums holds sums to what they were when servers found the same.
func TestKnownChecksums(t *testing.T) {
	for n, want := range []uint16{0x2e93, 0x8c4e, 0x00c8, 0x8eaf} {
		p := make([]byte, BlockSize)
		for i := range p {
			p[i] = byte(i*i/7) + byte(n)*byte(i>>3)
		}
		assert.Equal(t, want, PageChecksum(p, uint32(n)*70001))
	}
}

func TestJoinedChecksums(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := rapid.SliceOf(rapid.Byte()).Draw(t, "a"), rapid.SliceOf(rapid.Byte()).Draw(t, "b")
		sum := func(p []byte) uint32 { return crc32.Checksum(p, Castagnoli) }
		require.Equal(t, sum(slices.Concat(a, b)), JoinCRC32C(sum(a), sum(b), int64(len(b))))
	})
}

func TestControlFileIsRefusedUnlessWhole(t *testing.T) {
	for _, v := range Versions() {
		b := make([]byte, ControlFileSize)
		binary.LittleEndian.PutUint64(b, 7711250609914397501)
		binary.LittleEndian.PutUint32(b[ctlVersion:], v.ControlVersion)
		binary.LittleEndian.PutUint32(b[ctlCatalog:], v.CatalogVersion)
		binary.LittleEndian.PutUint32(b[ctlMaxConnections:], 100)
		binary.LittleEndian.PutUint32(b[ctlBlockSize:], BlockSize)
		binary.LittleEndian.PutUint32(b[ctlSegmentSize:], 16<<20)
		binary.LittleEndian.PutUint32(b[ctlDataChecksums:], 1)
		seal := func() {
			binary.LittleEndian.PutUint32(b[v.ControlCRC:], crc32.Checksum(b[:v.ControlCRC], Castagnoli))
		}
		seal()
		c, err := ParseControl(b)
		require.NoError(t, err)
		assert.Equal(t, uint64(7711250609914397501), c.SystemID)
		assert.Equal(t, int32(100), c.MaxConnections)
		assert.Equal(t, v, c.Version)
		assert.True(t, c.DataChecksums)

		b[20] ^= 1
		_, err = ParseControl(b)
		assert.ErrorContains(t, err, "CRC")
		_, err = ParseControl(b[:300])
		assert.ErrorContains(t, err, "too few")
		binary.LittleEndian.PutUint32(b[ctlBlockSize:], 16384)
		seal()
		_, err = ParseControl(b)
		assert.ErrorContains(t, err, "16384")
		binary.LittleEndian.PutUint32(b[ctlCatalog:], v.CatalogVersion-1)
		seal()
		_, err = ParseControl(b)
		assert.ErrorContains(t, err, "catalog version")
		binary.LittleEndian.PutUint32(b[ctlVersion:], 900)
		_, err = ParseControl(b)
		assert.ErrorContains(t, err, "version 900")
	}
}

// TestVersionsAreFound looks versions up by everything that tells one.
func TestVersionsAreFound(t *testing.T) {
	seen := make(map[any]bool)
	for i, v := range Versions() {
		assert.Equal(t, Versions()[0].Major+i, v.Major, "no gap")
		assert.Same(t, v, PageVersion(v.PageMagic))
		assert.False(t, seen[v.CatalogVersion] || seen[v.PageMagic], "they tell versions apart")
		seen[v.CatalogVersion], seen[v.PageMagic] = true, true
	}
	for text, major := range map[string]int{"15.18 (Debian 15.18-0+deb12u1)": 15, "14.23": 14, "18beta1": 18} {
		v, err := ReportedVersion(text)
		require.NoError(t, err)
		assert.Equal(t, major, v.Major)
	}
	for _, text := range []string{"", "13.22", "19devel", "x15", "9.6.24"} {
		_, err := ReportedVersion(text)
		assert.ErrorContains(t, err, "versions 14 to 18 are")
	}
	v, err := ServerVersion(170010)
	require.NoError(t, err)
	assert.Equal(t, "PG_17_202406281", v.TablespaceDirectory())
	_, err = ServerVersion(190000)
	assert.ErrorContains(t, err, "PostgreSQL 19 is not supported")
}

const manifest = `{ "PostgreSQL-Backup-Manifest-Version": 1,
"Files": [
{ "Path": "backup_label", "Size": 226, "Last-Modified": "2026-11-23 06:32:18 GMT", "Checksum-Algorithm": "CRC32C", "Checksum": "01020304" },
{ "Encoded-Path": "6261ff", "Size": 3, "Last-Modified": "2026-11-23 06:32:18 GMT", "Checksum-Algorithm": "CRC32C", "Checksum": "ffffffff" }
],
"WAL-Ranges": [ { "Timeline": 1, "Start-LSN": "0/A000028", "End-LSN": "0/A0002E8" } ],
"Manifest-Checksum": "00"}`

func TestServerManifest(t *testing.T) {
	var files []ManifestFile
	ranges, err := ReadManifest(strings.NewReader(manifest), func(f ManifestFile) error { files = append(files, f); return nil })
	require.NoError(t, err)
	assert.Equal(t, []ManifestRange{{1, 0xA000028, 0xA0002E8}}, ranges)
	require.Len(t, files, 2)
	assert.Equal(t, uint32(0x04030201), files[0].CRC32C, "the four bytes stand in memory order")
	assert.Equal(t, "ba\xff", files[1].Path)

	stop := errors.New("stop")
	_, err = ReadManifest(strings.NewReader(manifest), func(ManifestFile) error { return stop })
	assert.ErrorIs(t, err, stop)
	for _, bad := range []string{"", "[]", `{"Files": {}}`, manifest[:200], strings.Replace(manifest, "CRC32C", "SHA256", 1),
		strings.Replace(manifest, "01020304", "xyz", 1)} {
		_, err := ReadManifest(strings.NewReader(bad), func(ManifestFile) error { return nil })
		assert.Error(t, err, bad)
	}
}

func TestBackupLabel(t *testing.T) {
	text := "START WAL LOCATION: 0/2000028 (file 000000010000000000000002)\nCHECKPOINT LOCATION: 0/2000060\nBACKUP METHOD: " +
		"streamed\nBACKUP FROM: primary\nSTART TIME: 2026-11-23 14:03:07 WET\nLABEL: velvet x\nSTART TIMELINE: 3\n"
	l, err := ParseBackupLabel([]byte(text))
	require.NoError(t, err)
	assert.Equal(t, BackupLabel{0x2000028, 0x2000060, 3}, l)
	for bad, says := range map[string]string{"": "names no start", strings.Replace(text, "0/2000028", "nowhere", 1): "START WAL LOCATION",
		strings.Replace(text, "TIMELINE: 3", "TIMELINE: x", 1): "START TIMELINE", text + "INCREMENTAL FROM LSN: 0/1\n": "not whole",
		strings.Replace(text, "0/2000028", "0/0", 1): "names no start", strings.Replace(text, "0/2000060", "0/0", 1): "no checkpoint",
		strings.Replace(text, "TIMELINE: 3", "TIMELINE: 0", 1): "no timeline"} {
		_, err := ParseBackupLabel([]byte(bad))
		assert.ErrorContains(t, err, says)
	}
}
