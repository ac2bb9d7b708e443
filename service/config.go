package service

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"velvetrewind/core/layout"
	"velvetrewind/core/rehearsal"
)

// Config is what `velvet serve` is told. Fields are set by flags, by VELVET_…
// variables or in the configuration file, under their koanf names.
type Config struct {
	Home        string `koanf:"home"`              // secrets, spool, the installed program
	Catalogue   string `koanf:"catalogue"`         // connection string of the catalogue; "" runs a server of its own in HOME/catalogue
	Store       string `koanf:"store"`             // directory, or s3://…; "" is HOME/store
	StoreKeys   string `koanf:"store-credentials"` // file with the keys of a bucket
	StoreKey    string `koanf:"store-key"`         // file with what opens an encrypted store
	AdoptStore  bool   `koanf:"adopt-store"`       // take over a store whose catalogue is lost
	NewKey      bool   `koanf:"new-key"`           // make a key although passwords are sealed with one that is lost
	SecondStore string `koanf:"second-store"`
	SecondKeys  string `koanf:"second-store-credentials"`
	// Files with keys that may only read the buckets: copies that recover use them where the
	// service does not answer.
	CopiesKeys       string `koanf:"copies-credentials"`
	SecondCopiesKeys string `koanf:"second-copies-credentials"`
	ReadData         string `koanf:"read-data"`   // auto or sql
	Copies           string `koanf:"copies"`      // directory; "" is HOME/copies
	Listen           string `koanf:"listen"`      // address and port
	Agents           string `koanf:"agents"`      // address and port for host agents; "" for none
	TLSCert          string `koanf:"tls-cert"`    // files in PEM form
	TLSKey           string `koanf:"tls-key"`     //
	Hosts            string `koanf:"hosts"`       // further host names by which we are called, with commas
	RunAs            string `koanf:"run-as"`      // OS users of copies, with commas
	Programs         string `koanf:"programs"`    // directory of PostgreSQL's programs, %d for the major version
	Compression      string `koanf:"compression"` // zstd or s2
	LogFormat        string `koanf:"log-format"`  // text or json

	// DeleteAfter is how long what is deleted can be taken back, as a duration in Go's form.
	DeleteAfter string `koanf:"delete-after"`
	deleteAfter time.Duration

	SpoolLimit int `koanf:"spool-limit"` // MiB of a cluster's WAL that may wait for the store before its capture pauses

	TasksAtOnce     int `koanf:"tasks-at-once"`     // of this instance
	TasksPerCluster int `koanf:"tasks-per-cluster"` // of all instances; 0 is no limit
	BackupsPerHost  int `koanf:"backups-per-host"`  // of all instances; 0 is no limit

	// Rehearsals that run at once, of all instances; 0: none by itself. RehearsalSpace is how much room they may take together,
	// in GiB; 0: what there is. RehearsalHours are those in which they may begin, as 20:00-06:00.
	Rehearsals     int    `koanf:"rehearsals-at-once"`
	RehearsalSpace int    `koanf:"rehearsal-space"`
	RehearsalHours string `koanf:"rehearsal-hours"`
	rehearsalHours rehearsal.Hours

	// Now is the clock of calendar, keep rules and backups; nil is the real one. LookEvery
	// is how often the calendar is looked through.
	Now       func() time.Time `koanf:"-"`
	LookEvery time.Duration    `koanf:"-"`
}

// How many tasks run at once unless told otherwise.
const (
	DefaultTasksAtOnce     = 4
	DefaultTasksPerCluster = 4
	DefaultBackupsPerHost  = 2
	DefaultRehearsals      = 1
)

// DefaultDeleteAfter is that of DeleteAfter.
const DefaultDeleteAfter = "24h"

// DefaultSpoolLimit is that of SpoolLimit.
const DefaultSpoolLimit = 1024

// spoolLimit is in bytes.
func (c *Config) spoolLimit() int64 { return int64(c.SpoolLimit) << 20 }

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:8417"

