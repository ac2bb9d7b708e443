package demo

import (
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"strings"
)

// machine is another one to the network: a namespace joined to ours by one cable, where the demo may make that; else it is this one.
type machine struct {
	name  string // "" for this machine
	cable string
	// ours is the address of this machine there, and theirs its own.
	ours, theirs string
}

// makeMachine makes it for the demo in a directory, in place of what a run before there has left.
func makeMachine(dir string) machine {
	n := crc32.ChecksumIEEE([]byte(dir)) % 250
	m := machine{fmt.Sprintf("velvet-demo-%d", n), fmt.Sprintf("velvetdemo%d", n), fmt.Sprintf("10.214.%d.1", n),
		fmt.Sprintf("10.214.%d.2", n)}
	if os.Geteuid() != 0 {
		return machine{ours: "127.0.0.1", theirs: "127.0.0.1"}
	}
	m.remove()
	for _, args := range []string{
		"netns add " + m.name,
		"link add " + m.cable + " type veth peer name " + m.cable + "i",
		"link set " + m.cable + "i netns " + m.name,
		"addr add " + m.ours + "/24 dev " + m.cable,
		"link set " + m.cable + " up",
		"-n " + m.name + " addr add " + m.theirs + "/24 dev " + m.cable + "i",
		"-n " + m.name + " link set " + m.cable + "i up",
		"-n " + m.name + " link set lo up",
	} {
		if exec.Command("ip", strings.Fields(args)...).Run() != nil {
			m.remove()
			return machine{ours: "127.0.0.1", theirs: "127.0.0.1"}
		}
	}
	return m
}

func (m machine) remove() {
	if m.name != "" {
		_ = exec.Command("ip", "link", "del", m.cable).Run()
		_ = exec.Command("ip", "netns", "del", m.name).Run()
	}
}

// command runs there.
func (m machine) command(name string, args ...string) *exec.Cmd {
	if m.name == "" {
		return exec.Command(name, args...)
	}
	return exec.Command("ip", append([]string{"netns", "exec", m.name, name}, args...)...)
}

// listens is what the ferries' server is configured with, so that it could serve there, too.
func (m machine) listens() (setting, hba string) {
	if m.name == "" {
		return "127.0.0.1", ""
	}
	return "127.0.0.1, " + m.theirs, fmt.Sprintf("host all,replication all %s/24 scram-sha-256\n", m.ours)
}
