// Package deposit keeps in the store what only the catalogue knows: policies, calendar, pins,
// settled incidents, proofs, the history of tasks. What is deposited of a cluster lies with the
// cluster's other objects; what is of none lies apart, under the installation's id.
//
// Invariant: a deposit is whole or absent, and an installation replaces only its own. Bringing
// one back changes nothing that the catalogue holds. Clusters themselves, their backups and WAL
// are the business of package rebuild.
package deposit

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"velvetrewind/core/layout"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/vault"
)

// Depositor makes deposits and brings them back.
type Depositor struct {
	Catalog *catalog.Catalog
	Store   *vault.Vault
}

// Put deposits what is of no cluster and what is of each, and says of how many clusters. One
// whose deposit fails is no matter of the others.
func (k *Depositor) Put(ctx context.Context) (clusters int, err error) {
	installation, err := k.Catalog.Installation(ctx)
	if err != nil {
		return 0, err
	}
	shared := store.SharedDepositKey(installation)
	if err := k.put(ctx, shared, ""); err != nil {
		return 0, err
	}
	if second := k.Store.Second(); second != nil {
		if err := k.Store.Copy(ctx, shared, k.Store.First(), second); err != nil {
			return 0, fmt.Errorf("the second store: %w", err)
		}
	}
	list, err := k.Catalog.Clusters(ctx)
	if err != nil {
		return 0, err
	}
	for _, c := range list {
		if e := k.put(ctx, store.DepositKey(c.ID), c.ID); e != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", c.Name, e))
			continue
		}
		clusters++
	}
	return clusters, err
}

// put writes one deposit: a line of JSON for each row.
func (k *Depositor) put(ctx context.Context, key, cluster string) error {
	if err := k.Store.MayDelete(ctx); err != nil { // it replaces the one before
		return err
	}
	w, err := k.Store.Create(ctx, key, layout.Zstd)
	if err != nil {
		return err
	}
	defer w.Abort()
	lines := json.NewEncoder(w)
	if err := k.Catalog.EachOwnRow(ctx, cluster, func(r catalog.Row) error { return lines.Encode(r) }); err != nil {
		return err
	}
	return w.Commit()
}

// BringBackCluster brings back what was deposited of a cluster that the catalogue knows again;
// nothing if nothing was.
func (k *Depositor) BringBackCluster(ctx context.Context, cluster string) (map[string]int, error) {
	return k.bringBack(ctx, store.DepositKey(cluster))
}

// BringBackShared brings back what other installations deposited that is of no cluster, once of
// each.
func (k *Depositor) BringBackShared(ctx context.Context) (map[string]int, error) {
	own, err := k.Catalog.Installation(ctx)
	if err != nil {
		return nil, err
	}
	var others []string
	err = k.Store.List(ctx, store.SharedDepositKey(""), func(i store.Info) error {
		if id := strings.TrimPrefix(i.Key, store.SharedDepositKey("")); id != own {
			others = append(others, id)
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	all := make(map[string]int)
	for _, id := range others {
		fresh, err := k.Catalog.NewDeposit(ctx, id)
		if err != nil {
			return nil, err
		}
		if !fresh {
			continue
		}
		brought, err := k.bringBack(ctx, store.SharedDepositKey(id))
		if err != nil {
			return nil, err
		}
		for table, n := range brought {
			all[table] += n
		}
	}
	return all, nil
}

func (k *Depositor) bringBack(ctx context.Context, key string) (map[string]int, error) {
	r, err := k.Store.Open(ctx, key)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = r.Close() }()
	lines := json.NewDecoder(bufio.NewReaderSize(r, 1<<16))
	brought, err := k.Catalog.BringBack(ctx, func() (row catalog.Row, ok bool, err error) {
		err = lines.Decode(&row)
		if errors.Is(err, io.EOF) {
			return row, false, nil
		}
		return row, err == nil, err
	})
	if err != nil {
		return nil, fmt.Errorf("what the catalogue had deposited in %s: %w", key, err)
	}
	return brought, nil
}
