// Package mirror copies what a store holds of a cluster to the second store.
//
// Invariant: a manifest is copied after everything that it names, so that what the
// second store lists as a backup can be restored from there alone. A damaged object is
// not copied, and nothing is deleted but what was let go of while it was copied.
package mirror

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/engine/store"
	"velvetrewind/engine/task"
	"velvetrewind/engine/vault"
)

// Result is what was copied.
type Result struct {
	Objects int64 `json:"objects"`
	Bytes   int64 `json:"bytes"`
	Damaged int64 `json:"damaged" doc:"objects that were not copied because they are damaged"`
}

// Run copies every object of a cluster that the second store lacks. stands tells whether
// a backup has not been dropped meanwhile.
func Run(ctx context.Context, v *vault.Vault, cluster string, stands func(backup string) (bool, error), report task.Report) (r Result, err error) {
	second := v.Second()
	if second == nil {
		return r, errors.New("there is no second store; name one when the service starts: --second-store")
	}
	prefix := "clusters/" + cluster + "/"
	there := make(map[string]int64)
	if err := second.List(ctx, prefix, func(i store.Info) error { there[i.Key] = i.Size; return ctx.Err() }); err != nil {
		return r, fmt.Errorf("the second store: %w", err)
	}
	var lacking []store.Info
	var total int64
	err = v.List(ctx, prefix, func(i store.Info) error {
		if size, ok := there[i.Key]; !ok || size != i.Size {
			lacking = append(lacking, i)
			total += i.Size
		}
		return ctx.Err()
	})
	if err != nil {
		return r, err
	}
	slices.SortFunc(lacking, inOrder)
	for _, i := range lacking {
		report.Progress(r.Bytes, total, task.Bytes, "copying "+i.Key)
		err := v.Copy(ctx, i.Key, v.First(), second)
		if id, ok := backupOf(i.Key, prefix); ok && err == nil {
			err = keepIfStands(ctx, second, i.Key, id, stands)
		} else if err == nil {
			err = keepIfThere(ctx, v, second, i.Key)
		}
		switch {
		case err == nil:
			r.Objects++
			r.Bytes += i.Size
		case errors.Is(err, store.ErrNotFound): // dropped meanwhile
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

// keepIfThere takes back what was let go of while it was copied.
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
