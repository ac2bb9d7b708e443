package demo

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"

	"filippo.io/age"
)

// service is the `velvet serve` that the demo started.
type service struct {
	cmd   *exec.Cmd
	pid   string // file
	ended chan struct{}
}

const serviceStart = 30 * time.Second

func (r *run) startService(ctx context.Context) error {
	home := r.path("home")
	if err := os.Mkdir(home, 0o711); err != nil {
		return err
	}
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	if err := os.WriteFile(r.path("store-key"), []byte(key.String()+"\n"), 0o600); err != nil {
		return err
	}
	config := fmt.Sprintf("store-key: %s\nsecond-store: %s\n", r.path("store-key"), r.path("second-store"))
	if err := os.WriteFile(r.path("home", "velvet.yaml"), []byte(config), 0o600); err != nil {
		return err
	}
	args := []string{"serve", "--agents", r.spare.ours + ":0"}
	if r.host.PortTaken(8417) {
		args = append(args, "--listen", "127.0.0.1:0")
	}
	log, err := os.Create(r.path("service.log"))
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	cmd := exec.Command(r.Program, args...)
	cmd.Env = append(os.Environ(), "VELVET_HOME="+home)
	cmd.Stderr = log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // Ctrl-C is for the demo, which ends it in turn
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	r.say("$ velvet %s\n", strings.Join(args, " "))
	if err := cmd.Start(); err != nil {
		return err
	}
	r.service = &service{cmd: cmd, pid: r.path("service.pid"), ended: make(chan struct{})}
	if err := os.WriteFile(r.service.pid, []byte(strconv.Itoa(cmd.Process.Pid)), 0o600); err != nil {
		return err
	}
	ready := make(chan string, 1)
	go r.service.wait(out, ready)
	select {
	case line := <-ready:
		r.say("%s\n", line)
		return nil
	case <-r.service.ended:
		said, _ := os.ReadFile(r.path("service.log"))
		return fmt.Errorf("the service ended: %s", said)
	case <-time.After(serviceStart):
		return errors.New("the service did not start in time")
	case <-ctx.Done():
		return ctx.Err()
	}
}

// wait reads the service's output, whose first line says that it is ready, and waits for its end.
func (s *service) wait(out io.Reader, ready chan<- string) {
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		select {
		case ready <- lines.Text():
		default:
		}
	}
	_ = s.cmd.Wait()
	close(s.ended)
}

func (s *service) stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.ended:
	case <-time.After(serviceStart):
		_ = s.cmd.Process.Kill()
		<-s.ended
	}
	_ = os.Remove(s.pid)
}

// endService ends the service of a run that was killed, if it still runs.
func endService(pidFile string) {
	content, err := os.ReadFile(pidFile)
	if err != nil {
		return
	}
	pid, err := strconv.Atoi(string(content))
	if err != nil {
		return
	}
	name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if !bytes.Contains(name, []byte("serve")) {
		return // the number belongs to another process by now
	}
	_ = syscall.Kill(pid, syscall.SIGKILL)
	for range 100 {
		if syscall.Kill(pid, 0) != nil {
			return
		}
		<-time.After(50 * time.Millisecond)
	}
}

// velvet runs a command, shows it with its output, and fails if it does.
func (r *run) velvet(ctx context.Context, args ...string) error {
	_, err := r.velvetOutput(ctx, args...)
	return err
}

func (r *run) velvetOutput(ctx context.Context, args ...string) (string, error) {
	shown := make([]string, len(args))
	for i, a := range args {
		if shown[i] = a; strings.ContainsAny(a, " '") {
			shown[i] = `"` + a + `"`
		}
	}
	r.say("$ velvet %s\n", strings.Join(shown, " "))
	cmd := exec.CommandContext(ctx, r.Program, args...)
	cmd.Env = append(os.Environ(), "VELVET_HOME="+r.path("home"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var kept bytes.Buffer
	cmd.Stdout = io.MultiWriter(r.Out, &kept)
	cmd.Stderr = cmd.Stdout
	if err := cmd.Run(); err != nil {
		return kept.String(), fmt.Errorf("velvet %s: %w", args[0], err)
	}
	r.say("\n")
	return kept.String(), nil
}
