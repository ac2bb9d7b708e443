package restore

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"velvetrewind/core/layout"
	"velvetrewind/engine/host"
)

// names are the paths that a base backup has in its trees, by their hash: of a cluster
// with a million files they take some 30 MiB.
type names map[layout.Hash]struct{}

func (n names) add(path string) { n[layout.HashOf([]byte(path))] = struct{}{} }

func (n names) has(path string) bool {
	_, ok := n[layout.HashOf([]byte(path))]
	return ok
}

// makeWay notes a path and the directories above it, and removes what is of another kind
// than it must be: a link or a directory in the place of a file, a file in that of a directory.
func (n names) makeWay(h *host.Host, t Trees, path string, dir bool) error {
	if path == t.Data || path == t.Tablespaces || path == t.Config || n.has(path) {
		return nil
	}
	if err := n.makeWay(h, t, filepath.Dir(path), true); err != nil {
		return err
	}
	n.add(path)
	info, err := os.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil || dir && info.IsDir() || !dir && info.Mode().IsRegular() {
		return err
	}
	return h.RemoveTree(path)
}

// removeOthers removes what is in the trees and has no name in the backup.
func (n names) removeOthers(h *host.Host, t Trees) error {
	for _, root := range []string{t.Data, t.Tablespaces, t.Config} {
		if err := n.removeBelow(h, root); err != nil {
			return err
		}
	}
	return nil
}

func (n names) removeBelow(h *host.Host, dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(dir, e.Name())
		switch {
		case !n.has(path):
			err = h.RemoveTree(path)
		case e.IsDir():
			err = n.removeBelow(h, path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
