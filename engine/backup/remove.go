package backup

import (
	"context"
	"errors"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/vault"
)

// Undo removes what an interrupted backup left, or records it if its manifest is
// in the store already. It is called when no process works on the backup any more.
func Undo(ctx context.Context, n *notice.Board, c *catalog.Catalog, cluster, id, taskID string) (whole bool, err error) {
	v := n.Store
	whole, err = recordFrom(ctx, v, c, cluster, id, taskID)
	if err != nil || whole {
		return whole, err
	}
	if err := v.Sweep(ctx, store.BackupPrefix(cluster, id)); err != nil {
		return false, err
	}
	if err := c.SetTidyDue(ctx, cluster, true, time.Time{}); err != nil {
		return false, err
	}
	_, err = tidyIfFree(ctx, n, c, cluster, id, task.Silent)
	return false, err
}

// Remove deletes a dropped backup from the store, once it has waited long enough: its manifest first,
// so that what is cut short is no backup, and then what no other backup needs. Again is no error.
// While another backup is being taken the space is not freed: that is done when it has ended.
func Remove(ctx context.Context, n *notice.Board, c *catalog.Catalog, cluster, id string, report task.Report) error {
	if n.Delay > 0 {
		name := cluster // the id will do, too
		if k, err := c.Cluster(ctx, cluster); err == nil {
			name = k.Name
		}
		report.Log("base %s is deleted; it can be taken back for %s: velvet keep undo %s", id, figures.Span(n.Delay), name)
	} else {
		report.Log("base %s is gone; WAL and other base backups are untouched", id)
	}
	done, err := TidyIfFree(ctx, n, c, cluster, report)
	switch {
	case Unreadable(err):
		report.Warn("the space is not freed yet: %v. Drop that base too, or fix the store", err)
	case err == nil && !done:
		report.Log("a base backup is being taken: what only base %s needed is removed when that has ended", id)
	default:
		return err
	}
	return nil
}

// Unreadable tells whether an error is that a manifest is missing or damaged.
func Unreadable(err error) bool {
	return errors.Is(err, layout.ErrCorrupt) || errors.Is(err, store.ErrNotFound)
}

// TidyIfFree tidies a cluster's part of the store unless a backup is being taken there.
func TidyIfFree(ctx context.Context, n *notice.Board, c *catalog.Catalog, cluster string, report task.Report) (done bool, err error) {
	return tidyIfFree(ctx, n, c, cluster, "", report)
}

// tidyIfFree does so; packs of the backup undone, which never was one, do not wait.
func tidyIfFree(ctx context.Context, n *notice.Board, c *catalog.Catalog, cluster, undone string,
	report task.Report) (done bool, err error) {
	lease, ok, err := c.OwnContent(ctx, cluster)
	if err != nil || !ok {
		return false, err
	}
	defer lease.Release()
	t := &tidier{vault: n.Store, notices: n, catalog: c, cluster: cluster, undone: undone, report: report, held: lease.Held}
	if err := t.run(ctx); err != nil {
		return false, err
	}
	return true, c.SetTidyDue(ctx, cluster, !t.next.IsZero(), t.next)
}

// Recover records a backup by its manifest, for a catalogue that is made anew. whole is
// false if there is no manifest.
func Recover(ctx context.Context, v *vault.Vault, c *catalog.Catalog, cluster, id string) (whole bool, err error) {
	return recordFrom(ctx, v, c, cluster, id, "")
}

func recordFrom(ctx context.Context, v *vault.Vault, c *catalog.Catalog, cluster, id, taskID string) (whole bool, err error) {
	var head layout.Head
	tail, err := ReadManifest(ctx, v, cluster, id, layout.Visit{Head: func(h layout.Head) error { head = h; return nil }})
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	b, err := Record(head, tail, taskID)
	if err != nil {
		return false, err
	}
	return true, c.AddBackup(ctx, b)
}

// ReadManifest streams the manifest of a backup.
func ReadManifest(ctx context.Context, v *vault.Vault, cluster, id string, visit layout.Visit) (layout.Tail, error) {
	r, err := v.Open(ctx, store.ManifestKey(cluster, id))
	if err != nil {
		return layout.Tail{}, err
	}
	defer func() { _ = r.Close() }()
	return layout.ReadManifest(r, visit)
}
