package demo

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// spareCopy is what the copy on the spare machine is called.
const spareCopy = "ferries-spare"

// spareMachine has a host join, which is this machine too, and makes a copy there.
func (r *run) spareMachine(ctx context.Context) error {
	var w struct{ Word, Address string }
	if err := r.ask(ctx, &w, "host", "add", "spare"); err != nil {
		return err
	}
	r.say("$ velvet host add spare\n(a word with which one machine may join, once)\n\n")
	_, port, _ := strings.Cut(w.Address, ":")
	join := exec.CommandContext(ctx, r.Program, "host", "join", "127.0.0.1:"+port, "--word-file", "-", "--home", r.path("spare"))
	join.Stdin, join.Stdout, join.Stderr = strings.NewReader(w.Word+"\n"), r.Out, r.Out
	r.say("spare$ velvet host join 127.0.0.1:%s\n", port)
	if err := join.Run(); err != nil {
		return fmt.Errorf("join: %w", err)
	}
	if err := r.startAgent(); err != nil {
		return err
	}
	for started := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		var h struct{ Connected bool }
		if err := r.ask(ctx, &h, "host", "show", "spare"); err != nil {
			return err
		}
		if h.Connected {
			break
		}
		if time.Since(started) > serviceStart {
			return fmt.Errorf("the agent did not come to the service; its log is %s", r.path("spare", "agent.log"))
		}
	}
	if err := r.velvet(ctx, "restore", "start", "ferries", "latest", "--host", "spare", "--name", spareCopy); err != nil {
		return err
	}
	if err := r.velvet(ctx, "prove", "run", spareCopy); err != nil {
		return err
	}
	return r.velvet(ctx, "host", "show", "spare")
}

// startAgent runs the host agent of the spare machine.
func (r *run) startAgent() error {
	log, err := os.Create(r.path("spare", "agent.log"))
	if err != nil {
		return err
	}
	defer func() { _ = log.Close() }()
	cmd := exec.Command(r.Program, "host", "serve", "--home", r.path("spare"))
	cmd.Stderr = log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	r.say("spare$ velvet host serve\n\n")
	if err := cmd.Start(); err != nil {
		return err
	}
	r.agent = &service{cmd: cmd, pid: r.path("agent.pid"), ended: make(chan struct{})}
	go r.agent.wait(strings.NewReader(""), make(chan string, 1))
	return os.WriteFile(r.agent.pid, []byte(strconv.Itoa(cmd.Process.Pid)), 0o600)
}
