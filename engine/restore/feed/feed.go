// Package feed gives a recovering copy the WAL segments that its server asks for,
// one at a time, and makes those ready that it will ask for next.
//
// Invariant: "not there" is only ever said of a segment that the copy's plan does not need; a needed one that cannot
// be had is an error that ends recovery, so that a server never mistakes trouble for the end of the WAL. A delivered
// file has a segment's full size; what was never written is zero. When a server asks, and for what, is the server's.
package feed

import (
	"bufio"
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"velvetrewind/core/pg"
	"velvetrewind/core/wal"
	"velvetrewind/engine/catalog"
	"velvetrewind/engine/catalog/seal"
	"velvetrewind/engine/host"
	"velvetrewind/engine/host/identity"
	"velvetrewind/engine/store"
	"velvetrewind/engine/store/place"
	"velvetrewind/engine/store/vault"
)

// Ticket is the file that `velvet segment deliver` is given: all that it needs to
// feed one copy. Only the OS user may read it.
type Ticket struct {
	Copy    string `json:"copy"`
	Cluster string `json:"cluster"`
	Service string `json:"service"` // base URL
	// Certificate is the one that the service shows, in DER; none where it is asked without TLS.
	Certificate []byte `json:"certificate,omitempty"`
	// Authority signs the one that it shows where that is made anew from time to time, in DER.
	Authority []byte         `json:"authority,omitempty"`
	Token     string         `json:"token"` // good for this copy's segments only
	Store     place.Place    `json:"store"` // where it is, with the keys to this cluster's part of it
	Feed      string         `json:"feed"`  // directory with segments that were not in the store yet
	Size      pg.SegmentSize `json:"segmentSize"`
	Needed    uint64         `json:"neededTo"` // number of the last segment that the plan needs
	Timeline  pg.Timeline    `json:"timeline"`
	// Unflushed says that the copy is not flushed to disk until it is opened: after a crash of its machine it gets nothing any more.
	Unflushed bool  `json:"unflushed,omitempty"`
	Part      *Part `json:"part,omitempty"` // of a partial copy
}

// Part is what else is needed to feed a copy that lacks files.
type Part struct {
	Lacks    string   `json:"lacks"` // the file that lists them
	SystemID uint64   `json:"systemID"`
	First    uint64   `json:"neededFrom"` // number of the first segment that the plan needs
	Keep     []pg.LSN `json:"keep"`       // where the plan begins and ends: see wal.Sieve
	Control  string   `json:"control"`    // the copy's control file, which says where its server begins
}

// Token makes the token by which a copy's deliveries show who they are.
func Token(k seal.Key, copyID string) string {
	m := hmac.New(sha256.New, k[:])
	m.Write([]byte("feed " + copyID))
	return hex.EncodeToString(m.Sum(nil))
}

// ErrNoSuchSegment says that the WAL goes no further, which is normal at its end.
var ErrNoSuchSegment = errors.New("there is no such segment")

// Deliver writes the file that the server named to the path that it gave: a
// segment or a timeline's history. It looks in the copy's own feed, asks the
// service, and goes straight to the store if the service does not answer.
func Deliver(ctx context.Context, ticket, name, to string) error {
	content, err := os.ReadFile(ticket)
	if err != nil {
		return err
	}
	var t Ticket
	if err := json.Unmarshal(content, &t); err != nil {
		return fmt.Errorf("%s: %w", ticket, err)
	}
	if t.Unflushed {
		if err := t.sameBoot(); err != nil {
			return err
		}
	}
	err = t.deliver(ctx, name, to)
	if errors.Is(err, ErrNoSuchSegment) && t.needs(name) {
		return fmt.Errorf("%s is needed and was not found in %s, nor by the service", name, t.Store.Location)
	}
	return err
}

// bootFile, in the feed, says since when the machine was up when the copy was given its first segment.
const bootFile = "boot"

// sameBoot refuses a copy whose machine was started anew since it was given its first segment.
func (t Ticket) sameBoot() error {
	now, err := host.Boot()
	if err != nil {
		return err
	}
	path := filepath.Join(t.Feed, bootFile)
	then, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return os.WriteFile(path, []byte(now), 0o600)
	}
	if err != nil {
		return err
	}
	if strings.TrimSpace(string(then)) != now {
		return errors.New("the machine was started anew, and what the copy had written may not be on disk: have it be made anew with " +
			"velvet copy step")
	}
	return nil
}

// needs tells whether the copy's plan leads through the named file. History files
// beyond the plan's timeline and segments past its end are asked for as a matter of course.
func (t Ticket) needs(name string) bool {
	if h, ok := pg.ParseHistoryName(name); ok {
		return h == t.Timeline
	}
	s, err := pg.ParseSegmentName(name, t.Size)
	return err == nil && s.Timeline == t.Timeline && s.Number <= t.Needed
}

// deliver asks the service, which may break off, and then the store.
func (t Ticket) deliver(ctx context.Context, name, to string) error {
	err := t.fetch(ctx, name, to)
	if err == nil || errors.Is(err, ErrNoSuchSegment) || errors.Is(err, wal.ErrSieve) {
		return err
	}
	t.Service = ""
	direct := t.fetch(ctx, name, to)
	if direct == nil || errors.Is(direct, ErrNoSuchSegment) {
		return direct
	}
	return errors.Join(err, direct)
}

