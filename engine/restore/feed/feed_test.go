package feed

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"hash/crc32"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/dir"
	"velvetrewind/engine/store/place"
	"velvetrewind/engine/store/vault"
)

const size = pg.SegmentSize(1 << 20)

func name(n uint64) string { return pg.Segment{Timeline: 1, Number: n}.Name(size) }

// kit is a store with segment 5 whole and 6 cut, a feed with segment 7, and a ticket for up to 7.
func kit(t *testing.T, service string) (ticket, to string) {
	root := t.TempDir()
	s, err := dir.Open(filepath.Join(root, "store"), -1)
	require.NoError(t, err)
	for n, length := range map[uint64]int{5: int(size), 6: 5000} {
		_, err := vault.Reading(s, nil, nil).Put(context.Background(), store.SegmentKey("c", 1, name(n)), layout.Zstd,
			bytes.Repeat([]byte{byte(n)}, length))
		require.NoError(t, err)
	}
	feed := filepath.Join(root, "feed")
	require.NoError(t, os.Mkdir(feed, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(feed, name(7)), []byte{7, 7}, 0o600))
	b, err := json.Marshal(Ticket{Copy: "k", Cluster: "c", Service: service, Token: "t", Store: place.Place{Location: s.String()},
		Feed: feed, Size: size, Needed: 7, Timeline: 1})
	require.NoError(t, err)
	ticket = filepath.Join(root, "ticket.json")
	require.NoError(t, os.WriteFile(ticket, b, 0o600))
	return ticket, filepath.Join(root, "RECOVERYXLOG")
}

func deliver(t *testing.T, ticket, name, to string) ([]byte, error) {
	_ = os.Remove(to)
	err := Deliver(context.Background(), ticket, name, to)
	content, readErr := os.ReadFile(to)
	if err != nil {
		assert.ErrorIs(t, readErr, os.ErrNotExist, "a failed delivery leaves nothing")
	}
	left, _ := filepath.Glob(to + ".*")
	assert.Empty(t, left)
	return content, err
}

func TestDeliveryWithoutTheService(t *testing.T) {
	for _, service := range []string{"", "http://127.0.0.1:1"} {
		ticket, to := kit(t, service)
		for n, length := range map[uint64]int{5: int(size), 6: 5000, 7: 2} {
			content, err := deliver(t, ticket, name(n), to)
			require.NoError(t, err)
			require.Len(t, content, int(size), "a segment has its full size")
			assert.Equal(t, bytes.Repeat([]byte{byte(n)}, length), content[:length])
			assert.Equal(t, make([]byte, int(size)-length), content[length:], "what was never written is zero")
		}
		_, err := deliver(t, ticket, name(4), to)
		assert.ErrorContains(t, err, "is needed and was not found", "a gap within the plan is no end of the WAL")
		for _, beyond := range []string{name(8), "00000002.history", name(5) + ".00000028.backup"} {
			_, err = deliver(t, ticket, beyond, to)
			assert.ErrorIs(t, err, ErrNoSuchSegment, beyond)
		}
	}
}

func TestDeliveryFromTheService(t *testing.T) {
	answer := func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer t", r.Header.Get("Authorization"))
		switch filepath.Base(r.URL.Path) {
		case name(5):
			_, _ = w.Write(bytes.Repeat([]byte{9}, int(size)))
		case name(6): // breaks off
			w.Header().Set("Content-Length", "1048576")
			_, _ = w.Write([]byte{9})
		case name(8):
			http.NotFound(w, r)
		default:
			http.Error(w, "trouble", http.StatusInternalServerError)
		}
	}
	server := httptest.NewServer(http.HandlerFunc(answer))
	defer server.Close()
	ticket, to := kit(t, server.URL)
	content, err := deliver(t, ticket, name(5), to)
	require.NoError(t, err)
	assert.Equal(t, byte(9), content[0], "the service is asked first")
	content, err = deliver(t, ticket, name(6), to)
	require.NoError(t, err, "when the service breaks off, the store is read")
	assert.Equal(t, byte(6), content[0])
	_, err = deliver(t, ticket, name(8), to)
	assert.ErrorIs(t, err, ErrNoSuchSegment)
	_, err = deliver(t, ticket, name(4), to)
	assert.ErrorContains(t, err, "is needed")
}

// TestDeliveryOverTLS asks the service that shows the certificate of the ticket, and no other.
func TestDeliveryOverTLS(t *testing.T) {
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte{9}) }))
	defer server.Close()
	ticket, to := kit(t, server.URL)
	content, err := deliver(t, ticket, name(5), to)
	require.NoError(t, err)
	assert.Equal(t, byte(5), content[0], "from the store: the service could be anybody")
	b, err := os.ReadFile(ticket)
	require.NoError(t, err)
	var pinned Ticket
	require.NoError(t, json.Unmarshal(b, &pinned))
	pinned.Certificate = server.Certificate().Raw
	b, err = json.Marshal(pinned)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(ticket, b, 0o600))
	content, err = deliver(t, ticket, name(5), to)
	require.NoError(t, err)
	assert.Equal(t, byte(9), content[0])
}

