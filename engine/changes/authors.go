package changes

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"velvetrewind/core/journal"
	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/store"
)

// Authors finds who was seen with the ids of transactions. Whoever was not seen, or what cannot be read, is not among them.
func (j *Journal) Authors(ctx context.Context, list []Entry) (map[pg.FullXID]journal.Author, error) {
	found, days, read := make(map[pg.FullXID]journal.Author), make(map[string][]string), make(map[string][]journal.Author)
	for i := range list {
		e := &list[i]
		keys, err := j.authorKeys(ctx, e.Time, days)
		if err != nil {
			return nil, err
		}
		for _, key := range keys {
			if _, is := read[key]; !is {
				if read[key], err = j.readAuthors(ctx, key); err != nil {
					return nil, err
				}
			}
			for _, who := range read[key] {
				if who.XID == e.XID && !who.First.After(e.Time) {
					found[e.XID] = who
				}
			}
		}
	}
	return found, nil
}

// authorKeys are the objects in which it can be who held the id of a transaction that ended at a time: the one that was
// written then, and the one before it. days keeps what was listed.
func (j *Journal) authorKeys(ctx context.Context, at time.Time, days map[string][]string) ([]string, error) {
	cluster := j.archive.Cluster.ID
	var keys []string
	for _, day := range []time.Time{at.AddDate(0, 0, -1), at} {
		prefix := store.AuthorsDay(cluster, day)
		if _, is := days[prefix]; !is {
			listed := []string{}
			see := func(i store.Info) error { listed = append(listed, i.Key); return nil }
			if err := j.archive.Store.List(ctx, prefix, see); err != nil {
				return nil, err
			}
			slices.Sort(listed)
			days[prefix] = listed
		}
		keys = append(keys, days[prefix]...)
	}
	n, _ := slices.BinarySearch(keys, store.AuthorsKey(cluster, at.Add(time.Microsecond)))
	return keys[max(0, n-2):n], nil
}

func (j *Journal) readAuthors(ctx context.Context, key string) ([]journal.Author, error) {
	content, err := j.archive.Store.Get(ctx, key)
	var list []journal.Author
	if err == nil {
		list, err = journal.DecodeAuthors(content)
	}
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, layout.ErrCorrupt) || errors.Is(err, journal.ErrFormat) {
		return nil, nil
	}
	return list, err
}

// By gives the ids, in their order, that were seen with an author whose role, application or address holds a word, between two
// times; zero ones are the ends of what is kept.
func (j *Journal) By(ctx context.Context, word string, from, to time.Time) ([]pg.FullXID, error) {
	cluster := j.archive.Cluster.ID
	var keys []string
	see := func(i store.Info) error { keys = append(keys, i.Key); return nil }
	if err := j.archive.Store.List(ctx, store.AuthorsPrefix(cluster), see); err != nil {
		return nil, err
	}
	slices.Sort(keys)
	if !to.IsZero() {
		n, _ := slices.BinarySearch(keys, store.AuthorsKey(cluster, to.Add(time.Microsecond)))
		keys = keys[:n]
	}
	if n, _ := slices.BinarySearch(keys, store.AuthorsKey(cluster, from)); !from.IsZero() {
		keys = keys[max(0, n-1):] // the one before goes on until then
	}
	var list []pg.FullXID
	word = strings.ToLower(word)
	for _, key := range keys {
		authors, err := j.readAuthors(ctx, key)
		if err != nil {
			return nil, err
		}
		for _, who := range authors {
			if strings.Contains(strings.ToLower(who.String()), word) {
				list = append(list, who.XID)
			}
		}
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}
