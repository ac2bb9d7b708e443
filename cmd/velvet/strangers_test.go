package main

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"velvetrewind/engine/host"
	"velvetrewind/testbed"
)

// TestCallsOfStrangers sends what nobody should: bodies that never come, paths that no file system
// knows, questions while the catalogue is down; and looks at what is left of a session that has ended.
func TestCallsOfStrangers(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	address := strings.TrimPrefix(s.service.URL, "http://")

	// Bodies without a token are not waited for.
	var open []net.Conn
	for range 50 {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		_, err = fmt.Fprintf(c, "POST /api/v1/clusters HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: "+
			"1000\r\n\r\n{", address)
		require.NoError(t, err)
		open = append(open, c)
	}
	kept, deadline := false, time.Now().Add(30*time.Second)
	for _, c := range open {
		require.NoError(t, c.SetReadDeadline(deadline))
		answer, err := io.ReadAll(c) // to the end of the connection
		kept = kept || err != nil || !strings.Contains(string(answer), "401 Unauthorized")
		require.NoError(t, c.Close())
	}
	testbed.Attack(t, "stranger, bodies that never come hold connections", kept)

	token, err := os.ReadFile(s.Path("home", "token"))
	require.NoError(t, err)
	get := func(path string) (*http.Response, string) {
		request, err := http.NewRequest(http.MethodGet, s.service.URL+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer func() { _ = answer.Body.Close() }()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer, string(text)
	}
	answer, _ := get("/api/v1/clusters/a%00b")
	testbed.Attack(t, "caller, a NUL in a path is an error of the service", answer.StatusCode >= http.StatusInternalServerError)
	answer, _ = get("/api/v1/clusters")
	testbed.Attack(t, "who uses the browser next, answers that it has kept", answer.Header.Get("Cache-Control") != "no-store")

	// Events end with the session.
	code := s.service.Link[strings.Index(s.service.Link, "=")+1:]
	own := func(method, path, body string, cookie *http.Cookie) *http.Response {
		request, err := http.NewRequest(method, s.service.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Origin", s.service.URL)
		if cookie != nil {
			request.AddCookie(cookie)
		}
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		return answer
	}
	entered := own(http.MethodPost, "/api/v1/session", `{"code":"`+code+`"}`, nil)
	require.Equal(t, http.StatusNoContent, entered.StatusCode)
	cookie := entered.Cookies()[0]
	stream := own(http.MethodGet, "/api/v1/events", "", cookie)
	require.Equal(t, http.StatusOK, stream.StatusCode)
	lines := bufio.NewReader(stream.Body)
	_, err = lines.ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, own(http.MethodDelete, "/api/v1/session", "", cookie).StatusCode)
	ended := make(chan error, 1)
	go func() { _, err := io.Copy(io.Discard, lines); ended <- err }()
	outlive := false
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		outlive = true
	}
	testbed.Attack(t, "who has signed out, events that go on", outlive)

	// The catalogue is down: a stranger learns nothing of where it is.
	s.service.Records.Stop(host.Immediate)
	var text []byte
	for range 5 { // what is said differs when the connections that were open are used up
		request, err := http.NewRequest(http.MethodGet, s.service.URL+"/api/v1/clusters", nil)
		require.NoError(t, err)
		request.AddCookie(&http.Cookie{Name: "velvet_session", Value: "x"})
		refused, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		said, err := io.ReadAll(refused.Body)
		require.NoError(t, err)
		text = append(text, said...)
	}
	testbed.Attack(t, "stranger, learns where the catalogue is while it is down",
		strings.Contains(string(text), fmt.Sprint(s.service.Records.Port)) || strings.Contains(string(text), testbed.Superuser))
	assert.Contains(t, string(text), "the call was not checked")
}

