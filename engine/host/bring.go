package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
)

// BroughtName is what is appended to the name that a directory is to have, for as long as it is brought there for a copy.
func BroughtName(copyID string) string { return ".velvet-brought-" + copyID }

var broughtName = regexp.MustCompile(`\.velvet-brought-[0-9a-z]+$`)

// Bring copies a directory of an OS user of copies to another file system, under a name that ends as BroughtName says, in place of what
// has it, and durably.
func (h *Host) Bring(ctx context.Context, user, from, to string) error {
	if !broughtName.MatchString(to) {
		return fmt.Errorf("%s is no name of what is brought", to)
	}
	own, err := h.As(user)
	if err != nil {
		return err
	}
	h.bringing.Lock() // another that was given up may not have noticed yet
	defer h.bringing.Unlock()
	if err := h.RemoveAside(to); err != nil {
		return err
	}
	source, err := own.Tree(from)
	if err != nil {
		return err
	}
	defer func() { _ = source.Close() }()
	target, err := own.RealTree(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer func() { _ = target.Close() }()
	if err := target.bring(ctx, source, ".", filepath.Base(to)); err != nil {
		return fmt.Errorf("bring %s to %s: %w", from, to, err)
	}
	return target.Sync()
}

// bring copies a directory of another tree.
func (t *Tree) bring(ctx context.Context, source *Tree, from, to string) error {
	info, err := source.Lstat(from)
	if err != nil {
		return err
	}
	if err := t.MakeDir(to, info.Mode().Perm()); err != nil {
		return err
	}
	entries, err := source.List(from)
	if err != nil {
		return err
	}
	for _, e := range entries {
		a, b := filepath.Join(from, e.Name()), filepath.Join(to, e.Name())
		switch {
		case ctx.Err() != nil:
			err = context.Cause(ctx)
		case e.IsDir():
			err = t.bring(ctx, source, a, b)
		case e.Type()&fs.ModeSymlink != 0:
			var at string
			if at, err = source.root.Readlink(a); err == nil {
				err = t.Link(at, b)
			}
		case e.Type().IsRegular():
			err = t.bringFile(source, a, b)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *Tree) bringFile(source *Tree, from, to string) error {
	in, err := source.Open(from)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	var out *os.File
	if out, err = t.Create(to, info.Mode().Perm()); err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
