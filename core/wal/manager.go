package wal

import "fmt"

// Manager is a resource manager's id (rmgrlist.h); the list has the same order in all supported versions.
type Manager uint8

// The managers whose records are decoded here.
const (
	ManagerXLOG        Manager = 0
	ManagerTransaction Manager = 1
	ManagerStorage     Manager = 2
	ManagerDatabase    Manager = 4
	ManagerTablespace  Manager = 5
	ManagerRelationMap Manager = 7
	ManagerStandby     Manager = 8
	ManagerHeap2       Manager = 9
	ManagerHeap        Manager = 10
	ManagerBRIN        Manager = 17
)

var managerNames = [...]string{
	"XLOG", "Transaction", "Storage", "CLOG", "Database", "Tablespace", "MultiXact", "RelMap", "Standby",
	"Heap2", "Heap", "Btree", "Hash", "Gin", "Gist", "Sequence", "SPGist", "BRIN", "CommitTs",
	"ReplicationOrigin", "Generic", "LogicalMessage",
}

func (m Manager) String() string {
	if int(m) < len(managerNames) {
		return managerNames[m]
	}
	return fmt.Sprintf("Manager%d", uint8(m))
}

// telling are the managers whose records say something in their own data that is decoded here.
func (m Manager) telling() bool {
	switch m {
	case ManagerXLOG, ManagerTransaction, ManagerStorage, ManagerDatabase, ManagerTablespace, ManagerRelationMap, ManagerStandby,
		ManagerHeap2, ManagerHeap:
		return true
	}
	return false
}
