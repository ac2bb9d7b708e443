// Package handover says what lies beside ordinary files that leave our care, and how whoever has them checks them.
//
// Invariant: a line of the list is what sha256sum reads and writes, whatever the file's name.
package handover

import (
	"encoding/hex"
	"fmt"
	"strings"
)

// What lies beside them.
const (
	Sums  = "SHA256SUMS"
	HowTo = "HOW-TO.txt"
)

var escapes = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)

// SumLine is the line of the list for a file, given its SHA-256 sum.
func SumLine(sum []byte, name string) string {
	mark, escaped := "", escapes.Replace(name)
	if escaped != name {
		mark = `\`
	}
	return fmt.Sprintf("%s%s  %s\n", mark, hex.EncodeToString(sum), escaped)
}
