package s3

import (
	"context"
	"encoding/pem"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/store"
	"velvetrewind/engine/store/conformance"
)

var (
	ctx  = context.Background()
	keys = Keys{Access: "AKID", Secret: "tide tables"}
)

// standIn serves an empty bucket; wrap may disturb what is answered.
func standIn(t *testing.T, wrap func(http.Handler) http.Handler) *httptest.Server {
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("ferries"))
	handler := gofakes3.New(memory).Server()
	if wrap != nil {
		handler = wrap(handler)
	}
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	return server
}

func open(t *testing.T, server *httptest.Server) *Store {
	s, err := Open(ctx, "s3://ferries/deep/down?region=tidal-1&endpoint="+server.URL, keys)
	require.NoError(t, err)
	return s
}

func TestConformance(t *testing.T) {
	s := open(t, standIn(t, nil))
	conformance.Run(t, s)
	conformance.Put(t, s, "kept", "inside of the prefix")
	other, err := Open(ctx, strings.Replace("s3://ferries/other?region=tidal-1&endpoint=X", "X", s.client.EndpointURL().String(), 1), keys)
	require.NoError(t, err)
	assert.Empty(t, conformance.Keys(t, other, ""), "prefixes keep stores of one bucket apart")
}

// TestBrokenConnections cuts every answer to a read after some bytes.
func TestBrokenConnections(t *testing.T) {
	var cut, reads atomic.Int64
	s := open(t, standIn(t, func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodGet && r.Header.Get("Range") != "" && cut.Load() >= 0 {
				reads.Add(1)
				w = &cutting{w, cut.Load()}
			}
			next.ServeHTTP(w, r)
		})
	}))
	content := strings.Repeat("ebb and flood ", 20_000)
	conformance.Put(t, s, "one", content)
	cut.Store(100_000)
	r, err := s.Open(ctx, "one", 14)
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, content[14:], string(got), "taken up where it broke")
	assert.EqualValues(t, 3, reads.Load())
	cut.Store(0)
	_, err = io.ReadAll(r)
	require.NoError(t, err, "at its end nothing more is asked for")
	r, err = s.Open(ctx, "one", 0)
	require.NoError(t, err)
	_, err = io.ReadAll(r)
	assert.ErrorContains(t, err, "read one from 0 on", "given up after some tries")
}

// cutting ends a body early, as a lost connection does.
type cutting struct {
	http.ResponseWriter
	left int64
}

func (c *cutting) Write(p []byte) (int, error) {
	if int64(len(p)) > c.left {
		_, _ = c.ResponseWriter.Write(p[:c.left])
		if f, ok := c.ResponseWriter.(http.Flusher); ok {
			f.Flush()
		}
		panic(http.ErrAbortHandler)
	}
	c.left -= int64(len(p))
	return c.ResponseWriter.Write(p)
}

func TestRefusals(t *testing.T) {
	refuse := func(status int, code string) *httptest.Server {
		return standIn(t, func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodHead || r.Method == http.MethodGet {
					next.ServeHTTP(w, r)
					return
				}
				w.WriteHeader(status)
				_, _ = io.WriteString(w, "<Error><Code>"+code+"</Code><Message>no</Message></Error>")
			})
		})
	}
	for code, says := range map[string]string{"AccessDenied": "check its keys", "QuotaExceeded": store.ErrFull.Error()} {
		s := open(t, refuse(http.StatusForbidden, code))
		w, err := s.Create(ctx, "a/one")
		require.NoError(t, err)
		_, _ = io.WriteString(w, "low tide")
		err = w.Commit()
		assert.ErrorContains(t, err, says)
		assert.NotContains(t, err.Error(), keys.Secret)
		assert.Empty(t, conformance.Keys(t, s, ""))
	}
	server := standIn(t, nil)
	_, err := Open(ctx, "s3://nowhere?region=x&endpoint="+server.URL, keys)
	assert.ErrorContains(t, err, `there is no bucket "nowhere"; make it first`)
}

func TestKeysAreFound(t *testing.T) {
	file := filepath.Join(t.TempDir(), "keys")
	require.NoError(t, os.WriteFile(file, []byte("[default]\naws_access_key_id = AKID\naws_secret_access_key = tide tables\n"), 0o600))
	found, err := FindKeys(file)
	require.NoError(t, err)
	assert.Equal(t, keys, found)
	t.Setenv("AWS_ACCESS_KEY_ID", "OTHER")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "neap")
	found, err = FindKeys("")
	require.NoError(t, err)
	assert.Equal(t, Keys{Access: "OTHER", Secret: "neap"}, found)
	_, err = FindKeys(filepath.Join(t.TempDir(), "none"))
	assert.ErrorContains(t, err, "no keys for the store were found")
}

func TestLocations(t *testing.T) {
	for text, says := range map[string]string{
		"s3://":                                  "write it as s3://BUCKET",
		"s3://me:secret@b?endpoint=https://h":    "write it as s3://BUCKET",
		"s3://b":                                 "needs endpoint=",
		"s3://b?endpoint=h:9000":                 "needs endpoint=",
		"s3://b?endpoint=https://h&secret=x":     `says "secret"`,
		"s3://b?endpoint=https://h&style=curly":  "choose path",
		"s3://b?endpoint=https://h&ca=/not/here": "CA file",
	} {
		_, err := Open(ctx, text, keys)
		assert.ErrorContains(t, err, says, text)
		assert.NotContains(t, err.Error(), "me:secret")
	}
	l, err := parse("s3://b/p/q/?endpoint=https://h:9000&region=r&style=host")
	require.NoError(t, err)
	assert.Equal(t, location{bucket: "b", prefix: "p/q/", endpoint: "h:9000", region: "r", secure: true}, l)
}

// TestOwnAuthority reaches a store whose certificate only a CA file vouches for.
func TestOwnAuthority(t *testing.T) {
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("ferries"))
	server := httptest.NewTLSServer(gofakes3.New(memory).Server())
	t.Cleanup(server.Close)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600))
	s, err := Open(ctx, "s3://ferries?region=r&ca="+ca+"&endpoint="+server.URL, keys)
	require.NoError(t, err)
	conformance.Put(t, s, "one", "low tide")
	assert.Equal(t, []string{"one"}, conformance.Keys(t, s, ""))
}