func TestTokensAreForOneCopy(t *testing.T) {
	k := seal.Key{1}
	assert.Equal(t, Token(k, "a"), Token(k, "a"))
	assert.NotEqual(t, Token(k, "a"), Token(k, "b"))
	assert.NotEqual(t, Token(k, "a"), Token(seal.Key{2}, "a"))
}

// TestAMachineThatWasStartedAnew gets nothing for a copy that was not flushed.
func TestAMachineThatWasStartedAnew(t *testing.T) {
	ticket, to := kit(t, "http://127.0.0.1:1")
	content, err := os.ReadFile(ticket)
	require.NoError(t, err)
	var k Ticket
	require.NoError(t, json.Unmarshal(content, &k))
	k.Unflushed = true
	content, err = json.Marshal(k)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(ticket, content, 0o600))
	for range 2 {
		_, err = deliver(t, ticket, name(5), to)
		require.NoError(t, err)
	}
	require.NoError(t, os.WriteFile(filepath.Join(k.Feed, "boot"), []byte("of yesterday"), 0o600))
	_, err = deliver(t, ticket, name(5), to)
	require.ErrorContains(t, err, "velvet copy step")
	assert.NotErrorIs(t, err, ErrNoSuchSegment, "it must end recovery")
}

// control is a control file with nothing in it but what makes it one.
func control(t *testing.T) []byte {
	v := pg.Versions()[0]
	b := make([]byte, pg.ControlFileSize)
	binary.LittleEndian.PutUint32(b[8:], v.ControlVersion)
	binary.LittleEndian.PutUint32(b[12:], v.CatalogVersion)
	binary.LittleEndian.PutUint32(b[216:], pg.BlockSize)
	binary.LittleEndian.PutUint32(b[228:], uint32(size))
	binary.LittleEndian.PutUint32(b[v.ControlCRC:], crc32.Checksum(b[:v.ControlCRC], pg.Castagnoli))
	_, err := pg.ParseControl(b)
	require.NoError(t, err)
	return b
}

// TestSegmentsMadeReady: a server is given the same whether a segment was ready, was not, or does not go on where the last one ended.
func TestSegmentsMadeReady(t *testing.T) {
	for round, part := range []*Part{nil, {First: 5, Lacks: "lacks", Control: "control"}} {
		ticket, to := kit(t, "")
		root := filepath.Dir(ticket)
		var k Ticket
		content, err := os.ReadFile(ticket)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(content, &k))
		if k.Part = part; part != nil {
			part.Lacks, part.Control = filepath.Join(root, "lacks"), filepath.Join(root, "control")
			require.NoError(t, os.WriteFile(part.Lacks, nil, 0o600))
			require.NoError(t, os.WriteFile(part.Control, control(t), 0o600))
			content, err = json.Marshal(k)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(ticket, content, 0o600))
		}
		as := ""
		if os.Geteuid() == 0 {
			as = "postgres"
		}
		h, err := host.Local(as, "")
		require.NoError(t, err)
		here, err := h.Files(root)
		require.NoError(t, err)
		a := &Ahead{Ticket: k, Files: here, Feed: "feed", Open: k.open, Control: "control",
			Segments: []pg.Segment{{Timeline: 1, Number: 5}, {Timeline: 1, Number: 6}, {Timeline: 1, Number: 7}}}
		require.NoError(t, a.Prepare())
		first, err := deliver(t, ticket, name(5), to) // nothing is ready yet
		require.NoError(t, err)
		_, err = deliver(t, ticket, "00000002.history", to)
		require.ErrorIs(t, err, ErrNoSuchSegment)
		if as != "" { // the server's own user delivers, and not root
			u, err := user.Lookup(as)
			require.NoError(t, err)
			require.NoError(t, exec.Command("chown", "-R", u.Uid+":"+u.Gid, root).Run())
		}
		require.NoError(t, a.Run(t.Context()))
		assert.NoFileExists(t, filepath.Join(root, a.dir(name(5))), "the server has it already")
		lies := filepath.Join(root, a.dir(name(6)))
		if part != nil {
			require.NoError(t, os.WriteFile(lies+".in", []byte("of another"), 0o600))
		}
		was, err := os.Stat(lies)
		require.NoError(t, err, round)
		long := filepath.Join(root, name(6-behind))
		require.NoError(t, os.WriteFile(long, nil, 0o600))
		second, err := deliver(t, ticket, name(6), to)
		require.NoError(t, err)
		is, err := os.Stat(to)
		require.NoError(t, err)
		_, err = os.Stat(long)
		assert.Equal(t, part != nil, os.IsNotExist(err), "only a copy that is never opened gives up what was replayed long since")
		assert.Equal(t, part == nil, os.SameFile(was, is), "it was moved, where it goes on as it should")
		third, err := deliver(t, ticket, name(7), to)
		require.NoError(t, err)
		assert.NoFileExists(t, filepath.Join(root, a.dir(name(7))))
		for n, content := range [][]byte{first, second, third} {
			want := append(bytes.Repeat([]byte{byte(5 + n)}, []int{int(size), 5000, 2}[n]), make([]byte, int(size))...)[:size]
			assert.True(t, bytes.Equal(want, content), "segment %d", 5+n)
		}
		again, err := deliver(t, ticket, name(6), to) // of a server that was started anew
		require.NoError(t, err)
		assert.True(t, bytes.Equal(second, again))
	}
}
