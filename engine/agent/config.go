package agent

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/v2"

	"velvetrewind/engine/host"
	"velvetrewind/engine/host/identity"
)

// Config is what a host agent is told in its own file, which the service cannot change.
type Config struct {
	// Services are addresses at which instances of the service listen for agents.
	Services []string `koanf:"services"`
	// Copies is the directory in which copies are laid out.
	Copies string `koanf:"copies"`
	// Databases are directories below which lie the originals that may be taken over, their tablespaces and their logs. Nothing is
	// done anywhere else.
	Databases []string `koanf:"databases"`
	// Units are those of systemd by which originals are stopped and started.
	Units []string `koanf:"units"`
	RunAs string   `koanf:"run-as"`
	// Programs is the directory of PostgreSQL's programs, %d for the major version.
	Programs string `koanf:"programs"`
	// MostCopies may stand here at once, and Space is how many GiB they may take together; 0 for no limit.
	MostCopies int `koanf:"copies-at-once"`
	Space      int `koanf:"space"`
	// Ports are those that copies may listen on, on loopback, as 21000-21099; "" for any.
	Ports       string `koanf:"ports"`
	first, last int
	// Bandwidth is how many MiB a second may flow over the connection to the service; 0 for no limit.
	Bandwidth int `koanf:"bandwidth"`
}

// Files of an agent's home.
const (
	configFile   = "host.yaml"
	identityFile = "host.pem"
	programsDir  = "programs"
)

const template = `# What the host agent of Velvet Rewind may do here. The service cannot change it.

# Where instances of the service listen for host agents.
services: [%q]

# Copies are laid out below this directory.
copies: %q

# Directories below which databases lie that a copy may take the place of: their data directories, tablespaces and logs. Without
# any, no database of this host is touched. Nothing is read or written elsewhere.
databases: [%s]

# Units of systemd that run them, which may be stopped and started for that.
# units: ["postgresql@15-main.service"]

# OS users that the servers of copies may run as, with commas, where the agent is root.
# run-as: postgres

# Directory of PostgreSQL's programs, %%d for the major version.
# programs: %s

# Copies that may stand here at once, and GiB that they may take together; 0 for no limit.
# copies-at-once: 0
# space: 0

# Ports of 127.0.0.1 that copies may have; any without it.
# ports: 21000-21099

# MiB a second over the connection to the service, which carries what does not come from the store; 0 for no limit.
# bandwidth: 0
`

// readConfig reads the configuration in a home.
func readConfig(home string) (c Config, err error) {
	path := filepath.Join(home, configFile)
	k := koanf.New(".")
	if err := k.Load(file.Provider(path), yaml.Parser()); errors.Is(err, os.ErrNotExist) {
		return c, fmt.Errorf("this host has not joined a service: %s is missing; join with: velvet host join ADDRESS", path)
	} else if err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	if err := k.Unmarshal("", &c); err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	switch {
	case len(c.Services) == 0:
		err = errors.New("services names no address")
	case slices.ContainsFunc(c.Databases, func(d string) bool { return !filepath.IsAbs(d) || filepath.Clean(d) == "/" }):
		err = fmt.Errorf("databases: each must be an absolute path, and not /: %q", c.Databases)
	case !filepath.IsAbs(c.Copies):
		err = fmt.Errorf("copies: %q is no absolute path", c.Copies)
	case c.MostCopies < 0 || c.Space < 0 || c.Bandwidth < 0:
		err = errors.New("a limit is below 0")
	}
	if err == nil {
		err = c.parsePorts()
	}
	if err != nil {
		return c, fmt.Errorf("%s: %w", path, err)
	}
	if c.Programs == "" {
		c.Programs = host.DefaultTools
	}
	c.Copies = filepath.Clean(c.Copies)
	for i, d := range c.Databases {
		c.Databases[i] = filepath.Clean(d)
	}
	return c, nil
}

// parsePorts reads which ports copies may have.
func (c *Config) parsePorts() error {
	const lowest, highest = 1024, 65535
	c.first, c.last = lowest, highest
	if c.Ports == "" {
		return nil
	}
	if n, err := fmt.Sscanf(c.Ports, "%d-%d", &c.first, &c.last); n != 2 || err != nil || c.first < lowest || c.last > highest ||
		c.first > c.last {
		return fmt.Errorf("ports: %q is no range as 21000-21099, of ports from %d to %d", c.Ports, lowest, highest)
	}
	return nil
}

// readIdentity reads what the host knows itself by.
func readIdentity(home string) (*identity.Host, error) {
	path := filepath.Join(home, identityFile)
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("this host has not joined a service: %w; join with: velvet host join ADDRESS", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s can be read by others; make it its owner's alone: chmod 600 %s", path, path)
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	own, err := identity.DecodeHost(content)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return own, nil
}

// keepIdentity puts it in place, whole or not at all.
func keepIdentity(home string, own *identity.Host) error {
	content, err := own.Encode()
	if err != nil {
		return err
	}
	return writeAside(filepath.Join(home, identityFile), content)
}

func writeAside(path string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return host.SyncDir(filepath.Dir(path))
}
