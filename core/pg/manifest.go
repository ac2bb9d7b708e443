package pg

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"
)

// ManifestFile is one file of the server's own backup manifest.
type ManifestFile struct {
	Path     string
	Size     int64
	CRC32C   uint32
	Modified time.Time
}

// ManifestRange is the WAL that a base backup needs to become consistent.
type ManifestRange struct {
	Timeline   Timeline
	Start, End LSN
}

// ReadManifest streams a backup manifest, as the server
// sends it with MANIFEST_CHECKSUMS 'CRC32C' (backup-manifest format, version 1 or 2),
// handing over each file and returning the WAL ranges. It never holds the list whole.
func ReadManifest(r io.Reader, each func(ManifestFile) error) ([]ManifestRange, error) {
	d := json.NewDecoder(r)
	var ranges []ManifestRange
	err := eachMember(d, func(key string) error {
		switch key {
		case "Files":
			return eachElement(d, func() error {
				f, err := readManifestFile(d)
				if err != nil {
					return err
				}
				return each(f)
			})
		case "WAL-Ranges":
			return eachElement(d, func() error {
				var w struct {
					Timeline Timeline `json:"Timeline"`
					Start    LSN      `json:"Start-LSN"`
					End      LSN      `json:"End-LSN"`
				}
				if err := d.Decode(&w); err != nil {
					return err
				}
				ranges = append(ranges, ManifestRange{w.Timeline, w.Start, w.End})
				return nil
			})
		default:
			var skip json.RawMessage
			return d.Decode(&skip)
		}
	})
	if err != nil {
		return nil, fmt.Errorf("the server's backup manifest: %w", err)
	}
	return ranges, nil
}

func readManifestFile(d *json.Decoder) (ManifestFile, error) {
	var w struct {
		Path        *string `json:"Path"`
		EncodedPath string  `json:"Encoded-Path"`
		Size        int64   `json:"Size"`
		Modified    string  `json:"Last-Modified"`
		Algorithm   string  `json:"Checksum-Algorithm"`
		Checksum    string  `json:"Checksum"`
	}
	if err := d.Decode(&w); err != nil {
		return ManifestFile{}, err
	}
	f := ManifestFile{Size: w.Size}
	if w.Path == nil { // a name that is not UTF-8 comes as hexadecimal bytes
		raw, err := hex.DecodeString(w.EncodedPath)
		if err != nil {
			return f, fmt.Errorf("encoded path %q: %w", w.EncodedPath, err)
		}
		f.Path = string(raw)
	} else {
		f.Path = *w.Path
	}
	if w.Algorithm != "CRC32C" {
		return f, fmt.Errorf("%s: checksum algorithm %q, CRC32C expected", f.Path, w.Algorithm)
	}
	crc, err := parseManifestCRC(w.Checksum)
	if err != nil {
		return f, fmt.Errorf("%s: %w", f.Path, err)
	}
	f.CRC32C = crc
	if f.Modified, err = time.Parse("2006-01-02 15:04:05 MST", w.Modified); err != nil {
		return f, fmt.Errorf("%s: %w", f.Path, err)
	}
	return f, nil
}

// parseManifestCRC reads the four bytes of the CRC in memory order (little-endian).
func parseManifestCRC(s string) (uint32, error) {
	if len(s) != 8 {
		return 0, fmt.Errorf("checksum %q: eight hexadecimal digits expected", s)
	}
	v, err := strconv.ParseUint(s, 16, 32)
	if err != nil {
		return 0, fmt.Errorf("checksum %q: %w", s, err)
	}
	w := uint32(v)
	return w<<24 | w>>24 | w<<8&0xff0000 | w>>8&0xff00, nil
}

// eachMember walks the members of the JSON object that comes next.
func eachMember(d *json.Decoder, visit func(key string) error) error {
	return walk(d, '{', func() error {
		t, err := d.Token()
		if err != nil {
			return err
		}
		key, ok := t.(string)
		if !ok {
			return fmt.Errorf("a member's name expected, got %v", t)
		}
		return visit(key)
	})
}

// eachElement walks the elements of the JSON array that comes next.
func eachElement(d *json.Decoder, visit func() error) error { return walk(d, '[', visit) }

func walk(d *json.Decoder, open json.Delim, visit func() error) error {
	t, err := d.Token()
	if err != nil {
		return err
	}
	if t != open {
		return fmt.Errorf("%v expected, got %v", open, t)
	}
	for d.More() {
		if err := visit(); err != nil {
			return err
		}
	}
	_, err = d.Token()
	return err
}
