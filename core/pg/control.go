package pg

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
)

// Control is what Velvet Rewind needs of global/pg_control (ControlFileData in
// catalog/pg_control.h, 64-bit little-endian layout).
type Control struct {
	SystemID    uint64
	Version     *Version // of the server that wrote it
	State       uint32   // DBState
	Checkpoint  LSN      // last checkpoint record
	Redo        LSN      // where its redo begins
	Timeline    Timeline
	MinRecovery LSN
	BackupStart LSN

	MaxConnections   int32
	MaxWorkers       int32
	MaxWALSenders    int32
	MaxPreparedXacts int32
	MaxLocksPerXact  int32
	BlockSize        uint32
	SegmentSize      SegmentSize
	DataChecksums    bool
}

// ShutDown is the State of a cluster whose server was stopped in order (DB_SHUTDOWNED).
const ShutDown = 1

// ControlFileSize is the size of global/pg_control; only its first sector carries data.
const ControlFileSize = 8192

// Offsets within ControlFileData, the same in all supported versions. The
// checkpoint copy starts at 40 and takes 88 bytes. Where the CRC stands differs.
const (
	ctlVersion        = 8
	ctlCatalog        = 12
	ctlState          = 16
	ctlCheckpoint     = 32
	ctlRedo           = 40
	ctlTimeline       = 48
	ctlMinRecovery    = 136
	ctlBackupStart    = 152
	ctlMaxConnections = 180
	ctlMaxWorkers     = 184
	ctlMaxWALSenders  = 188
	ctlMaxPrepared    = 192
	ctlMaxLocks       = 196
	ctlBlockSize      = 216
	ctlSegmentSize    = 228
	ctlDataChecksums  = 252
)

// ParseControl decodes a control file and verifies its CRC.
func ParseControl(b []byte) (Control, error) {
	if len(b) < ControlFileSize {
		return Control{}, fmt.Errorf("control file: %d bytes are too few", len(b))
	}
	u32 := func(at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
	u64 := func(at int) uint64 { return binary.LittleEndian.Uint64(b[at:]) }
	layout := find(func(v *Version) bool { return v.ControlVersion == u32(ctlVersion) })
	if layout == nil {
		return Control{}, fmt.Errorf("control file: its version %d is of no supported PostgreSQL, %s", u32(ctlVersion), SupportedVersions())
	}
	if crc32.Checksum(b[:layout.ControlCRC], Castagnoli) != u32(layout.ControlCRC) {
		return Control{}, errors.New("control file: its CRC is wrong; the file is damaged or was torn while it was read")
	}
	version := find(func(v *Version) bool { return v.CatalogVersion == u32(ctlCatalog) })
	if version == nil || version.ControlVersion != layout.ControlVersion {
		return Control{}, fmt.Errorf("control file: catalog version %d is of no release of PostgreSQL %s", u32(ctlCatalog),
			SupportedVersions())
	}
	c := Control{
		SystemID: u64(0), Version: version, State: u32(ctlState),
		Checkpoint: LSN(u64(ctlCheckpoint)), Redo: LSN(u64(ctlRedo)), Timeline: Timeline(u32(ctlTimeline)),
		MinRecovery: LSN(u64(ctlMinRecovery)), BackupStart: LSN(u64(ctlBackupStart)),
		MaxConnections: int32(u32(ctlMaxConnections)), MaxWorkers: int32(u32(ctlMaxWorkers)),
		MaxWALSenders: int32(u32(ctlMaxWALSenders)), MaxPreparedXacts: int32(u32(ctlMaxPrepared)),
		MaxLocksPerXact: int32(u32(ctlMaxLocks)), BlockSize: u32(ctlBlockSize),
		SegmentSize: SegmentSize(u32(ctlSegmentSize)), DataChecksums: u32(ctlDataChecksums) != 0,
	}
	if c.BlockSize != BlockSize {
		return c, fmt.Errorf("control file: pages of %d bytes; only the default of %d is supported", c.BlockSize, BlockSize)
	}
	if !c.SegmentSize.Valid() {
		return c, fmt.Errorf("control file: impossible WAL segment size %d", c.SegmentSize)
	}
	return c, nil
}
