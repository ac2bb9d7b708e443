package service

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"velvetrewind/core/figures"
	"velvetrewind/core/problem"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
)

// lockFile is held by the service whose home it is; it names its process.
const lockFile = "lock"

// lockHome makes sure that no other service uses the home, for as long as what it returns is
// open. The system frees the lock with the process, however that ends.
func lockHome(home string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(home, lockFile), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		holder, _ := io.ReadAll(io.LimitReader(f, 32))
		err = problem.New(problem.Conflict, "Stop that one first, or give this one a home of its own with --home.",
			"the service was not started",
			"process %s serves with %s already", strings.TrimSpace(string(holder)), home)
	}
	if err == nil {
		err = f.Truncate(0)
	}
	if err == nil {
		_, err = f.WriteAt([]byte(strconv.Itoa(os.Getpid())+"\n"), 0)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// noRoom adds what to do to an error about a full disk below the home.
func noRoom(err error, home string) error {
	if errors.Is(err, unix.ENOSPC) || strings.Contains(err.Error(), "No space left on device") {
		return problem.New(problem.Full, "Free or add space there, then start it again.", "the service was not started",
			"%s is on a full disk: %v", home, err)
	}
	return err
}

// formerInstance gives the number of the instance that ran in a home before, which has ended since
// the home is ours; 0 where none is known. It notes ours.
func formerInstance(home string, ours int64) (former int64, err error) {
	path := filepath.Join(home, "instance")
	content, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return 0, err
	}
	former, _ = strconv.ParseInt(strings.TrimSpace(string(content)), 10, 64) // anything else names nobody
	return former, os.WriteFile(path, []byte(strconv.FormatInt(ours, 10)+"\n"), 0o600)
}

// forgetEnvironment takes out of the environment what was meant for the catalogue's connection and
// for no protected server's: PGPASSWORD and its like.
func forgetEnvironment() {
	for _, setting := range os.Environ() {
		if name, _, _ := strings.Cut(setting, "="); strings.HasPrefix(name, "PG") {
			_ = os.Unsetenv(name)
		}
	}
}

// loadKey reads the key of a home, with which the passwords of clusters are sealed. It is made where there is none, but
// not in the place of one that is lost.
func loadKey(ctx context.Context, cfg Config, c *catalog.Catalog) (key seal.Key, err error) {
	path := filepath.Join(cfg.Home, "key")
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) && !cfg.NewKey {
		clusters, err := c.Clusters(ctx)
		if err != nil {
			return key, err
		}
		sealed := 0
		for _, k := range clusters {
			if len(k.PasswordSealed)+len(k.ReplicationSealed) > 0 {
				sealed++
			}
		}
		if sealed > 0 {
			return key, problem.New(problem.Conflict, "Bring the file back from where you keep a copy. If there is none: serve "+
				"--new-key, then give each cluster its password anew with velvet cluster edit.",
				"the service was not started", "%s is missing, and the passwords of %s are sealed with it", path,
				figures.Of(sealed, "cluster"))
		}
	}
	return seal.LoadKey(path)
}
