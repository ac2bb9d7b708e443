package testbed

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"

	"github.com/stretchr/testify/require"
)

// Agent is a host agent, `velvet host serve`, which has joined a service.
type Agent struct {
	bed     *Bed
	service *Service
	Name    string
	Home    string
	Copies  string   // directory
	Machine *Machine // that it runs on; nil for this one

	cmd   *exec.Cmd
	ended chan struct{}
}

// Join has a host join the service, which listens for agents, with further arguments. It does not run yet.
func (s *Service) Join(name string, args ...string) *Agent {
	a := &Agent{bed: s.bed, service: s, Name: name, Home: s.bed.Path("host-" + name), Copies: s.bed.Path("host-"+name, "copies")}
	var w struct{ Word, Address string }
	s.JSON(&w, "host", "add", name)
	r := s.VelvetWith(w.Word+"\n", append([]string{"host", "join", w.Address, "--word-file", "-", "--home", a.Home, "--copies", a.Copies},
		args...)...)
	require.Zero(s.bed, r.Code, r.Err)
	tools, err := Programs()
	require.NoError(s.bed, err)
	a.Configure("programs: '" + tools + "'")
	s.bed.Cleanup(func() {
		if a.cmd != nil {
			a.Kill()
		}
		if s.bed.Failed() {
			log, _ := os.ReadFile(a.log())
			s.bed.Logf("the log of the agent of %s:\n%s", name, log)
		}
	})
	return a
}

func (a *Agent) log() string { return filepath.Join(a.Home, "agent.log") }

// Said is what the agent has logged.
func (a *Agent) Said() string {
	content, err := os.ReadFile(a.log())
	require.NoError(a.bed, err)
	return string(content)
}

// Configure adds lines to the agent's own configuration, for its next start.
func (a *Agent) Configure(lines string) {
	f, err := os.OpenFile(filepath.Join(a.Home, "host.yaml"), os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(a.bed, err)
	_, err = fmt.Fprintln(f, lines)
	require.NoError(a.bed, err)
	require.NoError(a.bed, f.Close())
}

// Start starts the agent, and waits until the service has met it.
func (a *Agent) Start() {
	a.StartAlone()
	a.bed.Eventually("the host is connected", a.Connected)
}

// StartAlone starts the agent.
func (a *Agent) StartAlone() {
	log, err := os.OpenFile(a.log(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(a.bed, err)
	defer func() { _ = log.Close() }()
	a.cmd, a.ended = exec.Command(a.service.program, "host", "serve", "--home", a.Home), make(chan struct{})
	if a.Machine != nil {
		a.cmd = a.Machine.Inside(a.cmd.Args...)
	}
	a.cmd.Stderr = log
	require.NoError(a.bed, a.cmd.Start())
	go func() { _ = a.cmd.Wait(); close(a.ended) }()
}

// Connected tells whether the service can ask the host.
func (a *Agent) Connected() bool {
	var h struct{ Connected bool }
	a.service.JSON(&h, "host", "show", a.Name)
	return h.Connected
}

// Kill ends the agent at once, as a crash would.
func (a *Agent) Kill() {
	_ = a.cmd.Process.Kill()
	<-a.ended
}

// Hang has the agent do nothing until Wake, as one does whose machine does not get on.
func (a *Agent) Hang() { require.NoError(a.bed, a.cmd.Process.Signal(syscall.SIGSTOP)) }

// Wake ends Hang.
func (a *Agent) Wake() { require.NoError(a.bed, a.cmd.Process.Signal(syscall.SIGCONT)) }
