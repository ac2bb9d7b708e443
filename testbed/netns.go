package testbed

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"

	"github.com/stretchr/testify/require"
)

// Machine is a network namespace of its own, joined to ours by one cable: for what runs there this machine is another one.
type Machine struct {
	bed   *Bed
	name  string
	cable string // our end
	// Ours is the address of this machine there, and Theirs that of the machine.
	Ours, Theirs string
}

// machines counts those of this process.
var machines atomic.Int32

// Machine makes one. The test is skipped where that is not allowed, but not in CI, which is root.
func (b *Bed) Machine() *Machine {
	if os.Geteuid() != 0 {
		if os.Getenv("CI") != "" {
			require.Fail(b, "CI runs as root, and makes network namespaces")
		}
		b.Skip("only root makes network namespaces")
	}
	const most, apart = 250, 50
	n := (os.Getpid() + apart*int(machines.Add(1))) % most // of two test processes at once each has its own
	m := &Machine{bed: b, name: fmt.Sprintf("velvet-%d", n), cable: fmt.Sprintf("velvet%d", n),
		Ours: fmt.Sprintf("10.213.%d.1", n), Theirs: fmt.Sprintf("10.213.%d.2", n)}
	b.Cleanup(func() {
		_ = exec.Command("ip", "link", "del", m.cable).Run()
		_ = exec.Command("ip", "netns", "del", m.name).Run()
	})
	inside := m.cable + "i"
	for _, args := range []string{
		"netns add " + m.name,
		"link add " + m.cable + " type veth peer name " + inside,
		"link set " + inside + " netns " + m.name,
		"addr add " + m.Ours + "/24 dev " + m.cable,
		"link set " + m.cable + " up",
		"-n " + m.name + " addr add " + m.Theirs + "/24 dev " + inside,
		"-n " + m.name + " link set " + inside + " up",
		"-n " + m.name + " link set lo up",
		"-n " + m.name + " route add default via " + m.Ours, // our other addresses
	} {
		m.ip(args)
	}
	return m
}

func (m *Machine) ip(args string) {
	out, err := exec.Command("ip", strings.Fields(args)...).CombinedOutput()
	require.NoError(m.bed, err, "ip %s: %s", args, out)
}

// Unplug pulls the cable out.
func (m *Machine) Unplug() { m.ip("link set " + m.cable + " down") }

// Plug puts it back.
func (m *Machine) Plug() { m.ip("link set " + m.cable + " up") }

// Slow has no more than a rate, as tc writes it, pass through the cable to the machine, until Fast.
func (m *Machine) Slow(rate string) {
	out, err := exec.Command("tc", "qdisc", "add", "dev", m.cable, "root", "tbf", "rate", rate, "burst", "32k", "latency", "400ms").
		CombinedOutput()
	require.NoError(m.bed, err, string(out))
}

// Fast ends Slow.
func (m *Machine) Fast() {
	out, err := exec.Command("tc", "qdisc", "del", "dev", m.cable, "root").CombinedOutput()
	require.NoError(m.bed, err, string(out))
}

// Inside gives a command as it runs on the machine.
func (m *Machine) Inside(args ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", m.name}, args...)...)
}
