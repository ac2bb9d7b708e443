package layout

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"velvetrewind/core/pg"
)

// A manifest is an object whose content is lines of JSON: a Head, a line for each
// File, a line for each pack that they use, and a Tail. One without its Tail is no
// manifest. It is written and read as a stream, so that its length never matters, and it
// names all that a restore reads: no backup needs the manifest of another.

// ManifestFormat names the version of the manifest's lines.
const ManifestFormat = "velvet-manifest/2"

// The kinds of base backups.
const (
	Full        = "full"        // every byte was read from the server
	Incremental = "incremental" // only what the WAL says has changed was read
)

// Head is the first line of a manifest.
type Head struct {
	Format        string            `json:"format"`
	Backup        string            `json:"backup"`
	Cluster       string            `json:"cluster"`
	SystemID      uint64            `json:"systemId,string"`
	ServerVersion int               `json:"serverVersion"` // server_version_num
	SegmentSize   pg.SegmentSize    `json:"segmentSize"`
	Kind          string            `json:"kind"`             // Full or Incremental
	Beside        string            `json:"beside,omitempty"` // id of the backup that it was compared with; not needed any more
	Checksums     bool              `json:"dataChecksums"`
	Superuser     string            `json:"superuser"` // name of the bootstrap superuser
	Tablespaces   []TablespaceEntry `json:"tablespaces,omitempty"`
}

// TablespaceEntry is a tablespace and where it was on the original.
type TablespaceEntry struct {
	OID      uint32 `json:"oid"`
	Location string `json:"location"`
}

// Place says to which tree a file belongs.
type Root string

// The places of files.
const (
	InData   Root = ""       // the data directory, tablespaces under pg_tblspc/OID
	InConfig Root = "config" // configuration files from outside of it; never laid out as they are
)

// File is one file or directory of a backup.
type File struct {
	Place    Root      `json:"place,omitempty"`
	Path     string    `json:"path"` // relative to the place, with slashes
	Mode     uint32    `json:"mode"` // permission bits
	Dir      bool      `json:"dir,omitempty"`
	Size     int64     `json:"size,omitempty"`
	Modified time.Time `json:"modified"`
	CRC32C   *uint32   `json:"crc32c,omitempty"` // of the whole content, where it was read as a whole
	// The map of the content: one sheet within the line if the file is short, else
	// where its sheets are. Unchanged sheets are shared with older backups.
	Sheet  []byte     `json:"sheet,omitempty"`
	Sheets []SheetRef `json:"sheets,omitempty"`
}

// Extents is how many extents the file has.
func (f *File) Extents() int { return int((f.Size + ExtentSize - 1) / ExtentSize) }

// SheetRef is where a sheet is: a frame of a pack.
type SheetRef struct {
	Pack   string `json:"pack"`
	Offset int64  `json:"at"`
	Length int    `json:"len"`
}

// Use is what of a pack a backup needs.
type Use struct {
	Pack   string `json:"id"`
	Frames int64  `json:"frames"`
	Bytes  int64  `json:"bytes"` // of these frames, with their headers; a frame that occurs twice counts once each time
}

// Tail is the last line of a manifest.
type Tail struct {
	Timeline    pg.Timeline `json:"timeline"`
	Start       pg.LSN      `json:"start"`
	Stop        pg.LSN      `json:"stop"`
	StartTime   time.Time   `json:"startTime"`
	StopTime    time.Time   `json:"stopTime"`
	Files       int64       `json:"files"`
	BytesHeld   int64       `json:"bytesHeld"`   // what the files hold together
	BytesRead   int64       `json:"bytesRead"`   // from the server
	BytesStored int64       `json:"bytesStored"` // in packs of its own
	BytesShared int64       `json:"bytesShared"` // frames in packs of older backups
	ZeroExtents int64       `json:"zeroExtents"`
	Extents     int64       `json:"extents"`
	NewExtents  int64       `json:"newExtents"` // that no older backup held
	Pages       int64       `json:"pages"`      // whose checksums were looked at
	PageFaults  int64       `json:"pageFaults"` // that were damaged
	Packs       int         `json:"packs"`      // lines of packs

	// Damaged are the pages counted by PageFaults. Each is read again by every later backup, until
	// it is seen whole.
	Damaged []DamagedPage `json:"damaged,omitempty"`
}

