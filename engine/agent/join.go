package agent

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"velvetrewind/engine/host"
	"velvetrewind/engine/host/identity"
)

// Enrolment is what a host sends that joins, or renews its certificate.
type Enrolment struct {
	Word    string `json:"word,omitempty"` // only to join
	Request []byte `json:"request"`        // for a certificate, in DER
}

// Enrolled is what it gets.
type Enrolled struct {
	Name        string `json:"name"`
	Certificate []byte `json:"certificate"` // DER
	Authority   []byte `json:"authority"`   // DER
}

// Where the service is asked for them.
const (
	JoinPath  = "/join"
	RenewPath = "/renew"
)

// splitWord takes a word apart into the secret and the fingerprint of the authority of the service that gave it.
func splitWord(word string) (secret, fingerprint string, err error) {
	secret, fingerprint, ok := strings.Cut(strings.TrimSpace(word), ".")
	if !ok || secret == "" || fingerprint == "" {
		return "", "", errors.New("that is no word that a service gives; ask it for one with: velvet host add NAME")
	}
	return secret, fingerprint, nil
}

// Join makes this machine a host of the service at an address, with its one-time word, and gives its name. What it may do here is
// written to a file in home, where that is not there already.
func Join(ctx context.Context, home, address, word, copies string, databases []string) (name string, err error) {
	secret, fingerprint, err := splitWord(word)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(filepath.Join(home, identityFile)); err == nil {
		return "", fmt.Errorf("this machine is a host already, by %s; remove that file to join anew", filepath.Join(home, identityFile))
	}
	if _, _, err := net.SplitHostPort(address); err != nil {
		return "", fmt.Errorf("the address of the service: %w", err)
	}
	for _, d := range databases {
		if !filepath.IsAbs(d) || filepath.Clean(d) == "/" {
			return "", fmt.Errorf("the directory of databases must be an absolute path, and not /: %q", d)
		}
	}
	if err := os.MkdirAll(home, 0o711); err != nil {
		return "", err
	}
	key, request, err := identity.NewRequest()
	if err != nil {
		return "", err
	}
	got, err := enrol(ctx, identity.Meeting(fingerprint), address, JoinPath, Enrolment{secret, request})
	if err != nil {
		return "", err
	}
	own, err := identity.NewHost(key, got.Certificate, got.Authority)
	if err != nil {
		return "", err
	}
	config := filepath.Join(home, configFile)
	if _, err := os.Stat(config); errors.Is(err, os.ErrNotExist) {
		if err := writeAside(config, fmt.Appendf(nil, template, address, copies, quoted(databases), host.DefaultTools)); err != nil {
			return "", err
		}
	}
	return got.Name, keepIdentity(home, own)
}

// quoted lists words as YAML does.
func quoted(list []string) string {
	words := make([]string, len(list))
	for i, w := range list {
		words[i] = strconv.Quote(w)
	}
	return strings.Join(words, ", ")
}

// renew gets the host a new certificate, for a new key.
func renew(ctx context.Context, own *identity.Host, address string) (*identity.Host, error) {
	key, request, err := identity.NewRequest()
	if err != nil {
		return nil, err
	}
	got, err := enrol(ctx, own.TLS("http/1.1"), address, RenewPath, Enrolment{Request: request})
	if err != nil {
		return nil, err
	}
	return identity.NewHost(key, got.Certificate, own.Authority.Raw)
}

const enrolTimeout = 30 * time.Second

func enrol(ctx context.Context, c *tls.Config, address, path string, in Enrolment) (out Enrolled, err error) {
	ctx, cancel := context.WithTimeout(ctx, enrolTimeout)
	defer cancel()
	body, err := json.Marshal(in)
	if err != nil {
		return out, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+address+path, bytes.NewReader(body))
	if err != nil {
		return out, err
	}
	r.Header.Set("Content-Type", "application/json")
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: c, DisableKeepAlives: true}}
	resp, err := client.Do(r)
	if err != nil {
		return out, fmt.Errorf("the service at %s: %w", address, err)
	}
	defer func() { _ = resp.Body.Close() }()
	const most = 1 << 20
	content, err := io.ReadAll(io.LimitReader(resp.Body, most))
	if err != nil {
		return out, err
	}
	if resp.StatusCode != http.StatusOK {
		return out, fmt.Errorf("the service at %s: %s", address, strings.TrimSpace(string(content)))
	}
	return out, json.Unmarshal(content, &out)
}
