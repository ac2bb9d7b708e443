package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"

	"velvetrewind/core/pg"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/wire"
	"velvetrewind/engine/restore/repair"
)

// repair repairs a cluster of this host from the store.
func (s *session) repair(ctx context.Context, in wire.RepairOrder, send func(wire.Laying) error) error {
	var o repair.Order
	if err := json.Unmarshal(in.Order, &o); err != nil {
		return err
	}
	if err := s.original(o.Original); err != nil {
		return err
	}
	for _, at := range o.Original.Tablespaces {
		if err := s.ofDatabases(at); err != nil {
			return err
		}
	}
	if !host.IsAsideName(o.Aside) || filepath.Base(o.Directory) != o.Directory {
		return refused("%q and %q are no names of what is set aside, and of a version's directory", o.Aside, o.Directory)
	}
	v, err := s.reads(ctx, wire.LayOrder{Store: in.Store, Cluster: o.Cluster, Backup: o.Base})
	if err != nil {
		return fmt.Errorf("%w: %w", err, wire.ErrLacks)
	}
	report := &sender{send: send}
	done, err := repair.Run(ctx, s.host, repair.Source{Vault: v, Allowed: s.ofDatabases,
		Segment: func(ctx context.Context, seg pg.Segment) (io.ReadCloser, error) {
			if content, is := in.Tails[seg.Name(o.SegmentSize)]; is {
				return io.NopCloser(bytes.NewReader(content)), nil
			}
			return v.Segment(ctx, o.Cluster, seg, o.SegmentSize)
		}}, o, report)
	if err != nil {
		return err
	}
	outcome, err := json.Marshal(done)
	if err != nil {
		return err
	}
	return report.pass(wire.Laying{Head: outcome})
}
