package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/engine/restore/feed"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/vault"
	"velvetrewind/testbed"
)

// newKey writes a key beside the one of the store.
func (s *stage) newKey(name string) string {
	identity, err := age.GenerateX25519Identity()
	require.NoError(s, err)
	path := s.Path(name)
	require.NoError(s, os.WriteFile(path, []byte(identity.String()+"\n"), 0o600))
	return path
}

// rekey changes the store's key. An earlier program that `make attacks` compares with asks for no confirmation.
func (s *stage) rekey(service *testbed.Service, key string) testbed.Result {
	r := service.Velvet("store", "rekey", "--to", key, "--confirm", s.Path("home", "store"))
	if strings.Contains(r.Err, "unknown flag") {
		return service.Velvet("store", "rekey", "--to", key)
	}
	return r
}

// TestKeysChangedTwice has two services change the key of their store, the second of which has not seen what
// the first did, and writes in between: whatever the outcome, all that was written can be read with the key
// that was changed to last.
func TestKeysChangedTwice(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--adopt-store")
	s.protect()
	first, second := s.service, s.service.Another("second-home")
	second.Start()
	a, b := s.newKey("key-a"), s.newKey("key-b")
	require.Zero(t, s.rekey(first, a).Code)
	s.take()
	last := a
	if s.rekey(second, b).Code == 0 {
		last = b
	}
	s.take()
	first.Stop()
	second.Stop()
	for _, service := range []*testbed.Service{first, second} {
		service.StoreKey = last
		service.With("--adopt-store", "--store", s.Path("home", "store"), "--copies", s.Path("home", "copies"))
	}
	first.Start()
	audit := first.Velvet("store", "audit", "--full").Out
	testbed.Attack(t, "accident, the key is changed by two services at once, and what one wrote is lost",
		!strings.Contains(audit, "and nothing else"))
}

// tryToStart starts the service, and ends it again if it runs.
func (s *stage) tryToStart() (said string, started bool) {
	start := exec.Command("timeout", "20", s.service.Program(), "serve", "--listen", "127.0.0.1:0", "--store-key", s.service.StoreKey)
	start.Env = append(os.Environ(), "VELVET_HOME="+s.Path("home"), "VELVET_CATALOGUE="+s.service.Catalogue)
	out, err := start.CombinedOutput()
	const overTime = 124 // of timeout
	return string(out), err == nil || start.ProcessState.ExitCode() == overTime
}

// TestForgedKeys replaces the store's record by one that somebody made who knows only the public key: the
// service does not start to write with keys that the forger knows.
func TestForgedKeys(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.service.Stop()
	path := s.Path("home", "store", store.NameKey)
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	var genuine, forged vault.StoreRecord
	require.NoError(t, json.Unmarshal(content, &genuine))
	key, err := vault.LoadKey(s.service.StoreKey)
	require.NoError(t, err)
	elsewhere, err := dir.Open(t.TempDir(), -1)
	require.NoError(t, err)
	other, err := vault.Open(t.Context(), elsewhere, vault.Options{Key: key, Installation: genuine.Installation})
	require.NoError(t, err)
	forged = other.Record()
	forged.ID, forged.Rekeyed = genuine.ID, genuine.Rekeyed.Add(time.Hour)
	forged.Sum = ""
	if genuine.Tag == "" { // of an earlier program
		forged.Tag = ""
	}
	content, err = json.MarshalIndent(forged, "", "  ")
	require.NoError(t, err)
	if genuine.Sum != "" {
		sum := sha256.Sum256(content)
		forged.Sum = hex.EncodeToString(sum[:])
		content, err = json.MarshalIndent(forged, "", "  ")
		require.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(path, content, 0o600))
	require.NoError(t, os.WriteFile(s.Path("home", "store", store.SpareKey), content, 0o600))
	said, started := s.tryToStart()
	testbed.Attack(t, "writer of the store, a record of keys made from the public key alone", started)
	assert.Contains(t, said, "somebody has replaced it")
}

