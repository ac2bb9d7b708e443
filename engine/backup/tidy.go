package backup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/figures"
	"velvetrewind/core/layout"
	"velvetrewind/core/task"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/notice"
	"velvetrewind/engine/store/vault"
)

// tidier removes the packs that no backup needs and condenses those of which little is
// needed. It runs while no backup of the cluster is being taken. If any manifest cannot
// be read, nothing is removed: what it needs is not known.
type tidier struct {
	vault   *vault.Vault
	catalog *catalog.Catalog
	cluster string
	report  task.Report
	held    func(context.Context) bool // the right to do so is still ours
	notices *notice.Board
	undone  string // backup that was given up

	going   []string // backups that are to be dropped: that one cannot be read is no matter
	backups []string
	packs   map[string]*packState
	used    map[string]bool // packs that any manifest names

	leftovers []string  // dropped backups whose manifests are there
	next      time.Time // when more will have waited long enough; zero if nothing waits
}

// packState is a pack that is there, and what of it is needed.
type packState struct {
	generations []uint32
	size        int64 // of the newest generation
	used        int64 // bytes that the backup needs which needs most of it
	users       []string
	waiting     bool // a dropped backup needs it that can still be taken back
}

// least is the share of a pack that must be needed for it to stay as it is, as one in least.
const least = 2

// smallest is the size below which a pack is not worth condensing.
const smallest = 1 << 20

// atOnce is how many packs are condensed after one look through the maps.
const atOnce = 64

func (t *tidier) run(ctx context.Context) error {
	if err := t.look(ctx); err != nil {
		return err
	}
	if !t.held(ctx) {
		return errors.New("the right to tidy was lost meanwhile; nothing was removed")
	}
	if err := t.vault.MayDelete(ctx); err != nil {
		return err
	}
	due, err := t.dropDue(ctx) // first, as in every drop
	if err != nil {
		return err
	}
	removed, bytes := 0, int64(0)
	for _, id := range t.order() {
		p := t.packs[id]
		newest := slices.Max(p.generations)
		for _, g := range p.generations {
			if g == newest && (len(p.users) > 0 || p.waiting || !due["pack "+id]) {
				continue
			}
			if err := t.vault.Delete(ctx, store.PackKey(t.cluster, id, g)); err != nil {
				return err
			}
		}
		if len(p.users) == 0 && !p.waiting && due["pack "+id] {
			removed++
			bytes += p.size
		}
	}
	for _, prefix := range []string{store.PackPrefix(t.cluster), "clusters/" + t.cluster + "/bases/"} {
		if err := t.vault.Sweep(ctx, prefix); err != nil {
			return err
		}
	}
	if err := t.tidySecond(ctx); err != nil {
		return err
	}
	if removed > 0 {
		t.report.Log("removed %s that no backup needs, %s", figures.Of(removed, "pack"), figures.Size(bytes))
	}
	return t.condense(ctx)
}

// dropDue deletes the manifests of dropped backups that have waited long enough, and tells which packs
// have. What the others need stays.
func (t *tidier) dropDue(ctx context.Context) (map[string]bool, error) {
	var names []string
	for _, id := range t.leftovers {
		names = append(names, "base "+id)
	}
	for _, id := range t.order() {
		if len(t.packs[id].users) == 0 && !t.given(id) {
			names = append(names, "pack "+id)
		}
	}
	list, next, err := t.notices.Due(ctx, t.cluster, "packs", names)
	if err != nil {
		return nil, err
	}
	t.next = next
	due := make(map[string]bool, len(list))
	for _, name := range list {
		due[name] = true
	}
	for id := range t.packs {
		if t.given(id) {
			due["pack "+id] = true
		}
	}
	for _, id := range t.leftovers {
		going := due["base "+id]
		if going {
			if going, err = t.catalog.MarkGone(ctx, id); err != nil {
				return nil, err
			}
		}
		if going {
			if err := t.vault.DeleteAll(ctx, store.ReportPrefix(t.cluster, id)); err != nil {
				return nil, err
			}
			if err := t.vault.Delete(ctx, store.ManifestKey(t.cluster, id)); err != nil { // the last that names it
				return nil, err
			}
			continue
		}
		t.backups = append(t.backups, id) // its packs are not condensed either
		_, err := ReadManifest(ctx, t.vault, t.cluster, id, layout.Visit{Pack: func(u layout.Use) error {
			t.used[u.Pack] = true
			if p := t.packs[u.Pack]; p != nil {
				p.waiting, p.used = true, max(p.used, u.Bytes)
				if len(p.users) > 0 {
					p.users = append(p.users, id)
				}
			}
			return nil
		}})
		if err != nil && !Unreadable(err) {
			return nil, fmt.Errorf("nothing was removed, because it is not known what base %s needs: %w", id, err)
		}
	}
	return due, nil
}

// given tells whether a pack was written for the backup that was given up.
func (t *tidier) given(pack string) bool { return t.undone != "" && store.PackOf(pack, t.undone) }

