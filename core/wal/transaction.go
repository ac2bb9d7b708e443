package wal

import (
	"time"

	"velvetrewind/core/pg"
)

// Records of the transaction manager (access/xact.h): the low four bits of Info are flags.
const (
	xactOpMask         = 0x70
	xactCommit         = 0x00
	xactPrepare        = 0x10
	xactAbort          = 0x20
	xactCommitPrepared = 0x30
	xactAbortPrepared  = 0x40
	xactAssignment     = 0x50
	xactInvalidation   = 0x60

	xactHasInfo = 0x80

	xinfoDatabase     = 1 << 0
	xinfoSubxacts     = 1 << 1
	xinfoRelations    = 1 << 2
	xinfoInvalidation = 1 << 3
	xinfoTwoPhase     = 1 << 4
	xinfoOrigin       = 1 << 5
	xinfoGID          = 1 << 7
	xinfoDroppedStats = 1 << 8
)

// RelationRef names a relation's files (RelFileLocator).
type RelationRef struct{ Space, Database, Filenode uint32 }

// End is a record by which a transaction commits or aborts.
type End struct {
	XID       pg.XID // of the transaction that ends; for two-phase not the record's own
	Committed bool
	Time      time.Time // UTC, to the microsecond
	TwoPhase  bool      // it had been prepared
	Database  uint32    // 0 where the record does not say
	Subxacts  []pg.XID
	Dropped   []RelationRef // files that go with this end
	GID       string        // of a two-phase transaction, where the record carries it
	// Invalidated are the relations of which other sessions must forget what they know: what is said of them in the
	// catalogs has changed.
	Invalidated []RelationOID
	// Objects are other objects of which it is the same.
	Objects []ObjectOID
}

// RelationOID names a relation in the catalogs of a database; a shared one has Database 0.
type RelationOID struct{ Database, OID uint32 }

// ObjectOID names an object by its row in one of a database's catalogs, by oids.
type ObjectOID struct{ Catalog, Database, OID uint32 }

// Oids of catalogs (catalog/pg_….h). Of an index and a sequence, OID is that of the relation; of a rule that of its view.
const (
	CatalogFunctions = 1255
	CatalogSequences = 2224
	CatalogIndexes   = 2610
	CatalogSchemas   = 2615
	CatalogRules     = 2618
)

// Prepare is the first phase of a two-phase commit (xl_xact_prepare).
type Prepare struct {
	XID      pg.XID
	Database uint32
	Time     time.Time
	Subxacts []pg.XID
	GID      string
}

// Assignment tells to which transaction sub-transactions belong (xl_xact_assignment).
type Assignment struct {
	Top      pg.XID
	Subxacts []pg.XID
}

// Invalidations are cache invalidations within a transaction (xl_xact_invals).
type Invalidations struct{ Messages int }

func (End) body()           {}
func (Prepare) body()       {}
func (Assignment) body()    {}
func (Invalidations) body() {}

// invalidationSize is the size of a SharedInvalidationMessage (storage/sinval.h); in one of the relation cache the
// database and the relation follow the kind, each at a multiple of four.
const (
	invalidationSize          = 16
	invalidationRelationCache = -2
)

// invalidated reads the messages of a commit. Those of a cache of a catalog, whose kind is its number, hold after the
// database a hash of what a row is found by.
func (e *End) invalidated(f *fields, v *pg.Version) {
	for range f.count(invalidationSize) {
		kind := int8(f.u8())
		f.skip(3)
		database, what := f.u32(), f.u32()
		f.skip(4)
		switch {
		case f.short:
		case kind == invalidationRelationCache && what != 0:
			e.Invalidated = append(e.Invalidated, RelationOID{database, what})
		case kind > 0:
			if o, is := cached(uint8(kind), what, v); is {
				o.Database = database
				e.Objects = append(e.Objects, o)
			}
		}
	}
}

// viewRule is the part of the hash that comes from the name of the rule that makes a view, _RETURN.
const viewRule = 0x228cde44

