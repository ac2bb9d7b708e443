package restore

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"velvetrewind/core/layout"
)

// names are the paths that a base backup has in its trees, by their hash, and whether each is
// a directory: of a cluster with a million files they take some 30 MiB.
type names map[layout.Hash]bool

func (n names) has(path string) bool {
	_, ok := n[layout.HashOf([]byte(path))]
	return ok
}

// makeWay notes a path and the directories above it, and removes what is of another kind
// than it must be: a link or a directory in the place of a file, a file in that of a directory.
func (n names) makeWay(t Trees, path string, dir bool) error {
	if slices.Contains(t.roots(), path) {
		return nil
	}
	if known, has := n[layout.HashOf([]byte(path))]; has && known && dir {
		return nil
	} else if has {
		return fmt.Errorf("%w: the manifest names %s twice", layout.ErrCorrupt, path)
	}
	if err := n.makeWay(t, filepath.Dir(path), true); err != nil {
		return err
	}
	n[layout.HashOf([]byte(path))] = dir
	is, err := t.Look(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil || dir && is.Dir || !dir && is.Regular {
		return err
	}
	return t.Remove(path)
}

// removeOthers removes what is in the trees and has no name in the backup.
func (n names) removeOthers(t Trees) error {
	for _, root := range t.roots() {
		if err := n.removeBelow(t, root); err != nil {
			return err
		}
	}
	return nil
}

func (n names) removeBelow(t Trees, dir string) error {
	entries, err := t.List(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name)
		switch {
		case !n.has(path):
			err = t.Remove(path)
		case e.Dir:
			err = n.removeBelow(t, path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
