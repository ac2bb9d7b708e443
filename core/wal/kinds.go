package wal

import (
	"fmt"

	"velvetrewind/core/pg"
)

// kinds names the records of each manager by the upper half of Info, as the server
// does (rm_identify in each manager's …desc.c). Managers whose highest bit is a flag
// of its own are marked; PostgreSQL 15 is the reference, what differs
// stands in the table of versions.
var kinds = map[Manager]map[uint8]string{
	ManagerXLOG: {
		0x00: "CHECKPOINT_SHUTDOWN", 0x10: "CHECKPOINT_ONLINE", 0x20: "NOOP", 0x30: "NEXTOID", 0x40: "SWITCH", 0x50: "BACKUP_END",
		0x60: "PARAMETER_CHANGE", 0x70: "RESTORE_POINT", 0x80: "FPW_CHANGE", 0x90: "END_OF_RECOVERY", 0xa0: "FPI_FOR_HINT", 0xb0: "FPI",
		0xd0: "OVERWRITE_CONTRECORD", 0xe0: "CHECKPOINT_REDO",
	},
	ManagerTransaction: {
		0x00: "COMMIT", 0x10: "PREPARE", 0x20: "ABORT", 0x30: "COMMIT_PREPARED", 0x40: "ABORT_PREPARED", 0x50: "ASSIGNMENT",
		0x60: "INVALIDATION",
	},
	ManagerStorage:     {0x10: "CREATE", 0x20: "TRUNCATE"},
	3:                  {0x00: "ZEROPAGE", 0x10: "TRUNCATE"},
	ManagerDatabase:    {0x00: "CREATE_FILE_COPY", 0x10: "CREATE_WAL_LOG", 0x20: "DROP"},
	ManagerTablespace:  {0x00: "CREATE", 0x10: "DROP"},
	6:                  {0x00: "ZERO_OFF_PAGE", 0x10: "ZERO_MEM_PAGE", 0x20: "CREATE_ID", 0x30: "TRUNCATE_ID"},
	ManagerRelationMap: {0x00: "UPDATE"},
	ManagerStandby:     {0x00: "LOCK", 0x10: "RUNNING_XACTS", 0x20: "INVALIDATIONS"},
	ManagerHeap2: {
		0x00: "REWRITE", 0x10: "PRUNE", 0x20: "VACUUM", 0x30: "FREEZE_PAGE", 0x40: "VISIBLE", 0x50: "MULTI_INSERT", 0x60: "LOCK_UPDATED",
		0x70: "NEW_CID",
	},
	ManagerHeap: {
		0x00: "INSERT", 0x10: "DELETE", 0x20: "UPDATE", 0x30: "TRUNCATE", 0x40: "HOT_UPDATE", 0x50: "HEAP_CONFIRM", 0x60: "LOCK",
		0x70: "INPLACE",
	},
	11: {
		0x00: "INSERT_LEAF", 0x10: "INSERT_UPPER", 0x20: "INSERT_META", 0x30: "SPLIT_L", 0x40: "SPLIT_R", 0x50: "INSERT_POST",
		0x60: "DEDUP", 0x70: "DELETE",
		0x80: "UNLINK_PAGE", 0x90: "UNLINK_PAGE_META", 0xa0: "NEWROOT", 0xb0: "MARK_PAGE_HALFDEAD", 0xc0: "VACUUM", 0xd0: "REUSE_PAGE",
		0xe0: "META_CLEANUP",
	},
	12: {
		0x00: "INIT_META_PAGE", 0x10: "INIT_BITMAP_PAGE", 0x20: "INSERT", 0x30: "ADD_OVFL_PAGE", 0x40: "SPLIT_ALLOCATE_PAGE",
		0x50: "SPLIT_PAGE",
		0x60: "SPLIT_COMPLETE", 0x70: "MOVE_PAGE_CONTENTS", 0x80: "SQUEEZE_PAGE", 0x90: "DELETE", 0xa0: "SPLIT_CLEANUP",
		0xb0: "UPDATE_META_PAGE", 0xc0: "VACUUM_ONE_PAGE",
	},
	13: {
		0x10: "CREATE_PTREE", 0x20: "INSERT", 0x30: "SPLIT", 0x40: "VACUUM_PAGE", 0x50: "DELETE_PAGE", 0x60: "UPDATE_META_PAGE",
		0x70: "INSERT_LISTPAGE", 0x80: "DELETE_LISTPAGE", 0x90: "VACUUM_DATA_LEAF_PAGE",
	},
	14: {0x00: "PAGE_UPDATE", 0x10: "DELETE", 0x20: "PAGE_REUSE", 0x30: "PAGE_SPLIT", 0x60: "PAGE_DELETE", 0x70: "ASSIGN_LSN"},
	15: {0x00: "LOG"},
	16: {
		0x10: "ADD_LEAF", 0x20: "MOVE_LEAFS", 0x30: "ADD_NODE", 0x40: "SPLIT_TUPLE", 0x50: "PICKSPLIT", 0x60: "VACUUM_LEAF",
		0x70: "VACUUM_ROOT", 0x80: "VACUUM_REDIRECT",
	},
	17: {0x00: "CREATE_INDEX", 0x10: "INSERT", 0x20: "UPDATE", 0x30: "SAMEPAGE_UPDATE", 0x40: "REVMAP_EXTEND", 0x50: "DESUMMARIZE"},
	18: {0x00: "ZEROPAGE", 0x10: "TRUNCATE"},
	19: {0x00: "SET", 0x10: "DROP"},
	20: {0x00: "Generic"},
	21: {0x00: "MESSAGE"},
}

// initPage is the flag of heap and BRIN records that begin a fresh page.
const initPage = 0x80

// Kind names the record as the server does, e.g. "INSERT+INIT". A record that is not
// known is named by its number.
func (r *Record) Kind(v *pg.Version) string {
	op, suffix := r.Info&0xf0, ""
	switch r.Manager {
	case ManagerTransaction:
		op &= xactOpMask
	case ManagerHeap, ManagerHeap2, ManagerBRIN:
		if op&initPage != 0 {
			op, suffix = op&^initPage, "+INIT"
		}
	}
	if name, ok := v.RecordNames[[2]uint8{uint8(r.Manager), op}]; ok {
		return name + suffix
	}
	if name, ok := kinds[r.Manager][op]; ok {
		return name + suffix
	}
	return fmt.Sprintf("UNKNOWN (%x)", r.Info&0xf0)
}
