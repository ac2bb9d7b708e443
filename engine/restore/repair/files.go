package repair

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/repair"
	"velvetrewind/engine/host"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/store/vault"
)

const missingDir = "the directory is missing"

// directory makes one that is missing, or in whose place something else is.
func (r *run) directory(f *layout.File) error {
	if !r.selected(f.Path + "/") {
		return nil
	}
	own, name := r.roots.find(f.Path)
	if name == "." {
		return nil // a root, which is seen to where it is opened
	}
	if own.tree == nil {
		r.found(Finding{Path: f.Path, Why: missingDir, Missing: true})
		return nil
	}
	info, err := own.tree.Lstat(name)
	if err == nil && (info.IsDir() || path.Dir(f.Path) == "pg_tblspc") { // a tablespace's is a link
		return nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	r.found(Finding{Path: f.Path, Why: missingDir, Missing: err != nil})
	if !r.Apply {
		return nil
	}
	if err == nil {
		if err := r.remove(own, name); err != nil {
			return err
		}
	}
	return own.makeDirs(name, fs.FileMode(f.Mode))
}

// makeDirs makes a directory, and those above it.
func (o *root) makeDirs(name string, mode fs.FileMode) error {
	if name == "." {
		return nil
	}
	if info, err := o.tree.Lstat(name); err == nil && info.IsDir() {
		return nil
	}
	if err := o.makeDirs(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	return o.tree.MakeDir(name, mode)
}

// remove moves what has a name to where it is kept.
func (r *run) remove(own *root, name string) error {
	aside, err := r.roots.keep(own)
	if err != nil {
		return err
	}
	return own.tree.MoveTo(aside, name)
}

// file compares one of the base's files with what lies there.
func (r *run) file(f *layout.File) error {
	class := repair.ClassOf(f.Path)
	if class == repair.Passing || !r.selected(f.Path) || r.ground.Drops(f.Path) {
		return nil
	}
	if err := vault.CheckSheets(f); err != nil {
		return err
	}
	own, name := r.roots.find(f.Path)
	disk, size, err := r.open(own, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return r.missing(own, name, f, class)
	case err != nil:
		if err := r.replace(own, name, f, Finding{Why: err.Error()}); err != nil {
			return err
		}
		return nil
	}
	defer func() { _ = disk.Close() }()
	defer r.looked(f.Path, size)
	if class == repair.Kept {
		return nil
	}
	e, err := r.extents(f)
	if err != nil {
		return err
	}
	if class != repair.Pages {
		return r.asAWhole(own, name, f, class, disk, size, e)
	}
	return r.pages(own, name, f, disk, size, e)
}

// open opens what lies there; an error that is not fs.ErrNotExist says that it cannot be the file.
func (r *run) open(own *root, name string) (*os.File, int64, error) {
	if own.tree == nil {
		return nil, 0, fs.ErrNotExist
	}
	f, err := own.tree.Open(name)
	if err != nil {
		return nil, 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, 0, errors.Join(err, f.Close())
	}
	return f, info.Size(), nil
}

// missing lays a file of which nothing is there.
func (r *run) missing(own *root, name string, f *layout.File, class repair.Class) error {
	base := path.Base(f.Path)
	renewed := class == repair.Renewed && base != "PG_VERSION" && base != "pg_filenode.map" || class == repair.Maps
	r.found(Finding{Path: f.Path, Why: "it is missing", Missing: true, Renewed: renewed, Bytes: f.Size})
	if !r.Apply {
		return nil
	}
	return r.lay(own, name, f)
}

// replace sets what lies there aside, and lays the base's.
func (r *run) replace(own *root, name string, f *layout.File, why Finding) error {
	why.Path, why.Bytes = f.Path, f.Size
	r.found(why)
	if !r.Apply {
		return nil
	}
	if err := r.remove(own, name); err != nil {
		return err
	}
	return r.lay(own, name, f)
}

// lay writes a file as the base has it.
func (r *run) lay(own *root, name string, f *layout.File) error {
	if err := own.makeDirs(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	out, err := own.tree.Create(name, fs.FileMode(f.Mode))
	if err != nil {
		return err
	}
	err = restore.Content(r.ctx, r.packs, r.key, f, out)
	r.looked(f.Path, f.Size)
	return errors.Join(err, out.Close())
}

// extents reads a file's map.
func (r *run) extents(f *layout.File) ([]layout.Extent, error) {
	list := make([]layout.Extent, 0, f.Extents())
	err := vault.EachSheet(r.ctx, r.packs, f, func(_ int, some []layout.Extent) error {
		list = append(list, some...)
		return nil
	})
	if err == nil && len(list) != f.Extents() {
		err = fmt.Errorf("%w: its map has %d extents of %d", layout.ErrCorrupt, len(list), f.Extents())
	}
	return list, err
}

// asAWhole compares a file whose pages tell nothing of themselves.
func (r *run) asAWhole(own *root, name string, f *layout.File, class repair.Class, disk *os.File, size int64, e []layout.Extent) error {
	equal, whole := size == f.Size, size%pg.BlockSize == 0
	buf, hasher := make([]byte, layout.ExtentSize), layout.NewHasher(r.key)
	for at := int64(0); at < size; at += layout.ExtentSize {
		content := buf[:min(size-at, layout.ExtentSize)]
		if _, err := disk.ReadAt(content, at); err != nil {
			return r.replace(own, name, f, Finding{Why: err.Error()})
		}
		n := int(at / layout.ExtentSize)
		equal = equal && n < len(e) && hasher.Matches(e[n], content)
		if class == repair.Maps && !equal && whole {
			whole = r.wholePages(content, at)
		}
	}
	switch {
	case equal, class == repair.Maps && whole:
		return nil
	case class == repair.Maps:
		return r.replace(own, name, f, Finding{Why: "a page of it is damaged"})
	case path.Base(f.Path) == "PG_VERSION":
		return r.replace(own, name, f, Finding{Why: "it is another than the base's"})
	}
	return r.replace(own, name, f, Finding{Why: "it is another than the base's, which nothing tells to be wrong", Renewed: true})
}

// wholePages tells whether the pages of a map are whole. They are numbered by where they lie, for a map has one file.
func (r *run) wholePages(content []byte, at int64) bool {
	for i := 0; i+pg.BlockSize <= len(content); i += pg.BlockSize {
		if pg.CheckPage(content[i:i+pg.BlockSize], uint32((at+int64(i))/pg.BlockSize), r.ground.Checksums) != "" {
			return false
		}
	}
	return true
}

// pages compares a relation's file page by page.
func (r *run) pages(own *root, name string, f *layout.File, disk *os.File, size int64, e []layout.Extent) error {
	judged, err := r.judge(own, name, f, disk, size, e)
	if err != nil {
		return err
	}
	d := judged.Done()
	r.mu.Lock()
	r.out.Newer += int64(judged.Left())
	r.mu.Unlock()
	if d.Fault == "" {
		return nil
	}
	r.found(Finding{Path: f.Path, Why: d.Fault, Renewed: d.Unsure, Pages: int64(len(d.Pages)), Bytes: int64(len(d.Pages)) * pg.BlockSize})
	if !r.Apply {
		return nil
	}
	if err := r.keepPages(own, name, f.Path, disk, size, d); err != nil {
		return err
	}
	return r.write(own, name, f, e, d)
}

// judge shows every page of a file that matters.
func (r *run) judge(own *root, name string, f *layout.File, disk *os.File, size int64, e []layout.Extent) (*repair.File, error) {
	const perExtent = layout.ExtentSize / pg.BlockSize
	judged := r.ground.NewFile(f.Path, f.Size, size, r.last(own, name, f.Size))
	buf, hasher := make([]byte, layout.ExtentSize), layout.NewHasher(r.key)
	var doubtful []int // extents of which the base's is needed
	size -= size % pg.BlockSize
	for n := 0; int64(n)*layout.ExtentSize < size; n++ {
		at := int64(n) * layout.ExtentSize
		content := buf[:min(size-at, layout.ExtentSize)]
		if err := readPages(disk, content, at, func(page int, err error) { judged.Lost(uint32(n*perExtent+page), err) }); err != nil {
			continue
		}
		inBase := n < len(e)
		if inBase && int64(len(content)) == min(f.Size-at, layout.ExtentSize) && hasher.Matches(e[n], content) {
			continue
		}
		need := false
		for i := 0; i < len(content)/pg.BlockSize; i++ {
			page, disk := uint32(n*perExtent+i), content[i*pg.BlockSize:(i+1)*pg.BlockSize]
			if int64(page)*pg.BlockSize >= f.Size {
				judged.Page(page, disk, nil)
			} else if !judged.Newer(page, disk) {
				need = true
			}
		}
		if need {
			doubtful = append(doubtful, n)
		}
	}
	return judged, restore.Some(r.ctx, r.packs, r.key, f, e, doubtful, func(n int, base []byte) error {
		at := int64(n) * layout.ExtentSize
		content := buf[:min(size-at, layout.ExtentSize)]
		if _, err := disk.ReadAt(content, at); err != nil {
			return err
		}
		for i := 0; i < len(content)/pg.BlockSize && (i+1)*pg.BlockSize <= len(base); i++ {
			if page := uint32(n*perExtent + i); !judged.Took(page) {
				judged.Page(page, content[i*pg.BlockSize:(i+1)*pg.BlockSize], base[i*pg.BlockSize:(i+1)*pg.BlockSize])
			}
		}
		return nil
	})
}

// readPages reads an extent; where that fails it is told of each page that it failed for all of them.
func readPages(disk io.ReaderAt, content []byte, at int64, lost func(page int, err error)) error {
	_, err := disk.ReadAt(content, at)
	if err == nil {
		return nil
	}
	for i := range len(content) / pg.BlockSize {
		lost(i, err)
	}
	return err
}

// last tells whether no file follows that holds more of the relation.
func (r *run) last(own *root, name string, had int64) bool {
	const full = pg.BlocksPerFile * pg.BlockSize
	if had >= full || own.tree == nil {
		return false
	}
	rel, ok := pg.ParseRelationFile(path.Join("global", path.Base(name)))
	if !ok {
		return false
	}
	next := fmt.Sprint(rel.Filenode)
	if rel.Fork != "" {
		next += "_" + rel.Fork
	}
	_, err := own.tree.Lstat(filepath.Join(filepath.Dir(name), fmt.Sprintf("%s.%d", next, rel.Part+1)))
	return errors.Is(err, fs.ErrNotExist)
}

// keptPages says, in a line of the file of that name beside what is kept, which pages of a file are kept.
type keptPages struct {
	Path  string   `json:"path"`
	Size  int64    `json:"size"` // that the file had
	Pages []uint32 `json:"pages"`
}

const keptList = "pages.jsonl"

// keepPages keeps those pages that will be overwritten or cut off, at their places in a file of the same name.
func (r *run) keepPages(own *root, name, full string, disk *os.File, size int64, d repair.Findings) (err error) {
	list := slices.Clone(d.Pages)
	for n := d.Size / pg.BlockSize; d.Truncate && n*pg.BlockSize < size; n++ {
		list = append(list, uint32(n))
	}
	list = slices.DeleteFunc(list, func(n uint32) bool { return int64(n)*pg.BlockSize >= size })
	slices.Sort(list)
	list = slices.Compact(list)
	if len(list) == 0 {
		return nil
	}
	aside, err := r.roots.keep(own)
	if err != nil {
		return err
	}
	to := root{tree: aside}
	if err := to.makeDirs(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	out, err := aside.Create(name, 0o600)
	if err != nil {
		return err
	}
	page := make([]byte, pg.BlockSize)
	for _, n := range list {
		at := int64(n) * pg.BlockSize
		content := page[:min(size-at, pg.BlockSize)]
		if _, e := disk.ReadAt(content, at); e != nil {
			continue // nobody can keep it
		}
		if _, err = out.WriteAt(content, at); err != nil {
			break
		}
	}
	if err = errors.Join(err, out.Sync(), out.Close(), aside.SyncDir(filepath.Dir(name))); err != nil {
		return err
	}
	line, err := json.Marshal(keptPages{Path: full, Size: size, Pages: list})
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return appendLine(aside, keptList, line)
}

func appendLine(t *host.Tree, name string, line []byte) error {
	f, err := t.Reopen(name, 0o600)
	if err != nil {
		return err
	}
	if _, err = f.Seek(0, io.SeekEnd); err == nil {
		_, err = f.Write(append(line, '\n'))
	}
	return errors.Join(err, f.Sync(), f.Close(), t.SyncDir("."))
}

// write writes the pages that are wrong as the base has them.
func (r *run) write(own *root, name string, f *layout.File, e []layout.Extent, d repair.Findings) error {
	out, err := own.tree.Change(name)
	if err != nil {
		return err
	}
	const perExtent = layout.ExtentSize / pg.BlockSize
	var which []int
	empty := make([]byte, pg.BlockSize)
	for _, p := range d.Pages {
		n := int(p / perExtent)
		switch {
		case int64(p)*pg.BlockSize >= f.Size:
			if _, err := out.WriteAt(empty, int64(p)*pg.BlockSize); err != nil {
				return errors.Join(err, out.Close())
			}
		case len(which) == 0 || which[len(which)-1] != n:
			which = append(which, n)
		}
	}
	err = restore.Some(r.ctx, r.packs, r.key, f, e, which, func(n int, base []byte) error {
		for i := 0; (i+1)*pg.BlockSize <= len(base); i++ {
			p := uint32(n*perExtent + i)
			if _, is := slices.BinarySearch(d.Pages, p); !is {
				continue
			}
			if _, err := out.WriteAt(base[i*pg.BlockSize:(i+1)*pg.BlockSize], int64(p)*pg.BlockSize); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil && d.Truncate {
		err = out.Truncate(d.Size)
	}
	return errors.Join(err, out.Close())
}
