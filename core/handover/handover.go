// Package handover says what lies beside ordinary files that leave our care, and how whoever has them checks them.
//
// Invariant: a line of the list is what b2sum reads and writes, whatever the file's name.
package handover

import (
	"encoding/hex"
	"fmt"
	"hash"
	"strings"

	"golang.org/x/crypto/blake2b"
)

// What lies beside them.
const (
	Sums  = "B2SUMS"
	HowTo = "HOW-TO.txt"
)

// NewSum makes the sum of a file, which is BLAKE2b: of those that public tools check the one that takes least.
func NewSum() hash.Hash {
	sum, err := blake2b.New512(nil)
	if err != nil {
		panic(err) // only a key can be wrong
	}
	return sum
}

var escapes = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)

// SumLine is the line of the list for a file, given its sum by NewSum.
func SumLine(sum []byte, name string) string {
	mark, escaped := "", escapes.Replace(name)
	if escaped != name {
		mark = `\`
	}
	return fmt.Sprintf("%s%s  %s\n", mark, hex.EncodeToString(sum), escaped)
}