// fetch brings a file from where it is to be had.
func (t Ticket) fetch(ctx context.Context, name, to string) error {
	if done, err := t.ready(name, to); err != nil || done {
		if t.Part != nil {
			err = errors.Join(err, t.drop(name, filepath.Dir(to)))
		}
		return err
	}
	content, err := t.open(ctx, name)
	if err != nil {
		return err
	}
	defer func() { _ = content.Close() }()
	if _, isHistory := pg.ParseHistoryName(name); isHistory {
		return put(to, func(f *os.File) error {
			_, err := io.Copy(f, content)
			return err
		})
	}
	if t.Part != nil {
		return errors.Join(t.sift(ctx, name, content, to), t.drop(name, filepath.Dir(to)))
	}
	return put(to, func(f *os.File) error { return fill(f, content, t.Size) })
}

// segmentFile is a file that a segment is written to.
type segmentFile interface {
	io.Writer
	Truncate(size int64) error
}

// fill writes a whole segment.
func fill(f segmentFile, content io.Reader, size pg.SegmentSize) error {
	n, err := io.Copy(f, bufio.NewReaderSize(content, 1<<20))
	if err == nil && n > int64(size) {
		err = fmt.Errorf("%d bytes are more than a segment has", n)
	}
	return errors.Join(err, f.Truncate(int64(size))) // the rest of a cut segment is zero
}

// open reads a segment or a history file: beside the copy, from the service, or without one from the store.
func (t Ticket) open(ctx context.Context, name string) (io.ReadCloser, error) {
	_, isHistory := pg.ParseHistoryName(name)
	if _, err := pg.ParseSegmentName(name, t.Size); err != nil && !isHistory {
		return nil, ErrNoSuchSegment // a backup label file or the like, which we do not keep
	}
	f, err := os.Open(filepath.Join(t.Feed, name))
	if err == nil {
		return f, nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	if t.Service == "" {
		return t.fromStore(ctx, name)
	}
	return t.askService(ctx, name)
}

const askTimeout = 2 * time.Minute

func (t Ticket) askService(ctx context.Context, name string) (io.ReadCloser, error) {
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, t.Service+"/api/v1/copies/"+t.Copy+"/feed/"+name, nil)
	if err != nil {
		cancel()
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+t.Token)
	resp, err := t.client().Do(req)
	if err != nil {
		cancel()
		return nil, fmt.Errorf("ask the service: %w", err)
	}
	answer := canceled{resp.Body, cancel}
	switch resp.StatusCode {
	case http.StatusOK:
		return answer, nil
	case http.StatusNotFound:
		return nil, errors.Join(ErrNoSuchSegment, answer.Close())
	}
	return nil, errors.Join(fmt.Errorf("ask the service: %s", resp.Status), answer.Close())
}

// canceled is a body whose request ends when it is closed.
type canceled struct {
	io.ReadCloser
	cancel context.CancelFunc
}

func (c canceled) Close() error {
	defer c.cancel()
	return c.ReadCloser.Close()
}

// client asks nobody but the service itself: through no proxy, and over TLS the one that shows the
// certificate which it had when the ticket was written.
func (t Ticket) client() *http.Client {
	if t.Authority != nil {
		if a, err := x509.ParseCertificate(t.Authority); err == nil {
			return &http.Client{Transport: &http.Transport{TLSClientConfig: identity.Trusting(a)}}
		}
	}
	return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{
		InsecureSkipVerify: true, // instead of names and authorities the certificate itself is compared
		VerifyConnection: func(c tls.ConnectionState) error {
			if len(c.PeerCertificates) == 0 || !bytes.Equal(c.PeerCertificates[0].Raw, t.Certificate) {
				return errors.New("the service shows another certificate than the ticket names")
			}
			return nil
		},
	}}}
}

func (t Ticket) fromStore(ctx context.Context, name string) (io.ReadCloser, error) {
	s, err := t.Store.ToRead(ctx)
	if err != nil {
		return nil, err
	}
	r, err := Open(ctx, s, catalog.Cluster{ID: t.Cluster, SegmentSize: t.Size}, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoSuchSegment
	}
	return r, err
}

// Open reads a segment or a history file from the store by its name.
func Open(ctx context.Context, s *vault.Vault, k catalog.Cluster, name string) (io.ReadCloser, error) {
	if h, ok := pg.ParseHistoryName(name); ok {
		return s.Open(ctx, store.HistoryKey(k.ID, h))
	}
	seg, err := pg.ParseSegmentName(name, k.SegmentSize)
	if err != nil {
		return nil, err
	}
	return s.Segment(ctx, k.ID, seg, k.SegmentSize)
}

// put makes a file where the server wants it, whole or not at all.
func put(to string, write func(*os.File) error) error {
	aside := to + ".velvet"
	f, err := os.OpenFile(aside, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(write(f), f.Close()); err != nil {
		return errors.Join(err, os.Remove(aside))
	}
	return os.Rename(aside, to)
}
