package copies

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"

	"velvetrewind/engine/catalog"
	"velvetrewind/engine/host"
)

// Drop ends a copy's server at once, and leaves what there is of its files, of which the record then says that it is down.
func (c *Maker) Drop(ctx context.Context, cluster catalog.Cluster, k catalog.Copy) error {
	k.State = catalog.CopyDown
	own, err := c.of(k)
	if err == nil {
		err = own.Host.Stop(ctx, Server(k, cluster.Major()), host.Immediate)
	}
	return errors.Join(err, c.save(ctx, k))
}

// MakeRoom makes the directory of a copy into which the directories of the original will be moved: of tablespaces, by their OIDs,
// and the data directory. It keeps there what the original is configured with today.
func (c *Maker) MakeRoom(k catalog.Copy, tablespaceOIDs []uint32, today map[string][]byte) error {
	own, err := c.of(k)
	if err != nil {
		return err
	}
	if err := own.Host.MakeClosedDir(k.Directory); err != nil {
		return err
	}
	t, err := own.Host.Files(k.Directory)
	if err != nil {
		return err
	}
	defer func() { _ = t.Close() }()
	err = errors.Join(t.MakeDir(tablespaces, 0o700), t.MakeDir(ConfigurationOfToday, 0o700))
	for _, oid := range tablespaceOIDs {
		err = errors.Join(err, t.MakeDir(filepath.Join(tablespaces, fmt.Sprint(oid)), 0o700))
	}
	for name, content := range today {
		err = errors.Join(err, t.WriteFile(filepath.Join(ConfigurationOfToday, name), content, 0o600))
	}
	return errors.Join(err, t.Sync())
}