// certificate writes a certificate for this host's loopback, and gives a client that trusts it.
func certificate(b *testbed.Bed) (cert, key string, trusting *http.Client) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(b, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(b, err)
	encoded, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(b, err)
	parsed, err := x509.ParseCertificate(der)
	require.NoError(b, err)
	cert, key = b.Path("cert.pem"), b.Path("cert.key")
	require.NoError(b, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(b, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: encoded}), 0o600))
	pool := x509.NewCertPool()
	pool.AddCert(parsed)
	return cert, key, &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}}
}

// TestPagesOfAnotherScheme signs in over TLS, and has a page act that came without: somebody on the way can make it.
func TestPagesOfAnotherScheme(t *testing.T) {
	t.Parallel()
	b := testbed.New(t)
	cert, key, client := certificate(b)
	service := b.Service("--tls-cert", cert, "--tls-key", key)
	require.True(t, strings.HasPrefix(service.URL, "https://"), service.URL)
	call := func(path, body, origin string, cookies []*http.Cookie) *http.Response {
		request, err := http.NewRequest(http.MethodPost, service.URL+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Origin", origin)
		for _, c := range cookies {
			request.AddCookie(c)
		}
		answer, err := client.Do(request)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer
	}
	entered := call("/session", `{"code":"`+service.Link[strings.Index(service.Link, "=")+1:]+`"}`, service.URL, nil)
	require.Equal(t, http.StatusNoContent, entered.StatusCode)
	require.True(t, entered.Cookies()[0].Secure)
	require.Equal(t, http.StatusCreated, call("/links", "", service.URL, entered.Cookies()).StatusCode)
	plain := call("/links", "", "http"+strings.TrimPrefix(service.URL, "https"), entered.Cookies())
	testbed.Attack(t, "network, a page without TLS at the service's address acts in a browser that is signed in with TLS",
		plain.StatusCode != http.StatusUnauthorized)
}

// TestLogins changes how a cluster is reached.
func TestLogins(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.protect()
	s.ferries.Exec("postgres", "alter role velvet password 'another'",
		"select pg_terminate_backend(pid) from pg_stat_activity where usename = 'velvet'")
	s.Eventually("the login fails", func() bool { return strings.Contains(s.cluster().Capture.Problem, "refused the login") })
	r := s.service.VelvetWith("wrong\n", "cluster", "edit", "ferries", "--password-file", "-")
	assert.Equal(t, 1, r.Code)
	other := s.Postgres("other", true)
	r = s.service.VelvetWith(testbed.Password+"\n", "cluster", "edit", "ferries", "--connect", other.DSN(testbed.Superuser, "postgres"),
		"--password-file", "-")
	assert.Contains(t, r.Err, "it is another cluster")
	r = s.service.VelvetWith("another\n", "cluster", "edit", "ferries", "--password-file", "-")
	require.Zero(t, r.Code, r.Err)
	s.streaming()
	s.commit(1)
	s.captured()
	assert.Empty(t, s.cluster().Holes)

	require.NoError(t, s.db.Close(context.Background()))
}

// TestLostKey loses the key with which the clusters' passwords are sealed.
func TestLostKey(t *testing.T) {
	t.Parallel()
	s := newStage(t, "--agents", "127.0.0.1:0")
	s.protect()
	s.service.Must("host", "add", "spare")
	s.service.Stop()
	key := s.Path("home", "key")
	require.NoError(t, os.Rename(key, key+".away"))
	said, _ := s.tryToStart()
	_, err := os.Stat(key)
	testbed.Attack(t, "accident, HOME/key is lost and silently made anew", err == nil)
	assert.Contains(t, said, "the passwords of 1 cluster are sealed with it")
	s.service.With("--new-key", "--agents", "127.0.0.1:0")
	s.service.Start()
	s.service.Must("host", "add", "quay")
	r := s.service.VelvetWith(rolePassword+"\n", "cluster", "edit", "ferries", "--password-file", "-")
	require.Zero(t, r.Code, r.Err)
	s.streaming()
	s.commit(1)
	s.captured()
	require.NoError(t, s.db.Close(context.Background()))
}
