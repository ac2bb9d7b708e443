// Package mirror copies what a store holds of a cluster to the second store.
//
// Invariant: a manifest is copied after everything that it names, so that what the
// second store lists as a backup can be restored from there alone. A damaged object is
// not copied, and nothing is deleted but what was deleted while it was copied.
package mirror

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/core/task"
	"velvetrewind/engine/backup"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Result is what was copied.
type Result struct {
	Objects int64
	Bytes   int64
	Damaged int64 // objects that were not copied because they are damaged
}

// Run copies every object of a cluster that the second store lacks, or has as it was
// before. stands tells whether a backup has not been dropped meanwhile.
func Run(ctx context.Context, v *vault.Vault, cluster string, stands func(backup string) (bool, error),
	report task.Report) (r Result, err error) {
	second := v.Second()
	if second == nil {
		return r, errors.New("there is no second store; name one when the service starts: --second-store")
	}
	c := &copier{vault: v, cluster: cluster, packs: make(map[string]bool), stands: stands}
	lacking, err := c.lacking(ctx)
	if err != nil {
		return r, err
	}
	var total int64
	for _, i := range lacking {
		total += i.Size
	}
	for _, i := range lacking {
		report.Progress(r.Bytes, total, task.Bytes, "copying "+i.Key)
		err := c.copy(ctx, i.Key)
		switch {
		case err == nil:
			r.Objects++
			r.Bytes += i.Size
			c.note(i.Key)
		case errors.Is(err, store.ErrNotFound): // dropped meanwhile
		case errors.Is(err, errIncomplete):
			report.Warn("%v", err)
		case errors.Is(err, layout.ErrCorrupt) && ctx.Err() == nil:
			report.Warn("%v; see: velvet store audit --full", err)
			r.Damaged++
		default:
			return r, err
		}
	}
	report.Log("%s copied to %s, %s", figures.Of(int(r.Objects), "object"), second, figures.Size(r.Bytes))
	return r, nil
}

// copier copies objects of one cluster.
type copier struct {
	vault   *vault.Vault
	cluster string
	packs   map[string]bool // those that the second store has by now, in whatever generation
	stands  func(backup string) (bool, error)
}

// lacking lists what is to be copied, in order, and notes what is there.
func (c *copier) lacking(ctx context.Context) ([]store.Info, error) {
	prefix := "clusters/" + c.cluster + "/"
	there := make(map[string]int64)
	if err := c.vault.Second().List(ctx, prefix, func(i store.Info) error { there[i.Key] = i.Size; return ctx.Err() }); err != nil {
		return nil, fmt.Errorf("the second store: %w", err)
	}
	list, err := rewritten(ctx, c.vault.First(), c.vault.Second(), c.cluster)
	if err != nil {
		return nil, err
	}
	err = c.vault.List(ctx, prefix, func(i store.Info) error {
		if size, ok := there[i.Key]; !slices.Contains(rewrittenKeys(c.cluster), i.Key) && (!ok || size != i.Size) {
			list = append(list, i)
			delete(there, i.Key)
		}
		return ctx.Err()
	})
	for key := range there {
		c.note(key)
	}
	slices.SortFunc(list, inOrder)
	return list, err
}

func (c *copier) copy(ctx context.Context, key string) error {
	second := c.vault.Second()
	id, manifest := backupOf(key, "clusters/"+c.cluster+"/")
	if manifest {
		if err := c.complete(ctx, id); err != nil {
			return err
		}
	}
	if err := c.vault.Copy(ctx, key, c.vault.First(), second); err != nil {
		return err
	}
	if manifest {
		return keepIfStands(ctx, second, key, id, c.stands)
	}
	return keepIfThere(ctx, c.vault, second, key)
}

// errIncomplete is that a backup's manifest waits for what it names.
var errIncomplete = errors.New("its manifest is not copied before the second store has all that it names")

// complete tells whether the second store has every pack that a backup names.
func (c *copier) complete(ctx context.Context, id string) error {
	_, err := backup.ReadManifest(ctx, c.vault, c.cluster, id, layout.Visit{Pack: func(u layout.Use) error {
		if !c.packs[u.Pack] {
			return fmt.Errorf("base %s: pack %s is not there: %w", id, u.Pack, errIncomplete)
		}
		return nil
	}})
	return err
}

// note notes that the second store has an object.
func (c *copier) note(key string) {
	if pack, _, ok := store.ParsePackKey(c.cluster, key); ok {
		c.packs[pack] = true
	}
}

// rewritten lists of the objects that are written anew under their names, and may be as long as
// before, those that both stores do not have the same.
func rewritten(ctx context.Context, first, second store.Store, cluster string) (changed []store.Info, err error) {
	for _, key := range rewrittenKeys(cluster) {
		mine, err := read(ctx, first, key)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		its, err := read(ctx, second, key)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, fmt.Errorf("the second store: %w", err)
		}
		if !bytes.Equal(mine, its) {
			changed = append(changed, store.Info{Key: key, Size: int64(len(mine))})
		}
	}
	return changed, nil
}

func rewrittenKeys(cluster string) []string {
	return []string{store.RecordKey(cluster), store.DepositKey(cluster)}
}

func read(ctx context.Context, s store.Store, key string) ([]byte, error) {
	src, err := s.Open(ctx, key, 0)
	if err != nil {
		return nil, err
	}
	content, err := io.ReadAll(src)
	return content, errors.Join(err, src.Close())
}

// backupOf tells whose manifest a key names.
func backupOf(key, prefix string) (id string, ok bool) {
	id, ok = strings.CutPrefix(key, prefix+"bases/")
	if !ok {
		return "", false
	}
	return strings.CutSuffix(id, "/manifest")
}

// keepIfStands takes a manifest back whose backup was dropped while it was copied: the
// drop may have looked for it before it was there.
func keepIfStands(ctx context.Context, second store.Store, key, id string, stands func(string) (bool, error)) error {
	if ok, err := stands(id); err != nil || ok {
		return err
	}
	return second.Delete(ctx, key)
}

// keepIfThere takes back what was deleted while it was copied.
func keepIfThere(ctx context.Context, v *vault.Vault, second store.Store, key string) error {
	_, err := v.Stat(ctx, key)
	if errors.Is(err, store.ErrNotFound) {
		return second.Delete(ctx, key)
	}
	return err
}

// inOrder puts manifests last, and what was written first before what followed.
func inOrder(a, b store.Info) int {
	x, y := strings.HasSuffix(a.Key, "/manifest"), strings.HasSuffix(b.Key, "/manifest")
	switch {
	case x && !y:
		return 1
	case y && !x:
		return -1
	}
	return strings.Compare(a.Key, b.Key)
}
