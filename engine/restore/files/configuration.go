package files

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode"

	"velvetrewind/core/handover"
	"velvetrewind/core/layout"
	"velvetrewind/engine/restore"
	"velvetrewind/engine/store/vault"
)

// What the original is configured with.
const (
	mainFile     = "postgresql.conf"
	autoFile     = "postgresql.auto.conf"
	hbaFile      = "pg_hba.conf"
	identFile    = "pg_ident.conf"
	settingsFile = "settings.conf" // of a base backup whose role could not read the files: the settings that they make
	outside      = "files/"        // and below it their own paths
)

// configuration is those files, by their paths in the data directory or in the configuration of a base.
type configuration struct {
	inside  map[string][]byte
	outside map[string][]byte
}

// mostConfiguration is more than a configuration file has.
const mostConfiguration = 16 << 20

// isConfiguration tells whether a file of a base is not written as it is.
func isConfiguration(f *layout.File) bool {
	return f.Place == layout.InConfig || !f.Dir && slices.Contains([]string{mainFile, autoFile, hbaFile, identFile, "standby.signal",
		"recovery.signal", "tablespace_map", "postmaster.pid", "postmaster.opts"}, f.Path)
}

// readConfiguration reads all of it, for what is written depends on what there is.
func (w *Writer) readConfiguration(packs *vault.Packs) error {
	w.own = configuration{make(map[string][]byte), make(map[string][]byte)}
	err := w.manifest(layout.Visit{Head: func(h layout.Head) error { w.head = h; return nil }, File: func(f *layout.File) error {
		if !isConfiguration(f) || f.Dir || f.Size > mostConfiguration {
			return nil
		}
		if !fs.ValidPath(f.Path) {
			return leadsOut(f)
		}
		var content bytes.Buffer
		if err := restore.Content(w.ctx, packs, w.Store.HashKey(w.Archive.Cluster.ID), f, &content); err != nil {
			return err
		}
		if f.Place == layout.InConfig {
			w.own.outside[f.Path] = content.Bytes()
		} else {
			w.own.inside[f.Path] = content.Bytes()
		}
		return nil
	}})
	w.major = w.head.ServerVersion / 10000
	return err
}

type written struct {
	name    string
	content []byte
}

// configured is the configuration as it is written.
func (w *Writer) configured() (list []written) {
	add := func(name, content string) { list = append(list, written{name, []byte(content)}) }
	home := w.mainHome()
	main, hba, ident := "", string(w.own.inside[hbaFile]), string(w.own.inside[identFile])
	for name, content := range w.own.outside {
		rel, below := strings.CutPrefix(name, home+"/")
		switch {
		case home == "" || !below:
			add(path.Join(w.at.side, elsewhere, name), string(content))
		case rel == mainFile:
			main = string(content)
		case rel == hbaFile:
			hba = string(content)
		case rel == identFile:
			ident = string(content)
		default: // what lay around it is found beside it again
			add(path.Join(w.at.config, rel), string(content))
		}
	}
	switch {
	case main != "":
	case w.own.inside[mainFile] != nil && w.at.config != w.at.data: // what it includes lies beside it
		add(path.Join(w.at.data, mainFile), string(w.own.inside[mainFile]))
		main = "include " + quote(w.there(path.Join(w.at.data, mainFile))) + "\n"
	case w.own.inside[mainFile] != nil:
		main = string(w.own.inside[mainFile])
	default:
		main = "# The original's files could not be read when the base backup was taken: its settings.\n" +
			string(w.own.outside[settingsFile])
	}
	add(path.Join(w.at.config, mainFile), strings.TrimRight(main, "\n")+"\n"+w.whereabouts())
	add(path.Join(w.at.config, hbaFile), hba)
	add(path.Join(w.at.config, identFile), ident)
	add(path.Join(w.at.data, autoFile), strings.TrimRight(string(w.own.inside[autoFile]), "\n")+"\n"+w.recovery())
	add(path.Join(w.at.data, "recovery.signal"), "")
	if len(w.head.Tablespaces) > 0 {
		add(path.Join(w.at.data, "tablespace_map"), w.tablespaceMap())
	}
	slices.SortFunc(list, func(a, b written) int { return strings.Compare(a.name, b.name) })
	return list
}

// mainHome is the directory, among what lay outside, of the main configuration file; "" if that lay in the data directory.
func (w *Writer) mainHome() string {
	for name := range w.own.outside {
		if path.Base(name) == mainFile && strings.HasPrefix(name, outside) && w.own.inside[mainFile] == nil {
			return path.Dir(name)
		}
	}
	return ""
}

