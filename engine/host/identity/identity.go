// Package identity makes and checks the certificates by which a service and the host agents that joined it know each other.
//
// Invariant: an installation has one authority, and only its service signs with it. What a host has is good for being a host of
// that installation, never for being its service, and runs out within a month. Keys are made where they are used and never leave.
package identity

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"time"
)

// Protocol is what a host agent says on a TLS connection that it opens for the service to ask it over.
const Protocol = "velvet-host"

// serverName is the name that the service's certificates have, wherever it listens.
const serverName = "service.velvet"

// How long certificates last. A host renews its own when a third is left.
const (
	hostLasts      = 30 * 24 * time.Hour
	serviceLasts   = 7 * 24 * time.Hour
	authorityLasts = 30 * 365 * 24 * time.Hour
	clockSlack     = time.Hour
)

// Authority signs certificates.
type Authority struct {
	Certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// NewAuthority makes the authority of a new installation, and gives its certificate and its key in DER.
func NewAuthority(now time.Time) (certificate, key []byte, err error) {
	k, err := newKey()
	if err != nil {
		return nil, nil, err
	}
	t, err := template("Velvet Rewind", now, authorityLasts)
	if err != nil {
		return nil, nil, err
	}
	t.IsCA, t.BasicConstraintsValid, t.MaxPathLenZero, t.KeyUsage = true, true, true, x509.KeyUsageCertSign
	if certificate, err = x509.CreateCertificate(rand.Reader, t, t, k.Public(), k); err != nil {
		return nil, nil, err
	}
	key, err = x509.MarshalECPrivateKey(k)
	return certificate, key, err
}

// OpenAuthority reads what NewAuthority has made.
func OpenAuthority(certificate, key []byte) (*Authority, error) {
	c, err := x509.ParseCertificate(certificate)
	if err != nil {
		return nil, err
	}
	k, err := x509.ParseECPrivateKey(key)
	if err != nil {
		return nil, err
	}
	return &Authority{c, k}, nil
}

// SignHost signs the request of a host, whatever that calls itself: the certificate is for id.
func (a *Authority) SignHost(request []byte, id string, now time.Time) ([]byte, error) {
	r, err := x509.ParseCertificateRequest(request)
	if err != nil {
		return nil, err
	}
	if err := r.CheckSignature(); err != nil {
		return nil, err
	}
	t, err := template(id, now, hostLasts)
	if err != nil {
		return nil, err
	}
	t.KeyUsage, t.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	return x509.CreateCertificate(rand.Reader, t, a.Certificate, r.PublicKey, a.key)
}

// Service makes a certificate for the service, with a key of its own.
func (a *Authority) Service(now time.Time) (*tls.Certificate, error) {
	k, err := newKey()
	if err != nil {
		return nil, err
	}
	t, err := template(serverName, now, serviceLasts)
	if err != nil {
		return nil, err
	}
	t.DNSNames = []string{serverName}
	t.KeyUsage, t.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	der, err := x509.CreateCertificate(rand.Reader, t, a.Certificate, k.Public(), a.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der, a.Certificate.Raw}, PrivateKey: k, Leaf: leaf}, err
}

// ServiceTLS admits hosts with a certificate of the authority's, and those without one, who can do nothing but join.
func (a *Authority) ServiceTLS(own func() (*tls.Certificate, error)) *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS13, ClientAuth: tls.VerifyClientCertIfGiven, ClientCAs: pool(a.Certificate),
		NextProtos:     []string{Protocol, "http/1.1"},
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return own() },
	}
}

// HostOf is the id of the host that a connection comes from, "" where it showed no certificate.
func HostOf(s *tls.ConnectionState) string {
	if s == nil || len(s.VerifiedChains) == 0 {
		return ""
	}
	return s.PeerCertificates[0].Subject.CommonName
}

// Host is what a host that joined knows itself and its service by.
type Host struct {
	Certificate tls.Certificate
	Authority   *x509.Certificate
}

// NewRequest makes a key and the request for a certificate for it.
func NewRequest() (key *ecdsa.PrivateKey, request []byte, err error) {
	if key, err = newKey(); err != nil {
		return nil, nil, err
	}
	request, err = x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	return key, request, err
}

