package layout

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"time"

	"velvetrewind/core/pg"
)

// A manifest is an object whose content is lines of JSON: a Head, a line for each
// File, and a Tail. One without its Tail is no manifest. It is written and read
// as a stream, so that its length never matters.

// ManifestFormat names the version of the manifest's lines.
const ManifestFormat = "velvet-manifest/1"

// Head is the first line of a manifest.
type Head struct {
	Format        string            `json:"format"`
	Backup        string            `json:"backup"`
	Cluster       string            `json:"cluster"`
	SystemID      uint64            `json:"systemId,string"`
	ServerVersion int               `json:"serverVersion"` // server_version_num
	SegmentSize   pg.SegmentSize    `json:"segmentSize"`
	Kind          string            `json:"kind"` // "full"
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
type Place string

// The places of files.
const (
	InData   Place = ""       // the data directory, tablespaces under pg_tblspc/OID
	InConfig Place = "config" // configuration files from outside of it; never laid out as they are
)

// File is one file, directory or symbolic link of a backup.
type File struct {
	Place    Place     `json:"place,omitempty"`
	Path     string    `json:"path"` // relative to the place, with slashes
	Mode     uint32    `json:"mode"` // permission bits
	Dir      bool      `json:"dir,omitempty"`
	Size     int64     `json:"size,omitempty"`
	Modified time.Time `json:"modified"`
	CRC32C   uint32    `json:"crc32c,omitempty"`
	// Where the content begins: the pack's number and the offset of its first
	// frame there. The content goes on frame by frame, and in the next pack, behind
	// its magic, once a pack has reached its end mark.
	Pack   int   `json:"pack,omitempty"`
	Offset int64 `json:"offset,omitempty"`
}

// Tail is the last line of a manifest.
type Tail struct {
	Timeline    pg.Timeline `json:"timeline"`
	Start       pg.LSN      `json:"start"`
	Stop        pg.LSN      `json:"stop"`
	StartTime   time.Time   `json:"startTime"`
	StopTime    time.Time   `json:"stopTime"`
	Files       int64       `json:"files"`
	BytesRead   int64       `json:"bytesRead"`
	BytesStored int64       `json:"bytesStored"`
	Pages       int64       `json:"pages"`
	Packs       int         `json:"packs"`
}

type line struct {
	Head *Head `json:"head,omitempty"`
	File *File `json:"file,omitempty"`
	Tail *Tail `json:"tail,omitempty"`
}

// ManifestWriter writes a manifest as its parts become known.
type ManifestWriter struct {
	stream *Stream
	lines  *json.Encoder
}

// NewManifestWriter begins a manifest on dst with its head.
func NewManifestWriter(dst io.Writer, head Head) (*ManifestWriter, error) {
	head.Format = ManifestFormat
	s := NewStream(dst, Zstd)
	w := &ManifestWriter{stream: s, lines: json.NewEncoder(s)}
	return w, w.lines.Encode(line{Head: &head})
}

// Add appends a file.
func (w *ManifestWriter) Add(f File) error { return w.lines.Encode(line{File: &f}) }

// Finish writes the tail and completes the object.
func (w *ManifestWriter) Finish(t Tail) error {
	if err := w.lines.Encode(line{Tail: &t}); err != nil {
		return err
	}
	return w.stream.Close()
}

// ReadManifest streams a manifest from the object src, handing over each file.
// An error of each ends it. Without a tail, or not whole, it is ErrCorrupt.
func ReadManifest(src io.Reader, begin func(Head) error, each func(File) error) (Tail, error) {
	content, err := OpenObject(src)
	if err != nil {
		return Tail{}, fmt.Errorf("manifest: %w", err)
	}
	lines := json.NewDecoder(bufio.NewReader(content))
	var tail *Tail
	for first := true; ; first = false {
		var l line
		if err := lines.Decode(&l); err != nil {
			if err == io.EOF && tail != nil {
				return *tail, nil
			}
			return Tail{}, fmt.Errorf("manifest: %w: %w", ErrCorrupt, noEOF(err))
		}
		switch {
		case first != (l.Head != nil) || tail != nil:
			return Tail{}, fmt.Errorf("manifest: %w: its lines are out of order", ErrCorrupt)
		case first && l.Head.Format != ManifestFormat:
			return Tail{}, fmt.Errorf("manifest: format %q is not %s; a newer velvet wrote it", l.Head.Format, ManifestFormat)
		case l.Head != nil:
			err = begin(*l.Head)
		case l.File != nil:
			err = each(*l.File)
		case l.Tail != nil:
			tail = l.Tail
		}
		if err != nil {
			return Tail{}, err
		}
	}
}