// cached tells of which object a message of a catalog's cache is, by a hash that can be undone.
func cached(cache uint8, hash uint32, v *pg.Version) (ObjectOID, bool) {
	switch cache {
	case v.Caches.Function:
		return ObjectOID{Catalog: CatalogFunctions, OID: unhashed(hash)}, true
	case v.Caches.Schema:
		return ObjectOID{Catalog: CatalogSchemas, OID: unhashed(hash)}, true
	case v.Caches.Index:
		return ObjectOID{Catalog: CatalogIndexes, OID: unhashed(hash)}, true
	case v.Caches.Sequence:
		return ObjectOID{Catalog: CatalogSequences, OID: unhashed(hash)}, true
	case v.Caches.Rule:
		return ObjectOID{Catalog: CatalogRules, OID: unhashed(hash ^ viewRule)}, true
	}
	return ObjectOID{}, false
}

// unhashed undoes murmurhash32 (common/hashfn.h), by which the server hashes oids.
func unhashed(h uint32) uint32 {
	h ^= h >> 16
	h *= 0x7ed1b41d
	h ^= h>>13 ^ h>>26
	h *= 0xa5cb9243
	return h ^ h>>16
}

// decodeTransaction decodes what is no end of a transaction.
func decodeTransaction(r *Record, f *fields, v *pg.Version) Body {
	switch r.Info & xactOpMask {
	case xactPrepare:
		return decodePrepare(f, v)
	case xactAssignment:
		return Assignment{Top: f.xid(), Subxacts: f.xids(int(f.u32()))}
	case xactInvalidation:
		return Invalidations{Messages: f.count(invalidationSize)}
	}
	return nil
}

// decodePrepare reads the header and the name after it.
func decodePrepare(f *fields, v *pg.Version) Body {
	f.skip(8) // magic and length
	p := Prepare{XID: f.xid(), Database: f.u32(), Time: pg.Timestamp(int64(f.u64()))}
	f.skip(4) // owner
	subxacts := int(f.u32())
	f.skip(8) // relations dropped at commit and at abort
	if v.DroppedStats > 0 {
		f.skip(8) // how many statistics are dropped at commit and at abort
	}
	f.skip(6) // invalidations, whether they concern the relation cache's file, padding
	name := int(f.u16())
	f.skip(16) // place and time at an origin
	rest := *f
	p.GID = rest.text()
	f.skip(align(name))
	f.short = f.short || rest.short
	p.Subxacts = f.xids(subxacts)
	return p
}

// EndOf decodes a commit or abort record; ok is false for every other record.
// Source: ParseCommitRecord and ParseAbortRecord in xactdesc.c.
func EndOf(r *Record, v *pg.Version) (end End, ok bool, err error) {
	if r.Manager != ManagerTransaction {
		return End{}, false, nil
	}
	op := r.Info & xactOpMask
	switch op {
	case xactCommit, xactCommitPrepared:
		end.Committed = true
	case xactAbort, xactAbortPrepared:
	default:
		return End{}, false, nil
	}
	end.XID = r.XID
	end.TwoPhase = op == xactCommitPrepared || op == xactAbortPrepared
	f := fields{b: r.Main}
	end.Time = pg.Timestamp(int64(f.u64()))
	var info uint32
	if r.Info&xactHasInfo != 0 {
		info = f.u32()
	}
	if info&xinfoDatabase != 0 {
		end.Database = f.u32()
		f.skip(4)
	}
	if info&xinfoSubxacts != 0 {
		end.Subxacts = f.xids(int(f.u32()))
	}
	if info&xinfoRelations != 0 {
		for range f.count(12) {
			end.Dropped = append(end.Dropped, f.relation())
		}
	}
	if info&xinfoDroppedStats != 0 && v.DroppedStats > 0 {
		f.skip(f.count(v.DroppedStats) * v.DroppedStats)
	}
	if end.Committed && info&xinfoInvalidation != 0 {
		end.invalidated(&f, v)
	}
	if info&xinfoTwoPhase != 0 {
		end.XID = pg.XID(f.u32())
		if info&xinfoGID != 0 {
			end.GID = f.text()
		}
	}
	if f.short && (!r.Cut || end.TwoPhase) { // of the longest, the invalidations at the end were not kept
		return End{}, false, damaged(r.Start, "a commit or abort record of %d bytes ends within its fields", r.Length)
	}
	return end, true, nil
}
