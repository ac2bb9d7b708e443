//go:build !amd64

package pg

// mix takes whole rows into the sums.
func (l *lanes) mix(rows []byte) { l.mixRows(rows) }
