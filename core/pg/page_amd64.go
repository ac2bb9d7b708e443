package pg

import "github.com/klauspost/cpuid/v2"

// A backup checks every page that passes: eight lanes at a time cost it a tenth of
// what they cost one by one.
var wideLanes = cpuid.CPU.Supports(cpuid.AVX2)

// mix takes whole rows into the sums.
func (l *lanes) mix(rows []byte) {
	if wideLanes && len(rows) >= checksumRow {
		mixWide(l, &rows[0], len(rows)/checksumRow)
		return
	}
	l.mixRows(rows)
}

// mixWide is mixRows for at least one row, with the 32 sums in four AVX2 registers.
//
//go:noescape
func mixWide(sums *lanes, rows *byte, count int)
