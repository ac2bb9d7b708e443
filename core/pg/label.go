package pg

import (
	"fmt"
	"strconv"
	"strings"
)

// BackupLabel is what recovery reads first in a restored base backup (backup_label).
type BackupLabel struct {
	Start      LSN // redo location of the backup's starting checkpoint
	Checkpoint LSN
	Timeline   Timeline
	Label      string
}

// ParseBackupLabel reads a backup_label file of PostgreSQL 13 or later.
func ParseBackupLabel(content string) (BackupLabel, error) {
	var l BackupLabel
	for _, line := range strings.Split(content, "\n") {
		key, value, _ := strings.Cut(line, ": ")
		var err error
		switch key {
		case "START WAL LOCATION":
			at, _, _ := strings.Cut(value, " ")
			l.Start, err = ParseLSN(at)
		case "CHECKPOINT LOCATION":
			l.Checkpoint, err = ParseLSN(value)
		case "START TIMELINE":
			var t uint64
			t, err = strconv.ParseUint(value, 10, 32)
			l.Timeline = Timeline(t)
		case "LABEL":
			l.Label = value
		}
		if err != nil {
			return l, fmt.Errorf("backup_label: %s: %w", key, err)
		}
	}
	if l.Start == 0 || l.Checkpoint == 0 || l.Timeline == 0 {
		return l, fmt.Errorf("backup_label: start, checkpoint or timeline is missing")
	}
	return l, nil
}
