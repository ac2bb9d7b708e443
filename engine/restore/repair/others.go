package repair

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/core/repair"
)

// others goes through what lies there and the base does not have.
func (r *run) others() error {
	return r.roots.each(func(own *root) error {
		if own.dir == r.roots.data.dir {
			var err error
			for _, dir := range []string{"base", "global", "pg_xact", "pg_multixact", "pg_commit_ts", "pg_twophase"} {
				err = errors.Join(err, r.below(own, dir, ""))
			}
			return err
		}
		for at, is := range r.roots.below {
			if is == own && at != walDir {
				return r.below(own, ".", at)
			}
		}
		return nil
	})
}

// below looks at the files below a directory of a root, which is found at a path of the data directory.
func (r *run) below(own *root, dir, at string) error {
	err := own.tree.Walk(dir, func(name string, _ fs.DirEntry) error {
		full := path.Join(at, name)
		if r.named[hashOf(full)] || !r.selected(full) {
			return nil
		}
		return r.other(own, name, full)
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// other judges a file that the base does not have.
func (r *run) other(own *root, name, full string) error {
	if err := r.ctx.Err(); err != nil {
		return err
	}
	if repair.Exact(full) {
		return r.setAside(own, name, Finding{Path: full, Why: "it was made after the base", Renewed: true})
	}
	class := repair.ClassOf(full)
	if class == repair.Kept || class == repair.Passing || r.ground.Drops(full) {
		return nil
	}
	switch is, kept := r.unlogged(own, name, full); {
	case kept:
		return nil // the server empties it
	case is: // nor would it find what says that it is to be emptied
		return r.setAside(own, name, Finding{Path: full, Why: "it is of an unlogged relation that was made after the base", Renewed: true})
	case r.ground.MakesDatabase(full) && class == repair.Renewed:
		return r.setAside(own, name, Finding{Path: full, Why: "it was made after the base", Renewed: true})
	}
	if !r.ground.Makes(full) && !r.ground.Makes(mainOf(full)) && !r.named[hashOf(mainOf(full))] {
		return r.setAside(own, name, Finding{Path: full, Why: "it is in no base, and no WAL makes it"})
	}
	if r.ground.Strict || !r.ground.Checksums || class == repair.Renewed {
		return r.setAside(own, name, Finding{Path: full, Why: "it was made after the base", Renewed: true})
	}
	disk, size, err := r.open(own, name)
	if err != nil {
		return r.setAside(own, name, Finding{Path: full, Why: err.Error()})
	}
	why, err := r.faultOf(own, name, full, class, disk, size)
	if err = errors.Join(err, disk.Close()); err != nil || why == "" {
		return err
	}
	return r.setAside(own, name, Finding{Path: full, Why: why})
}

// faultOf says what is wrong with a file that was made since the base.
func (r *run) faultOf(own *root, name, full string, class repair.Class, disk *os.File, size int64) (string, error) {
	r.looked(full, 0)
	if class == repair.Maps {
		buf := make([]byte, layout.ExtentSize)
		for at := int64(0); at < size; at += layout.ExtentSize {
			content := buf[:min(size-at, layout.ExtentSize)]
			if _, err := disk.ReadAt(content, at); err != nil || !r.wholePages(content, at) || len(content)%pg.BlockSize != 0 {
				return "a page of it is damaged", nil
			}
		}
		return "", nil
	}
	judged, err := r.judge(own, name, &layout.File{Path: full}, disk, size, nil)
	if err != nil {
		return "", err
	}
	d := judged.Done()
	if d.Fault == "" {
		r.mu.Lock()
		r.out.Newer += int64(judged.Left())
		r.mu.Unlock()
	}
	return d.Fault, nil
}

// mainOf is the path of the first file of a relation that a file is of.
func mainOf(full string) string {
	if init := repair.InitOf(full); init != "" {
		return init[:len(init)-len("_init")]
	}
	return full
}

// unlogged tells whether a file is of an unlogged relation, and whether the base has that.
func (r *run) unlogged(own *root, name, full string) (is, inBase bool) {
	init := repair.InitOf(full)
	if init == "" {
		return false, false
	}
	if r.named[hashOf(init)] {
		return true, true
	}
	_, err := own.tree.Lstat(path.Join(path.Dir(name), path.Base(init)))
	return err == nil || r.ground.Makes(init), false
}

// setAside moves a file to where it is kept.
func (r *run) setAside(own *root, name string, f Finding) error {
	f.Removed = true
	r.found(f)
	if !r.Apply {
		return nil
	}
	return r.remove(own, name)
}

// segment has a segment that replay needs be in pg_wal as it was captured.
func (r *run) segment(s pg.Segment) error {
	file := s.Name(r.SegmentSize)
	own, name := r.roots.find(walDir + "/" + file)
	start := r.SegmentSize.Start(s.Number)
	length := int64(r.SegmentSize)
	if end := r.SegmentSize.Start(s.Number + 1); r.Captured < end {
		length = int64(r.Captured - start)
	}
	disk, size, err := r.open(own, name)
	if err == nil {
		is, err := r.captured(s, disk, size, length)
		if err := errors.Join(err, disk.Close()); err != nil || is {
			return err
		}
	}
	missing := errors.Is(err, fs.ErrNotExist)
	r.mu.Lock()
	r.out.Segments = append(r.out.Segments, file)
	r.needs[own.dir] += int64(r.SegmentSize)
	r.mu.Unlock()
	if !r.Apply {
		return nil
	}
	if !missing {
		if err := r.remove(own, name); err != nil {
			return err
		}
	}
	return r.laySegment(own, name, file, s)
}

// captured tells whether a segment that lies there holds what was captured of it.
func (r *run) captured(s pg.Segment, disk io.Reader, size, length int64) (bool, error) {
	if size != int64(r.SegmentSize) {
		return false, nil
	}
	content, err := r.Segment(r.ctx, s)
	if err != nil {
		return false, err
	}
	defer func() { _ = content.Close() }()
	a, b := make([]byte, layout.ExtentSize), make([]byte, layout.ExtentSize)
	for ours := io.LimitReader(content, length); ; {
		n, err := io.ReadFull(ours, a)
		if n > 0 {
			if _, err := io.ReadFull(disk, b[:n]); err != nil || !bytes.Equal(a[:n], b[:n]) {
				return false, nil // also where it cannot be read
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return true, nil
		}
		if err != nil {
			return false, err
		}
	}
}

// laySegment writes a segment as it was captured, with nothing after that, and says that it need not be archived again.
func (r *run) laySegment(own *root, name, file string, s pg.Segment) error {
	content, err := r.Segment(r.ctx, s)
	if err != nil {
		return err
	}
	defer func() { _ = content.Close() }()
	out, err := own.tree.Create(name, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, content)
	if err == nil {
		err = out.Truncate(int64(r.SegmentSize))
	}
	if n > int64(r.SegmentSize) {
		err = layout.ErrCorrupt
	}
	if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
		return err
	}
	status := path.Join(path.Dir(name), "archive_status")
	for _, known := range []string{".ready", ".done"} {
		if _, err := own.tree.Lstat(path.Join(status, file+known)); err == nil {
			return nil
		}
	}
	if err := own.makeDirs(status, 0o700); err != nil {
		return err
	}
	done, err := own.tree.Create(path.Join(status, file+".done"), 0o600)
	if err != nil {
		return err
	}
	return done.Close()
}