// DamagedPage is a page of a relation whose content could not be right, on the server's disk.
type DamagedPage struct {
	Path  string `json:"path"`  // of the file, relative to the data directory
	Block uint32 `json:"block"` // of the relation
	Fault string `json:"fault"`
	Table string `json:"table,omitempty"` // database and name, where they are known
}

type line struct {
	Head *Head `json:"head,omitempty"`
	File *File `json:"file,omitempty"`
	Pack *Use  `json:"pack,omitempty"`
	Tail *Tail `json:"tail,omitempty"`
}

// ManifestWriter writes a manifest as its parts become known.
type ManifestWriter struct{ lines *json.Encoder }

// NewManifestWriter begins a manifest on the content of an object with its head.
func NewManifestWriter(content io.Writer, head Head) (*ManifestWriter, error) {
	head.Format = ManifestFormat
	w := &ManifestWriter{json.NewEncoder(content)}
	return w, w.lines.Encode(line{Head: &head})
}

// Add appends a file.
func (w *ManifestWriter) Add(f *File) error { return w.lines.Encode(line{File: f}) }

// Finish writes what is used of each pack, and the tail.
func (w *ManifestWriter) Finish(uses []Use, t Tail) error {
	t.Packs = len(uses)
	for i := range uses {
		if err := w.lines.Encode(line{Pack: &uses[i]}); err != nil {
			return err
		}
	}
	return w.lines.Encode(line{Tail: &t})
}

// Visit is told the lines of a manifest; a nil function is not.
type Visit struct {
	Head func(Head) error
	File func(*File) error
	Pack func(Use) error
}

// ReadManifest streams a manifest from the content of its object. An error of a visit
// ends it. Without a tail, or not whole, it is ErrCorrupt.
func ReadManifest(content io.Reader, visit Visit) (Tail, error) {
	src := &source{Reader: content}
	lines := json.NewDecoder(bufio.NewReader(src))
	var tail *Tail
	packs := 0
	for first := true; ; first = false {
		var l line
		if err := lines.Decode(&l); err != nil {
			if err == io.EOF && tail != nil && tail.Packs == packs {
				return *tail, nil
			}
			if src.err != nil {
				return Tail{}, fmt.Errorf("manifest: %w", src.err)
			}
			if errors.Is(err, io.EOF) {
				return Tail{}, fmt.Errorf("manifest: %w", cutShort("before its last line", err))
			}
			return Tail{}, fmt.Errorf("manifest: %w: %w", ErrCorrupt, err)
		}
		var err error
		switch {
		case first != (l.Head != nil) || tail != nil || packs > 0 && l.File != nil:
			return Tail{}, fmt.Errorf("manifest: %w: its lines are out of order", ErrCorrupt)
		case first && l.Head.Format != ManifestFormat:
			return Tail{}, fmt.Errorf("manifest: format %q is not %s; another version of velvet wrote it", l.Head.Format, ManifestFormat)
		case l.Head != nil && visit.Head != nil:
			err = visit.Head(*l.Head)
		case l.File != nil && visit.File != nil:
			err = visit.File(l.File)
		case l.Pack != nil:
			packs++
			if visit.Pack != nil {
				err = visit.Pack(*l.Pack)
			}
		case l.Tail != nil:
			tail = l.Tail
		}
		if err != nil {
			return Tail{}, err
		}
	}
}

// source remembers why it could not be read, which says nothing of the lines.
type source struct {
	io.Reader
	err error
}

func (s *source) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		s.err = err
	}
	return n, err
}