// TestTicketsEnd calls for WAL with what a copy was given, while it stands and when it has been discarded.
func TestTicketsEnd(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.take()
	s.captured()
	k, _ := s.restore("latest")
	content, err := os.ReadFile(filepath.Join(k.Directory, "ticket.json"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(k.Directory, "ticket.json"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm(), "the servers' OS user alone reads it")
	var ticket feed.Ticket
	require.NoError(t, json.Unmarshal(content, &ticket))
	call := func(path string) int {
		request, err := http.NewRequest(http.MethodGet, s.service.URL+path, nil)
		if err != nil {
			return 0
		}
		request.Header.Set("Authorization", "Bearer "+ticket.Token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			return 0
		}
		_ = answer.Body.Close()
		return answer.StatusCode
	}
	segment := "/api/v1/copies/" + k.ID + "/feed/" + k.Plan.First
	s.Eventually("the segment is in the store", func() bool { return call(segment) == http.StatusOK })
	testbed.Attack(t, "owner of a copy, its token elsewhere in the API", call("/api/v1/clusters") != http.StatusUnauthorized)
	s.discard(k)
	testbed.Attack(t, "owner of a copy, its token after it was discarded", call(segment) != http.StatusUnauthorized)
}

// thief is a server that refuses TLS and asks whoever comes for the password in the clear.
type thief struct {
	listener net.Listener
	mu       sync.Mutex
	stolen   []string
	asked    int
}

func newThief(t *testing.T, address string) *thief {
	listener, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
	require.NoError(t, err)
	th := &thief{listener: listener}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go th.receive(conn)
		}
	}()
	return th
}

func (th *thief) receive(conn net.Conn) {
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
	th.mu.Lock()
	th.asked++
	th.mu.Unlock()
	back := pgproto3.NewBackend(conn, conn)
	for {
		m, err := back.ReceiveStartupMessage()
		if err != nil {
			return
		}
		if _, ok := m.(*pgproto3.StartupMessage); ok {
			break
		}
		if _, err := conn.Write([]byte("N")); err != nil {
			return
		}
	}
	back.Send(&pgproto3.AuthenticationCleartextPassword{})
	if back.Flush() != nil || back.SetAuthType(pgproto3.AuthTypeCleartextPassword) != nil {
		return
	}
	if m, err := back.Receive(); err == nil {
		if p, ok := m.(*pgproto3.PasswordMessage); ok {
			th.mu.Lock()
			th.stolen = append(th.stolen, p.Password)
			th.mu.Unlock()
		}
	}
}

// port of the thief, to which nobody has come yet.
func (th *thief) port() int { return th.listener.Addr().(*net.TCPAddr).Port }

// took tells whether anybody gave a password, and that somebody was asked.
func (th *thief) took(t *testing.T, password string) bool {
	th.mu.Lock()
	defer th.mu.Unlock()
	require.Positive(t, th.asked, "nobody came")
	return slices.Contains(th.stolen, password)
}

// network is an address of this machine that is not its loopback.
func network(t *testing.T) string {
	addresses, err := net.InterfaceAddrs()
	require.NoError(t, err)
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && n.IP.To4() != nil && !n.IP.IsLoopback() {
			return n.IP.String()
		}
	}
	t.Skip("this machine has only a loopback")
	return ""
}

// TestStolenPasswords has clusters registered with servers that do not prove who they are, and connection
// strings with passwords in them.
func TestStolenPasswords(t *testing.T) {
	const mine, ours = "what only the DBA knows", "of the catalogue alone"
	away := network(t)
	t.Setenv("PGPASSWORD", ours)
	s := newStage(t)
	add := func(name, connect, password string) testbed.Result {
		args := []string{"cluster", "add", name, "--connect", connect, "--no-base"}
		if password != "" {
			args = append(args, "--password-file", "-")
		}
		return s.service.VelvetWith(password+"\n", args...)
	}
	for _, c := range []struct{ attack, address, password, steals string }{
		{"network, a server without TLS asks for the password in the clear", away, mine, mine},
		{"another process on this host, asks for the password in the clear", "127.0.0.1", mine, mine},
		{"whoever is registered, PGPASSWORD of the service, over the network", away, "", ours},
		{"whoever is registered, PGPASSWORD of the service, on this host", "127.0.0.1", "", ours},
	} {
		th := newThief(t, c.address)
		r := add("thief", fmt.Sprintf("host=%s port=%d user=velvet dbname=postgres", c.address, th.port()), c.password)
		assert.NotZero(t, r.Code, c.attack)
		assert.NotContains(t, r.Out+r.Err, c.steals)
		testbed.Attack(t, c.attack, th.took(t, c.steals))
	}
	for _, connect := range []string{"password = '" + rolePassword + "'", "password\t=\t'" + rolePassword + "'", "PASSWORD='" +
		rolePassword + "'"} {
		name := fmt.Sprintf("ferries%d", len(connect))
		r := add(name, s.ferries.DSN("velvet", "postgres")+" "+connect, "")
		shown := s.service.Velvet("cluster", "show", name, "--output", "json")
		testbed.Attack(t, "accident, a connection string with "+strings.ReplaceAll(strings.ReplaceAll(connect, rolePassword, "…"), "\t",
			"<tab>")+" is kept and shown", r.Code == 0 || strings.Contains(shown.Out, rolePassword))
		assert.Contains(t, r.Err, "holds a password")
	}
}