// NewHost puts together what was made for a host.
func NewHost(key *ecdsa.PrivateKey, certificate, authority []byte) (*Host, error) {
	leaf, err := x509.ParseCertificate(certificate)
	if err != nil {
		return nil, err
	}
	if !key.PublicKey.Equal(leaf.PublicKey) {
		return nil, errors.New("the certificate is for another key")
	}
	a, err := x509.ParseCertificate(authority)
	if err != nil {
		return nil, err
	}
	return &Host{tls.Certificate{Certificate: [][]byte{certificate}, PrivateKey: key, Leaf: leaf}, a}, nil
}

// ID is the host's.
func (h *Host) ID() string { return h.Certificate.Leaf.Subject.CommonName }

// Due is when the certificate should be renewed, and Ends when it runs out.
func (h *Host) Due() time.Time { return h.Ends().Add(-hostLasts / 3) }

// Ends is when the certificate runs out.
func (h *Host) Ends() time.Time { return h.Certificate.Leaf.NotAfter }

// TLS connects to the service of the host's installation, and to no other, by a protocol.
func (h *Host) TLS(protocol string) *tls.Config {
	c := Trusting(h.Authority)
	c.Certificates, c.NextProtos = []tls.Certificate{h.Certificate}, []string{protocol}
	return c
}

// Trusting connects to the service whose authority is known.
func Trusting(authority *x509.Certificate) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS13, RootCAs: pool(authority), ServerName: serverName}
}

// Fingerprint names an authority, for somebody who does not know it yet.
func Fingerprint(authority *x509.Certificate) string {
	sum := sha256.Sum256(authority.Raw)
	return hex.EncodeToString(sum[:16])
}

// Meeting connects to the service whose authority has a fingerprint, which is not known yet.
func Meeting(fingerprint string) *tls.Config {
	return &tls.Config{
		MinVersion: tls.VersionTLS13, ServerName: serverName,
		InsecureSkipVerify: true, // what it shows is checked here instead, by the fingerprint that came with the word
		VerifyConnection: func(s tls.ConnectionState) error {
			last := s.PeerCertificates[len(s.PeerCertificates)-1]
			if Fingerprint(last) != fingerprint {
				return errors.New("it is another service than the one that gave the word")
			}
			_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: pool(last), DNSName: serverName})
			return err
		},
	}
}

const certificateBlock, authorityBlock, keyBlock = "CERTIFICATE", "AUTHORITY", "EC PRIVATE KEY"

// Encode writes the identity for a file that only its owner may read.
func (h *Host) Encode() ([]byte, error) {
	key, err := x509.MarshalECPrivateKey(h.Certificate.PrivateKey.(*ecdsa.PrivateKey))
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	for _, block := range []*pem.Block{{Type: certificateBlock, Bytes: h.Certificate.Certificate[0]},
		{Type: authorityBlock, Bytes: h.Authority.Raw}, {Type: keyBlock, Bytes: key}} {
		if err := pem.Encode(&b, block); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}

// DecodeHost reads what Encode has written.
func DecodeHost(content []byte) (*Host, error) {
	found := make(map[string][]byte)
	for block, rest := pem.Decode(content); block != nil; block, rest = pem.Decode(rest) {
		found[block.Type] = block.Bytes
	}
	key, err := x509.ParseECPrivateKey(found[keyBlock])
	if err != nil {
		return nil, fmt.Errorf("the key: %w", err)
	}
	return NewHost(key, found[certificateBlock], found[authorityBlock])
}

func newKey() (*ecdsa.PrivateKey, error) { return ecdsa.GenerateKey(elliptic.P256(), rand.Reader) }

func template(name string, now time.Time, lasts time.Duration) (*x509.Certificate, error) {
	const serialBits = 128
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), serialBits))
	return &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, NotBefore: now.Add(-clockSlack),
		NotAfter: now.Add(lasts)}, err
}

func pool(c *x509.Certificate) *x509.CertPool {
	p := x509.NewCertPool()
	p.AddCert(c)
	return p
}