// look lists the packs first and then reads what the manifests need: a pack that is
// listed was written before any manifest was read.
func (t *tidier) look(ctx context.Context) error {
	t.packs, t.used = make(map[string]*packState), make(map[string]bool)
	err := t.vault.List(ctx, store.PackPrefix(t.cluster), func(i store.Info) error {
		id, g, ok := store.ParsePackKey(t.cluster, i.Key)
		if !ok {
			return nil
		}
		p := t.packs[id]
		if p == nil {
			p = &packState{}
			t.packs[id] = p
		}
		if len(p.generations) == 0 || g > slices.Max(p.generations) {
			p.size = i.Size
		}
		p.generations = append(p.generations, g)
		return ctx.Err()
	})
	if err != nil {
		return err
	}
	if t.backups, err = t.standing(ctx); err != nil {
		return err
	}
	for _, id := range t.backups {
		_, err := ReadManifest(ctx, t.vault, t.cluster, id, layout.Visit{Pack: func(u layout.Use) error {
			t.used[u.Pack] = true
			if p := t.packs[u.Pack]; p != nil {
				p.used = max(p.used, u.Bytes)
				p.users = append(p.users, id)
			}
			return nil
		}})
		if err != nil && !(slices.Contains(t.going, id) && Unreadable(err)) {
			return fmt.Errorf("nothing was removed, because it is not known what base %s needs: %w", id, err)
		}
	}
	return nil
}

// tidySecond removes from the second store what nothing needs and the first does not
// have: a copy that was under way when it was removed from both.
func (t *tidier) tidySecond(ctx context.Context) error {
	second := t.vault.Second()
	if second == nil {
		return nil
	}
	var left []string
	err := second.List(ctx, store.PackPrefix(t.cluster), func(i store.Info) error {
		if id, _, ok := store.ParsePackKey(t.cluster, i.Key); ok && !t.used[id] && t.packs[id] == nil {
			left = append(left, i.Key)
		}
		return ctx.Err()
	})
	for _, key := range left {
		err = errors.Join(err, second.Delete(ctx, key))
	}
	return err
}

// standing names every backup that the catalogue or the store knows and that was not
// dropped. A manifest whose drop was cut short before anything was removed is no need.
func (t *tidier) standing(ctx context.Context) ([]string, error) {
	dropped, err := t.catalog.Dropped(ctx, t.cluster)
	if err != nil {
		return nil, err
	}
	recorded, err := t.catalog.Backups(ctx, t.cluster)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, b := range recorded {
		ids = append(ids, b.ID)
	}
	prefix := "clusters/" + t.cluster + "/bases/"
	err = t.vault.List(ctx, prefix, func(i store.Info) error {
		id, name, _ := strings.Cut(strings.TrimPrefix(i.Key, prefix), "/")
		switch {
		case name != "manifest" || slices.Contains(ids, id):
		case slices.Contains(dropped, id):
			t.leftovers = append(t.leftovers, id)
		default:
			ids = append(ids, id)
		}
		return ctx.Err()
	})
	slices.Sort(ids)
	return ids, err
}

func (t *tidier) order() []string {
	ids := make([]string, 0, len(t.packs))
	for id := range t.packs {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// condense writes those packs anew of which little is needed, the most wasteful first.
func (t *tidier) condense(ctx context.Context) error {
	var list []string
	for _, id := range t.order() {
		if p := t.packs[id]; len(p.users) > 0 && p.size >= smallest && p.used < p.size/least {
			list = append(list, id)
		}
	}
	slices.SortStableFunc(list, func(a, b string) int {
		return cmp.Compare(t.packs[b].size-t.packs[b].used, t.packs[a].size-t.packs[a].used)
	})
	packs, freed := 0, int64(0)
	for part := range slices.Chunk(list, atOnce) {
		needed, err := t.needed(ctx, part)
		if err != nil {
			return err
		}
		for _, id := range part {
			frames, bytes := needed.of(id)
			if bytes >= t.packs[id].size/least {
				continue // several backups need different parts of it
			}
			n, err := t.vault.Packs(t.cluster).Condense(ctx, id, frames)
			if err != nil {
				return err
			}
			packs, freed = packs+1, freed+n
		}
	}
	if packs > 0 {
		t.report.Log("condensed %s of which little was needed, %s", figures.Of(packs, "pack"), figures.Size(freed))
	}
	return nil
}

// frames are parts of packs: by pack and offset, how long each is.
type frames map[string]map[int64]int

func (f frames) add(pack string, at int64, length int) {
	if of := f[pack]; of != nil {
		of[at] = length
	}
}

// of lists the frames of a pack by rising offset, and how long they are together.
func (f frames) of(pack string) (list []vault.Frame, bytes int64) {
	for at, n := range f[pack] {
		list = append(list, vault.Frame{Offset: at, Length: n})
		bytes += int64(n)
	}
	slices.SortFunc(list, func(a, b vault.Frame) int { return cmp.Compare(a.Offset, b.Offset) })
	return list, bytes
}

// needed looks through the maps of every backup for what it needs of some packs.
func (t *tidier) needed(ctx context.Context, packs []string) (frames, error) {
	found := make(frames)
	users := make(map[string]bool)
	for _, id := range packs {
		found[id] = make(map[int64]int)
		for _, b := range t.packs[id].users {
			users[b] = true
		}
	}
	for _, b := range t.backups {
		if !users[b] {
			continue
		}
		t.report.Progress(0, 0, task.None, "looking through the maps of base "+b)
		reader := t.vault.Packs(t.cluster)
		_, err := ReadManifest(ctx, t.vault, t.cluster, b, layout.Visit{File: func(f *layout.File) error {
			for _, ref := range f.Sheets {
				found.add(ref.Pack, ref.Offset, ref.Length)
			}
			return vault.EachSheet(ctx, reader, f, func(_ int, extents []layout.Extent) error {
				for _, e := range extents {
					found.add(e.Pack, e.Offset, e.Length)
				}
				return nil
			})
		}})
		if err != nil {
			return nil, fmt.Errorf("what base %s needs: %w", b, err)
		}
	}
	return found, nil
}