// complete fills in defaults and refuses what cannot be right.
func (c *Config) complete() (layout.Codec, error) {
	if c.Home == "" {
		return 0, errors.New("no home directory was given; name one with --home or VELVET_HOME")
	}
	abs, err := filepath.Abs(c.Home)
	if err != nil {
		return 0, err
	}
	c.Home = abs
	if c.Store == "" {
		c.Store = filepath.Join(c.Home, "store")
	}
	if c.Copies == "" {
		c.Copies = filepath.Join(c.Home, "copies")
	}
	if c.Copies, err = filepath.Abs(c.Copies); err != nil {
		return 0, err
	}
	if c.Listen == "" {
		c.Listen = DefaultListen
	}
	if c.DeleteAfter == "" {
		c.DeleteAfter = DefaultDeleteAfter
	}
	if c.deleteAfter, err = time.ParseDuration(c.DeleteAfter); err != nil || c.deleteAfter < 0 {
		return 0, fmt.Errorf("--delete-after %q: give a time in hours, for example %s, or 0", c.DeleteAfter, DefaultDeleteAfter)
	}
	if c.SpoolLimit == 0 {
		c.SpoolLimit = DefaultSpoolLimit
	}
	if c.SpoolLimit < 1 {
		return 0, fmt.Errorf("--spool-limit %d: give a size in MiB, for example %d", c.SpoolLimit, DefaultSpoolLimit)
	}
	if c.rehearsalHours, err = rehearsal.ParseHours(c.RehearsalHours); err != nil {
		return 0, fmt.Errorf("--rehearsal-hours %w", err)
	}
	if c.Rehearsals < 0 || c.RehearsalSpace < 0 {
		return 0, errors.New("a limit of rehearsals is below nothing; see: velvet serve --help")
	}
	if c.TasksAtOnce == 0 {
		c.TasksAtOnce = DefaultTasksAtOnce
	}
	if c.TasksAtOnce < 1 || c.TasksPerCluster < 0 || c.BackupsPerHost < 0 {
		return 0, errors.New("a limit of tasks is below what makes sense; see: velvet serve --help")
	}
	if c.Now == nil {
		c.Now = time.Now
	}
	if c.LookEvery == 0 {
		c.LookEvery = 5 * time.Second
	}
	if c.Compression == "" {
		c.Compression = "zstd"
	}
	if c.ReadData != "" && c.ReadData != "auto" && c.ReadData != "sql" {
		return 0, fmt.Errorf("--read-data %q: choose auto or sql", c.ReadData)
	}
	codec, err := layout.ParseCodec(c.Compression)
	if err != nil {
		return 0, err
	}
	if c.Agents != "" {
		if _, _, err := net.SplitHostPort(c.Agents); err != nil {
			return 0, fmt.Errorf("--agents %q: %w; write it as 0.0.0.0:8418", c.Agents, err)
		}
	}
	return codec, c.checkListen()
}

// checkListen lets the service be reached from elsewhere only through TLS.
func (c *Config) checkListen() error {
	if (c.TLSCert == "") != (c.TLSKey == "") {
		return errors.New("--tls-cert and --tls-key go together")
	}
	host, _, err := net.SplitHostPort(c.Listen)
	if err != nil {
		return fmt.Errorf("--listen %q: %w; write it as 127.0.0.1:8417", c.Listen, err)
	}
	ip := net.ParseIP(host)
	if c.TLSCert == "" && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("--listen %s can be reached from other machines; give --tls-cert and --tls-key too, or listen on 127.0.0.1",
			c.Listen)
	}
	return nil
}

// makeDirs makes the service's directories: the home's content is its owner's
// alone, but the copies' directory must be passable for the servers' OS user.
func (c *Config) makeDirs() error {
	for _, d := range []struct {
		path string
		mode os.FileMode
	}{{c.Home, 0o711}, {c.spool(), 0o700}, {c.Copies, 0o711}, {c.programs(), 0o755}} {
		if err := os.MkdirAll(d.path, d.mode); err != nil {
			return err
		}
		if err := os.Chmod(d.path, d.mode); err != nil {
			return err
		}
	}
	return nil
}

func (c *Config) spool() string    { return filepath.Join(c.Home, "spool") }
func (c *Config) programs() string { return filepath.Join(c.Home, "program") }

// ownCatalogue is the directory of the catalogue's own server.
func (c *Config) ownCatalogue() string { return filepath.Join(c.Home, "catalogue") }

// hostNames are the Host headers that are answered.
func (c *Config) hostNames() []string {
	names := []string{"localhost", "127.0.0.1", "::1"}
	if host, _, err := net.SplitHostPort(c.Listen); err == nil && host != "" {
		names = append(names, host)
	}
	for _, h := range strings.Split(c.Hosts, ",") {
		if h = strings.TrimSpace(h); h != "" {
			names = append(names, h)
		}
	}
	return names
}
