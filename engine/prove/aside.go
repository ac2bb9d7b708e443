package prove

import (
	"context"
	"fmt"

	"velvetrewind/core/proof"
)

// aside reads, on a second copy that is opened for that, what transactions that were open at the moment hold in this one:
// opening ends them. held are the tables by database. Without a second copy they are left out, and said to be.
func (r *run) aside(ctx context.Context, held map[string]map[uint32]bool, s *seen) {
	if len(held) == 0 {
		return
	}
	err := r.readAside(ctx, held, s)
	if err == nil || ctx.Err() != nil {
		return
	}
	r.report.Warn("what is locked in the copy could not be read on a second one: %v", err)
	read := make(map[string]bool)
	for _, row := range s.tables {
		read[fmt.Sprint(row.Database, row.OID)] = true
	}
	for i := range r.databases {
		db := &r.databases[i]
		for k := range db.tables {
			t := &db.tables[k]
			if held[db.Name][t.OID] && !read[fmt.Sprint(db.Name, t.OID)] {
				s.tables = append(s.tables,
					proof.Table{Database: db.Name, OID: t.OID, Name: t.String(), Locked: true, Problem: err.Error()})
				s.foreign.LeftOut.Add(db.Name+"."+t.String(), "its keys: a transaction that was open at the moment holds it")
			}
		}
	}
}

func (r *run) readAside(ctx context.Context, held map[string]map[uint32]bool, s *seen) error {
	if r.Aside == nil {
		return fmt.Errorf("there is no place for a second copy")
	}
	r.report.Log("making a second copy at the same place, to read there what is locked in this one")
	k, remove, err := r.Aside(ctx, r.copy, r.report)
	if err != nil {
		return err
	}
	defer remove()
	for i := range r.databases {
		db := &r.databases[i]
		if len(held[db.Name]) == 0 {
			continue
		}
		rd, err := r.reader(ctx, k, db, s)
		if err != nil {
			return err
		}
		err = rd.read(ctx, func(oid uint32) bool { return held[db.Name][oid] })
		rd.close(ctx)
		if err != nil {
			return err
		}
	}
	return nil
}
