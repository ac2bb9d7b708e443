package cli

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"velvetrewind/api"
	"velvetrewind/core/problem"
)

// client talks to the service.
type client struct {
	base  string
	token string
	http  *http.Client
}

// DefaultHome is the service's home directory unless told otherwise.
func DefaultHome() string {
	if os.Geteuid() == 0 {
		return "/var/lib/velvet"
	}
	if dir, err := os.UserConfigDir(); err == nil {
		return filepath.Join(dir, "velvet")
	}
	return ".velvet"
}

// newClient finds the service and its token: the variables VELVET_URL and
// VELVET_TOKEN first, else the files in its home. VELVET_CA names the authority of a
// service with TLS that the system does not know.
func newClient(home string) (*client, error) {
	c := &client{base: os.Getenv("VELVET_URL"), token: os.Getenv("VELVET_TOKEN"), http: &http.Client{Timeout: 10 * time.Minute}}
	var err error
	if c.base == "" {
		if c.base, err = fromHome(home, "address"); err != nil {
			return nil, err
		}
	}
	if c.token == "" {
		if c.token, err = fromHome(home, "token"); err != nil {
			return nil, err
		}
	}
	c.base = strings.TrimRight(c.base, "/")
	if file := os.Getenv("VELVET_CA"); file != "" {
		return c, c.trust(file)
	}
	return c, nil
}

// trust accepts certificates that the authority in a PEM file has signed.
func (c *client) trust(file string) error {
	content, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("VELVET_CA: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(content) {
		return fmt.Errorf("VELVET_CA: %s holds no certificate", file)
	}
	c.http.Transport = &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}
	return nil
}

func fromHome(home, file string) (string, error) {
	content, err := os.ReadFile(filepath.Join(home, file))
	if errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("no service has its home in %s; start one with: velvet serve --home %s, or name its home with --home or "+
			"VELVET_HOME", home, home)
	}
	if err != nil {
		return "", fmt.Errorf("%w; run this as the user that the service runs as, or set VELVET_URL and VELVET_TOKEN", err)
	}
	return strings.TrimSpace(string(content)), nil
}

// call makes a request and decodes the answer into out, if out is not nil.
func (c *client) call(ctx context.Context, method, path string, in, out any) error {
	var content io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		content = bytes.NewReader(b)
	}
	resp, err := c.do(ctx, method, path, content)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	if out == nil || resp.StatusCode == http.StatusNoContent {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(out)
}

// do makes a call; a problem that is answered is an error. The caller closes the answer's body.
func (c *client) do(ctx context.Context, method, path string, content io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, content)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	req.Header.Set("Content-Type", "application/json")
	if u, err := user.Current(); err == nil {
		req.Header.Set(api.UserHeader, u.Username)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("the service at %s does not answer (%w); start it with: velvet serve", c.base, errors.Unwrap(err))
	}
	if resp.StatusCode >= 400 {
		defer func() { _ = resp.Body.Close() }()
		return nil, readProblem(resp)
	}
	return resp, nil
}

func readProblem(resp *http.Response) error {
	p := new(api.Problem)
	if err := json.NewDecoder(resp.Body).Decode(p); err != nil || p.Title == "" {
		return fmt.Errorf("the service answered %s", resp.Status)
	}
	return p
}

func (c *client) get(ctx context.Context, path string, out any) error {
	return c.call(ctx, http.MethodGet, path, nil, out)
}

func (c *client) post(ctx context.Context, path string, in, out any) error {
	if in == nil {
		in = struct{}{}
	}
	return c.call(ctx, http.MethodPost, path, in, out)
}

// seg escapes one segment of a path.
func seg(s string) string { return url.PathEscape(s) }

// kindOf tells what kind of problem an error from the service is.
func kindOf(err error) problem.Kind {
	var p *api.Problem
	if errors.As(err, &p) {
		return problem.Kind(strings.TrimPrefix(p.Type, api.ProblemType))
	}
	return ""
}
