package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// spareCopy is what the copy on the spare machine is called.
const spareCopy = "ferries-spare"

// spareMachine has a host join, and makes a copy there.
func (r *run) spareMachine(ctx context.Context) error {
	var w struct{ Word, Address string }
	if err := r.ask(ctx, &w, "host", "add", "spare"); err != nil {
		return err
	}
	r.say("$ velvet host add spare\n(a word with which one machine may join, once)\n\n")
	join := r.spare.command(r.Program, "host", "join", w.Address, "--word-file", "-", "--home", r.path("spare"), "--databases",
		r.path("ferries"))
	join.Stdin, join.Stdout, join.Stderr = strings.NewReader(w.Word+"\n"), r.Out, r.Out
	r.say("spare$ velvet host join %s --databases %s\n", w.Address, r.path("ferries"))
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
	cmd := r.spare.command(r.Program, "host", "serve", "--home", r.path("spare"))
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

// onTheSpare loses the machine of the ferries' server, and has the copy on the spare one serve in its place.
func (r *run) onTheSpare(ctx context.Context) error {
	if err := r.loseData(ctx); err != nil {
		return err
	}
	tablespace, err := filepath.Glob(r.path("ferries", "ledger", "PG_*"))
	for _, d := range tablespace {
		err = errors.Join(err, r.host.RemoveTree(d))
	}
	if err != nil {
		return err
	}
	if err := r.velvet(ctx, "copy", "step", spareCopy, "latest"); err != nil {
		return err
	}
	if err := r.velvet(ctx, "restore", "takeover", spareCopy, "--host-lost", "--confirm", "ferries"); err != nil {
		return err
	}
	r.address = r.spare.theirs
	if r.spare.name != "" {
		conn := fmt.Sprintf("host=%s port=%d user=velvet dbname=saltmarsh sslmode=disable", r.address, r.ferries.Port)
		if err := r.velvet(ctx, "cluster", "edit", "ferries", "--connect", conn, "--password-file", r.path("velvet.password")); err != nil {
			return err
		}
	}
	if err := r.allBack(ctx, "ONCEMORE"); err != nil {
		return err
	}
	if err := r.bookAs(ctx, "SPARE"); err != nil {
		return err
	}
	return r.seen(ctx)
}