// whereabouts are the settings that say where everything lies now, after all others.
func (w *Writer) whereabouts() string {
	lines := []string{"", "# Where everything lies now.",
		"data_directory = " + quote(w.there(w.at.data)),
		"hba_file = " + quote(w.there(path.Join(w.at.config, hbaFile))),
		"ident_file = " + quote(w.there(path.Join(w.at.config, identFile))),
		"external_pid_file = ''", ""}
	return strings.Join(lines, "\n")
}

// recovery are the settings that lead to the moment, and keep the server from what belongs to the original.
func (w *Writer) recovery() string {
	b := w.Plan.Boundary
	inclusive := "off"
	if b.Inclusive {
		inclusive = "on"
	}
	wal := strings.ReplaceAll(w.there(path.Join(w.at.side, walDir)), "%", "%%")
	lines := []string{"# Recovery to: " + b.Moment,
		"restore_command = " + quote(fmt.Sprintf(`cp "%s/%%f" "%%p"`, wal)),
		"recovery_target = ''", "recovery_target_name = ''", "recovery_target_time = ''", "recovery_target_xid = ''",
		"recovery_target_lsn = " + quote(b.Stop.String()),
		"recovery_target_inclusive = " + inclusive,
		"recovery_target_timeline = " + quote(fmt.Sprint(uint32(b.Timeline))),
		"recovery_target_action = 'pause'",
		"# The original's archive, and the servers that it speaks with, are left alone.",
		"archive_mode = off", "archive_command = ''", "primary_conninfo = ''", "primary_slot_name = ''", "synchronous_standby_names = ''",
		"recovery_end_command = ''", "archive_cleanup_command = ''", "max_logical_replication_workers = 0"}
	if w.Want.Port != 0 {
		lines = append(lines, fmt.Sprintf("port = %d", w.Want.Port))
	}
	return strings.Join(append(lines, ""), "\n")
}

// tablespaceMap tells the server where its tablespaces are; it makes the links itself.
func (w *Writer) tablespaceMap() string {
	content := ""
	for _, s := range w.head.Tablespaces {
		content += fmt.Sprintf("%d %s\n", s.OID, w.tablespaceAt(s))
	}
	return content
}

func (w *Writer) tablespaceAt(s layout.TablespaceEntry) string {
	if to := w.Want.Tablespaces[s.Location]; to != "" {
		return to
	}
	return w.there(path.Join(w.at.side, tablespaces, fmt.Sprint(s.OID)))
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// shell is a word of a shell's command.
func shell(s string) string {
	if strings.IndexFunc(s, func(r rune) bool {
		return !strings.ContainsRune("/._-", r) && !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) < 0 {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// howTo is what whoever starts the server reads first.
func (w *Writer) howTo() string {
	data := shell(w.there(w.at.data))
	lines := []string{
		fmt.Sprintf("%s, as it was at: %s", w.Archive.Cluster.Name, w.Plan.Boundary.Moment),
		fmt.Sprintf("PostgreSQL %d; base backup %s and the WAL from %s to %s.", w.major, w.Plan.Base, w.Plan.First, w.Plan.Last), "",
		"1. These files belong in " + w.Want.Root + ".",
		"   Check them:  cd " + shell(w.Want.Root) + " && b2sum --quiet -c " + path.Join(w.at.side, handover.Sums),
		"2. Read the configuration, which is the original's, and what it names outside of these directories:",
		"   " + w.there(path.Join(w.at.config, mainFile)),
	}
	n := 3
	for _, s := range w.head.Tablespaces {
		if from := w.there(path.Join(w.at.side, tablespaces, fmt.Sprint(s.OID))); w.tablespaceAt(s) != from {
			lines = append(lines, fmt.Sprintf("%d. Move the tablespace that lay in %s:  mv %s %s", n, s.Location, shell(from),
				shell(w.tablespaceAt(s))))
			n++
		}
	}
	start := fmt.Sprintf("pg_ctl -D %s start", data)
	if w.Want.Debian != "" {
		start = fmt.Sprintf("pg_ctlcluster %d %s start", w.major, w.Want.Debian)
	}
	lines = append(lines,
		fmt.Sprintf("%d. Let all of it belong to the OS user that runs the server, and start it:  %s", n, start),
		fmt.Sprintf("%d. It replays the WAL, stops at the moment and answers queries, but writes nothing. Look whether it is right.", n+1),
		fmt.Sprintf("%d. To open it for writing:  SELECT pg_wal_replay_resume();", n+2),
		"   Then take the lines out of "+w.there(path.Join(w.at.data, autoFile))+" that begin with \"Recovery to\",",
		"   and have it archive its WAL again, not to the place of the original.", "")
	return strings.Join(lines, "\n")
}
