package feed

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/core/layout"
	"velvetrewind/core/pg"
	"velvetrewind/engine/catalog/seal"
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
