package wal

import "velvetrewind/core/pg"

// Body is what a record says beyond its block references, in the typed form that
// its resource manager's file declares. Records whose manager only refers to pages
// (the indexes, sequences) and kinds that are not known have none.
type Body interface{ body() }

// Decode takes a record's own data apart. It returns nil, without an error, for a
// record that carries nothing typed or is not known; a record that is too short for
// what it says is a *Damage.
func Decode(r *Record, v *pg.Version) (Body, error) {
	f := fields{b: r.Main}
	var b Body
	switch r.Manager {
	case ManagerXLOG:
		b = decodeXLOG(r, &f)
	case ManagerTransaction:
		if end, ok, err := EndOf(r, v); ok || err != nil {
			return end, err
		}
		b = decodeTransaction(r, &f, v)
	case ManagerStorage:
		b = decodeStorage(r, &f)
	case ManagerDatabase:
		b = decodeDatabase(r, &f, v)
	case ManagerTablespace:
		b = decodeTablespace(r, &f)
	case ManagerRelationMap:
		b = decodeRelationMap(r, &f)
	case ManagerStandby:
		b = decodeStandby(r, &f)
	case ManagerHeap2:
		b = decodeHeap2(r, &f, v)
	case ManagerHeap:
		b = decodeHeap(r, &f)
	}
	if f.short && !r.Cut {
		return nil, damaged(r.Start, "a record of %s %s ends within its fields", r.Manager, r.Kind(v))
	}
	return b, nil
}

// op is the kind of a record within its manager: the upper half of Info.
func (r *Record) op() uint8 { return r.Info & 0xf0 }