// TestForgedFrame puts a frame into a store that is not encrypted which says that it holds 2 GiB: no room is made
// for it by who reads it.
func TestForgedFrame(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--store-key", "")
	s.protect()
	s.take()
	manifests, err := filepath.Glob(s.Path("home", "store", "clusters", "*", "bases", "*", "manifest"))
	require.NoError(t, err)
	require.Len(t, manifests, 1)
	content, err := os.ReadFile(manifests[0])
	require.NoError(t, err)
	header, err := layout.ReadHeader(bytes.NewReader(content))
	require.NoError(t, err)
	block := binary.AppendUvarint(nil, 2<<30) // an S2 block begins with how much it holds
	block = append(block, 0, 0, 0, 0)
	frame := append(make([]byte, layout.FrameHeader), block...)
	frame[0] = byte(layout.S2)
	binary.LittleEndian.PutUint32(frame[4:], layout.ExtentSize)
	binary.LittleEndian.PutUint32(frame[8:], uint32(len(block)))
	var forged bytes.Buffer
	w := layout.NewObjectWriter(&forged, header, nil)
	_, err = w.WriteFrame(frame, layout.Hash{})
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(manifests[0], forged.Bytes(), 0o640))
	peak := func() (kiB int) {
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.service.PID()))
		require.NoError(t, err)
		_, after, _ := strings.Cut(string(status), "VmPeak:")
		_, err = fmt.Sscan(after, &kiB)
		require.NoError(t, err)
		return kiB
	}
	before := peak()
	r := s.service.Velvet("store", "audit", "--full")
	testbed.Attack(t, "writer of a store that is not encrypted, a frame that says it holds 2 GiB", peak()-before > 1<<20)
	assert.Contains(t, r.Out, "damaged")
}

// TestWhatIsNotShared asks one service for the latest while the other, which captures, is frozen with WAL that only it has: what
// is in the store must not pass for the latest. Once the other goes on, it is shared, and planned to.
func TestWhatIsNotShared(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--adopt-store")
	s.protect()
	s.take()
	stored := s.commit(1)
	s.ferries.Exec("postgres", "select pg_switch_wal()")
	s.captured()
	s.Eventually("the commit is in the store", func() bool { k := s.cluster(); return k.Capture.Stored >= k.Capture.Flushed-16<<20 })
	first, second := s.service, s.service.Another("second-home")
	second.Start()
	unshared := s.commit(2)
	s.captured()
	require.NoError(t, syscall.Kill(first.PID(), syscall.SIGSTOP))
	thaw := func() { _ = syscall.Kill(first.PID(), syscall.SIGCONT) }
	t.Cleanup(thaw)
	s.service = second
	if r := second.Velvet("restore", "plan", "ferries", "latest"); r.Code == 0 { // it has taken over meanwhile
		assert.Contains(t, r.Out, "tx "+unshared)
	} else {
		assert.Contains(t, r.Err, "the newest WAL cannot be read by this instance")
		assert.Contains(t, r.Err, "or ask for a moment before lsn")
	}
	assert.Contains(t, second.Must("restore", "plan", "ferries", "before tx "+stored), "tx "+stored)
	thaw()
	s.Eventually("what one of them has is planned to", func() bool {
		return strings.Contains(second.Velvet("restore", "plan", "ferries", "latest").Out, "tx "+unshared)
	})
	s.service = first
}
