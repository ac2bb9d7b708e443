package capture

import (
	"os"

	"golang.org/x/sys/unix"
)

// fdatasync flushes a file's bytes and its length, but not its times.
func fdatasync(f *os.File) error { return unix.Fdatasync(int(f.Fd())) }
