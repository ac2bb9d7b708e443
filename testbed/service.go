package testbed

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/host"
)

// Service is a running `velvet serve`, called through its own command line.
type Service struct {
	bed     *Bed
	home    string
	program string
	args    []string
	env     []string
	// Catalogue is the connection string of the service's records, and Records the server that
	// Bed.Service has made for them.
	Catalogue string
	Records   *Postgres
	// StoreKey is the file with the key of its store.
	StoreKey string

	cmd   *exec.Cmd
	ended chan struct{}
	URL   string // base address
	Link  string // opens the console once
}

// Service starts the service with a catalogue in a server of the bed.
func (b *Bed) Service(args ...string) *Service {
	s := b.IdleService(args...)
	s.Records = b.Postgres("catalogue", false)
	s.UseCatalogue(s.Records)
	s.Start()
	return s
}

// IdleService prepares a service that is not started yet. Until it is given a database, it will
// run a server of its own for its catalogue.
func (b *Bed) IdleService(args ...string) *Service {
	program, err := Program()
	require.NoError(b, err)
	s := &Service{bed: b, home: b.Path("home"), program: program, StoreKey: b.Path("store-key")}
	identity, err := age.GenerateX25519Identity()
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(s.StoreKey, []byte(identity.String()+"\n"), 0o600))
	s.With(args...)
	s.UseDatabase("")
	b.Cleanup(func() {
		if b.Failed() {
			log, _ := os.ReadFile(b.Path("service.log"))
			b.Logf("the service's log:\n%s", log)
		}
		if s.cmd != nil {
			s.Kill()
		}
		_ = b.Host.Stop(context.Background(), s.OwnCatalogue(), host.Immediate)
	})
	return s
}

// Another is a service beside s with a home of its own, on the same catalogue and store; it is not
// started yet.
func (s *Service) Another(name string) *Service {
	home := s.bed.Path(name)
	require.NoError(s.bed, os.Mkdir(home, 0o711))
	key, err := os.ReadFile(filepath.Join(s.home, "key")) // opens the clusters' passwords
	require.NoError(s.bed, err)
	require.NoError(s.bed, os.WriteFile(filepath.Join(home, "key"), key, 0o600))
	other := &Service{bed: s.bed, home: home, program: s.program, StoreKey: s.StoreKey, Records: s.Records}
	other.UseDatabase(s.Catalogue)
	other.With("--adopt-store", "--store", filepath.Join(s.home, "store"), "--copies", filepath.Join(s.home, "copies"))
	s.bed.Cleanup(func() {
		if other.cmd != nil {
			other.Kill()
		}
	})
	return other
}

// OwnCatalogue is the server that the service runs for its catalogue where it is given no database.
func (s *Service) OwnCatalogue() host.Server {
	return host.Server{Major: packaged, DataDir: filepath.Join(s.home, "catalogue", "data")}
}

// UseCatalogue has the service keep its records there from its next start on.
func (s *Service) UseCatalogue(records *Postgres) {
	s.UseDatabase(records.DSN(Superuser, "postgres") + " password='" + Password + "'")
}

// UseDatabase has the service keep its records in a database from its next start on; with "" in
// a server of its own.
func (s *Service) UseDatabase(connString string) {
	s.Catalogue = connString
	s.env = append(os.Environ(), "VELVET_HOME="+s.home, "VELVET_DELETE_AFTER=0") // an earlier program knows no such flag
	if connString != "" {
		s.env = append(s.env, "VELVET_CATALOGUE="+connString)
	}
}

// At has the service use another home from its next start on.
func (s *Service) At(home string) {
	s.home = home
	s.UseDatabase(s.Catalogue)
}

// With has the service be started with these flags besides the usual ones.
func (s *Service) With(args ...string) {
	tools, err := Programs()
	require.NoError(s.bed, err)
	s.args = append([]string{"serve", "--listen", "127.0.0.1:0", "--programs", tools, "--store-key", s.StoreKey,
		"--rehearsals-at-once", "0"}, args...)
}

// Start starts the service, and waits until it is ready.
func (s *Service) Start() {
	log, err := os.OpenFile(s.bed.Path("service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(s.bed, err)
	defer func() { _ = log.Close() }()
	s.cmd, s.ended = exec.Command(s.program, s.args...), make(chan struct{})
	s.cmd.Env, s.cmd.Stderr = s.env, log
	out, err := s.cmd.StdoutPipe()
	require.NoError(s.bed, err)
	require.NoError(s.bed, s.cmd.Start())
	lines := make(chan string, 2)
	go func() {
		for read := bufio.NewScanner(out); read.Scan(); {
			lines <- read.Text()
		}
		_ = s.cmd.Wait()
		close(s.ended)
	}()
	for range 2 {
		select {
		case l := <-lines:
			_, after, _ := strings.Cut(l, "http")
			if strings.Contains(l, "#enter=") {
				s.Link = "http" + after
			} else {
				s.URL = "http" + after
			}
		case <-s.ended:
			said, _ := os.ReadFile(s.bed.Path("service.log"))
			require.Fail(s.bed, "the service did not start", "%s", said)
		}
	}
}

// Refuses starts the service, which must end by itself, and gives what it says.
func (s *Service) Refuses() string {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, s.program, s.args...)
	cmd.Env = s.env
	out, err := cmd.CombinedOutput()
	require.Error(s.bed, err, string(out))
	require.NoError(s.bed, ctx.Err(), "the service started: %s", out)
	return string(out)
}

// Program is the path of the velvet program.
func (s *Service) Program() string { return s.program }

// PID is the service's process id.
func (s *Service) PID() int { return s.cmd.Process.Pid }

// Kill ends the service at once, as a crash would.
func (s *Service) Kill() {
	_ = s.cmd.Process.Kill()
	<-s.ended
}

// Stop ends the service in good order.
func (s *Service) Stop() {
	require.NoError(s.bed, s.cmd.Process.Signal(syscall.SIGTERM))
	<-s.ended
	require.True(s.bed, s.cmd.ProcessState.Success(), "the service stops with exit code 0")
}

// Result is what a command printed, and its exit code.
type Result struct {
	Out, Err string
	Code     int
}

// Velvet runs a command.
func (s *Service) Velvet(args ...string) Result { return s.VelvetWith("", args...) }

// VelvetWith runs a command with input.
func (s *Service) VelvetWith(input string, args ...string) Result {
	cmd := exec.Command(s.program, args...)
	cmd.Env = s.env
	var out, errOut bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(input), &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(s.bed, err)
	}
	return Result{out.String(), errOut.String(), cmd.ProcessState.ExitCode()}
}

// Must runs a command that has to succeed, and returns its output.
func (s *Service) Must(args ...string) string {
	r := s.Velvet(args...)
	require.Zero(s.bed, r.Code, "velvet %s\n%s%s", strings.Join(args, " "), r.Out, r.Err)
	return r.Out
}

// JSON runs a command that has to succeed, and decodes its output.
func (s *Service) JSON(out any, args ...string) {
	text := s.Must(append(args, "--output", "json")...)
	require.NoError(s.bed, json.Unmarshal([]byte(text), out), text)
}

// Eventually waits until something holds, at most three minutes: machines are busy.
func (b *Bed) Eventually(what string, holds func() bool) {
	b.Helper()
	require.Eventually(b, holds, 3*time.Minute, 100*time.Millisecond, what)
}
