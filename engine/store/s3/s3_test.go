package s3

import (
	"context"
	"encoding/pem"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

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
		"s3://":                                      "write it as s3://BUCKET",
		"s3://me:secret@b?endpoint=https://h":        "write it as s3://BUCKET",
		"s3://b":                                     "needs endpoint=",
		"s3://b?endpoint=h:9000":                     "needs endpoint=",
		"s3://b?endpoint=https://h&secret=x":         `says "secret"`,
		"s3://b?endpoint=https://h&addressing=curly": "choose path",
		"s3://b?endpoint=https://h&ca=/not/here":     "CA file",
	} {
		_, err := Open(ctx, text, keys)
		assert.ErrorContains(t, err, says, text)
		assert.NotContains(t, err.Error(), "me:secret")
	}
	l, err := parse("s3://b/p/q/?endpoint=https://h:9000&region=r&addressing=virtual")
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

// locking answers for object lock, which the stand-in does not know; name by name it holds until when each is locked.
type locking struct {
	next  http.Handler
	mu    sync.Mutex
	until map[string]time.Time
	rule  string
	deny  bool
}

func (l *locking) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	q := r.URL.Query()
	switch {
	case q.Has("object-lock") && l.deny:
		w.WriteHeader(http.StatusForbidden)
		_, _ = io.WriteString(w, "<Error><Code>AccessDenied</Code></Error>")
	case q.Has("object-lock"):
		_, _ = io.WriteString(w, "<ObjectLockConfiguration><ObjectLockEnabled>Enabled</ObjectLockEnabled>"+
			l.rule+"</ObjectLockConfiguration>")
	case q.Has("retention") && r.Method == http.MethodPut:
		var body struct{ RetainUntilDate time.Time }
		if err := xml.NewDecoder(r.Body).Decode(&body); err != nil || l.deny {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		l.until[r.URL.Path] = body.RetainUntilDate
	case q.Has("retention"):
		if at, ok := l.until[r.URL.Path]; ok {
			_, _ = fmt.Fprintf(w, "<Retention><Mode>COMPLIANCE</Mode><RetainUntilDate>%s</RetainUntilDate></Retention>",
				at.Format(time.RFC3339))
			return
		}
		w.WriteHeader(http.StatusNotFound)
		_, _ = io.WriteString(w, "<Error><Code>NoSuchObjectLockConfiguration</Code></Error>")
	default:
		if at := r.Header.Get("X-Amz-Object-Lock-Retain-Until-Date"); at != "" && r.Header.Get("X-Amz-Object-Lock-Mode") == "COMPLIANCE" {
			l.until[r.URL.Path], _ = time.Parse(time.RFC3339, at)
		}
		l.next.ServeHTTP(w, r)
	}
}

// TestObjectLock puts objects in every way into a bucket whose rule locks them for 20 days, and lets time pass.
func TestObjectLock(t *testing.T) {
	l := &locking{until: make(map[string]time.Time),
		rule: "<Rule><DefaultRetention><Mode>COMPLIANCE</Mode><Days>20</Days></DefaultRetention></Rule>"}
	server := standIn(t, func(next http.Handler) http.Handler { l.next = next; return l })
	s := open(t, server)
	now := time.Now()
	conformance.Put(t, s, "small", "ebb")
	conformance.Put(t, s, "parts", strings.Repeat("ebb and flood ", 1_500_000))
	conformance.Put(t, s, "deleted", "flood")
	require.NoError(t, s.PutNew(ctx, "new", []byte("slack")))
	const day = 24 * time.Hour
	path := func(key string) string { return "/ferries/deep/down/" + key }
	for _, key := range []string{"small", "parts", "new", "deleted"} {
		assert.WithinDuration(t, now.Add(20*day), l.until[path(key)], time.Minute, key)
	}
	require.NoError(t, s.Delete(ctx, "deleted"))
	atLeast, _ := s.Locked()
	assert.Equal(t, 10*day, atLeast)

	extend := func(after time.Duration, want int) {
		t.Helper()
		n, err := s.ExtendLocks(ctx, now.Add(after), day)
		require.NoError(t, err)
		assert.Equal(t, want, n, "after %s", after)
	}
	extend(0, 0)
	extend(8*day, 0)
	l.until[path("small")] = now.Add(9 * day) // somebody who may has shortened it
	delete(l.until, path("new"))
	extend(10*day, 3)
	for _, key := range []string{"small", "parts", "new"} {
		assert.WithinDuration(t, now.Add(30*day), l.until[path(key)], time.Minute, key)
	}
	assert.WithinDuration(t, now.Add(20*day), l.until[path("deleted")], time.Minute, "runs out")
	extend(11*day, 0)
	l.deny = true
	_, err := s.ExtendLocks(ctx, now.Add(40*day), day)
	assert.ErrorContains(t, err, "refuses us")
	denied := open(t, server)
	atLeast, problem := denied.Locked()
	assert.Zero(t, atLeast)
	assert.Contains(t, problem, "s3:GetBucketObjectLockConfiguration")

	l.deny, l.rule = false, ""
	atLeast, _ = open(t, server).Locked()
	assert.Equal(t, 7*day, atLeast, "without a rule of the bucket's own")
	atLeast, problem = open(t, standIn(t, nil)).Locked()
	assert.Zero(t, atLeast)
	assert.Empty(t, problem, "a bucket without object lock")
}
