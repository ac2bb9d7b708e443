package pg

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// BackupLabel is what the file backup_label of a base backup says of where its replay begins.
type BackupLabel struct {
	Start      LSN // where replay begins: the checkpoint's redo
	Checkpoint LSN // the checkpoint record
	Timeline   Timeline
}

// ParseBackupLabel reads a backup_label (do_pg_backup_start in xlog.c): lines of a name, a
// colon and a value. A server that finds none in a base backup, or an unreadable one,
// recovers to a wrong state or not at all, so what is missing is an error.
func ParseBackupLabel(content []byte) (l BackupLabel, err error) {
	lines := bufio.NewScanner(bytes.NewReader(content))
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ": ")
		switch name {
		case "START WAL LOCATION":
			at, _, _ := strings.Cut(value, " ") // then the segment's name in parentheses
			l.Start, err = ParseLSN(at)
		case "CHECKPOINT LOCATION":
			l.Checkpoint, err = ParseLSN(value)
		case "START TIMELINE":
			var t uint64
			t, err = strconv.ParseUint(value, 10, 32)
			l.Timeline = Timeline(t)
		case "INCREMENTAL FROM LSN", "INCREMENTAL FROM TLI":
			err = errors.New("it is of an incremental backup in the server's own form, whose files are not whole")
		}
		if err != nil {
			return l, fmt.Errorf("backup label, %q: %w", lines.Text(), err)
		}
	}
	if l.Start == 0 || l.Checkpoint == 0 || l.Timeline == 0 {
		return l, errors.New("backup label: it names no start, no checkpoint or no timeline")
	}
	return l, lines.Err()
}
