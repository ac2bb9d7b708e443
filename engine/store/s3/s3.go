// Package s3 keeps a store in a bucket of S3-compatible object storage.
//
// Invariant: an object appears when its upload is completed, whole, or not at all;
// the service checks every part by its MD5. What an upload that never ended left
// behind is no object, and Sweep removes it. In a bucket with object lock each object is
// locked when it is put, and stays so while ExtendLocks is called every day. Credentials
// are in no text that this package makes.
package s3

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strings"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"velvetrewind/engine/store"
)

// Scheme begins the location of such a store: s3://BUCKET/PREFIX?endpoint=….
const Scheme = "s3://"

// Keys sign the requests.
type Keys struct {
	Access  string `json:"access"`
	Secret  string `json:"secret"`
	Session string `json:"session,omitempty"`
}

// Store is a store in a bucket.
type Store struct {
	client *minio.Client
	bucket string
	prefix string // "" or ending in a slash
	name   string
	lock   lock
}

// location is what a location's text says.
type location struct {
	bucket, prefix, endpoint, region, ca string
	secure, path                         bool
}

// Forms says how a location is written.
const Forms = "s3://BUCKET/PREFIX?endpoint=https://HOST[:PORT] and, where needed, &region=REGION, &addressing=path|virtual, &ca=FILE"

// parse reads a location.
func parse(text string) (l location, err error) {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "s3" || u.Host == "" || u.User != nil {
		return l, fmt.Errorf("the store %q cannot be read; write it as %s", redact(text), Forms)
	}
	l.bucket, l.prefix = u.Host, strings.Trim(u.Path, "/")
	if l.prefix != "" {
		l.prefix += "/"
	}
	q := u.Query()
	for name := range q {
		switch name {
		case "endpoint", "region", "addressing", "ca":
		default:
			return l, fmt.Errorf("the store's location says %q, which means nothing; write it as %s", name, Forms)
		}
	}
	end, err := url.Parse(q.Get("endpoint"))
	if err != nil || end.Host == "" || end.Scheme != "https" && end.Scheme != "http" {
		return l, fmt.Errorf("the store's location needs endpoint=https://HOST[:PORT]; write it as %s", Forms)
	}
	l.endpoint, l.secure = end.Host, end.Scheme == "https"
	l.region, l.ca = q.Get("region"), q.Get("ca")
	switch q.Get("addressing") {
	case "", "path":
		l.path = true
	case "virtual":
	default:
		return l, fmt.Errorf("addressing=%s: choose path (HOST/BUCKET) or virtual (BUCKET.HOST)", q.Get("addressing"))
	}
	return l, nil
}

// redact drops what may be a secret from a location that is not understood.
func redact(text string) string {
	if _, after, ok := strings.Cut(text, "@"); ok {
		return Scheme + "…@" + after
	}
	return text
}

// FindKeys reads keys from a file in the usual form (aws_access_key_id = …,
// aws_secret_access_key = …, of the profile "default"). Without a file it looks in the
// usual places: AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, then the file that
// AWS_SHARED_CREDENTIALS_FILE names or ~/.aws/credentials.
func FindKeys(file string) (Keys, error) {
	chain := []credentials.Provider{&credentials.EnvAWS{}, &credentials.FileAWSCredentials{}}
	if file != "" {
		chain = []credentials.Provider{&credentials.FileAWSCredentials{Filename: file, Profile: "default"}}
	}
	v, err := credentials.NewChainCredentials(chain).GetWithContext(nil)
	if err != nil || v.AccessKeyID == "" || v.SecretAccessKey == "" {
		return Keys{}, errors.New("no keys for the store were found; set AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, or name a file " +
			"with them (--store-credentials)")
	}
	return Keys{v.AccessKeyID, v.SecretAccessKey, v.SessionToken}, nil
}

// Open opens a store and makes sure that its bucket can be used.
func Open(ctx context.Context, text string, keys Keys) (*Store, error) {
	l, err := parse(text)
	if err != nil {
		return nil, err
	}
	transport, err := l.transport()
	if err != nil {
		return nil, err
	}
	signer := credentials.NewStaticV4(keys.Access, keys.Secret, keys.Session)
	style := minio.BucketLookupDNS
	if l.path {
		style = minio.BucketLookupPath
	}
	client, err := minio.New(l.endpoint, &minio.Options{Creds: signer, Secure: l.secure, Region: l.region, BucketLookup: style,
		Transport: transport})
	if err != nil {
		return nil, fmt.Errorf("the store %s: %w", redact(text), err)
	}
	s := &Store{client: client, bucket: l.bucket, prefix: l.prefix, name: Scheme + l.bucket + "/" + l.prefix + " at " + l.endpoint}
	there, err := client.BucketExists(ctx, l.bucket)
	if err != nil {
		return nil, s.explain("", err)
	}
	if !there {
		return nil, fmt.Errorf("the store %s: there is no bucket %q; make it first", s.name, l.bucket)
	}
	s.lock, err = s.readLock(ctx)
	return s, err
}

// transport trusts the authority of the location's CA file, if it names one.
func (l location) transport() (http.RoundTripper, error) {
	t, err := minio.DefaultTransport(l.secure)
	if err != nil || l.ca == "" {
		return t, err
	}
	content, err := os.ReadFile(l.ca)
	if err != nil {
		return nil, fmt.Errorf("the store's CA file: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(content) {
		return nil, fmt.Errorf("the store's CA file %s holds no certificate", l.ca)
	}
	t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return t, nil
}

// String names the store for messages.
func (s *Store) String() string { return s.name }

var validKey = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*(/[A-Za-z0-9][A-Za-z0-9._-]*)*$`)

func (s *Store) object(key string) (string, error) {
	if !validKey.MatchString(key) {
		return "", fmt.Errorf("%q is not a key", key)
	}
	return s.prefix + key, nil
}

// Open implements store.Store. A connection that breaks is taken up again where it broke.
func (s *Store) Open(ctx context.Context, key string, offset int64) (io.ReadCloser, error) {
	name, err := s.object(key)
	if err != nil {
		return nil, err
	}
	r := &reader{store: s, ctx: ctx, key: key, name: name, at: offset}
	info, err := s.Stat(ctx, key)
	if err != nil {
		return nil, err
	}
	r.size = info.Size
	return r, nil
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, key string) (store.Info, error) {
	name, err := s.object(key)
	if err != nil {
		return store.Info{}, err
	}
	info, err := s.client.StatObject(ctx, s.bucket, name, minio.StatObjectOptions{})
	if err != nil {
		return store.Info{}, s.explain(key, err)
	}
	return store.Info{Key: key, Size: info.Size}, nil
}

// Delete implements store.Store; deleting what is not there is no error.
func (s *Store) Delete(ctx context.Context, key string) error {
	name, err := s.object(key)
	if err != nil {
		return err
	}
	err = s.explain(key, s.client.RemoveObject(ctx, s.bucket, name, minio.RemoveObjectOptions{}))
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// List implements store.Store.
func (s *Store) List(ctx context.Context, prefix string, visit func(store.Info) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // ends the listing where visit has
	for o := range s.client.ListObjects(ctx, s.bucket, minio.ListObjectsOptions{Prefix: s.prefix + prefix, Recursive: true}) {
		if o.Err != nil {
			return s.explain(prefix, o.Err)
		}
		if err := visit(store.Info{Key: strings.TrimPrefix(o.Key, s.prefix), Size: o.Size}); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// Sweep implements store.Store: it gives up uploads that never ended.
func (s *Store) Sweep(ctx context.Context, prefix string) error {
	for u := range s.client.ListIncompleteUploads(ctx, s.bucket, s.prefix+prefix, true) {
		if u.Err != nil && !noUpload(u.Err) {
			return s.explain(prefix, u.Err)
		}
		if u.Err != nil {
			continue
		}
		if err := s.client.RemoveIncompleteUpload(ctx, s.bucket, u.Key); err != nil && !noUpload(err) {
			return s.explain(u.Key, err)
		}
	}
	return nil
}

// noUpload tells that an upload has ended meanwhile, or that there is none at all.
func noUpload(err error) bool { return minio.ToErrorResponse(err).Code == "NoSuchUpload" }

// explain turns the service's answers into errors that say what to do.
func (s *Store) explain(key string, err error) error {
	if err == nil {
		return nil
	}
	answer := minio.ToErrorResponse(err)
	switch answer.Code {
	case "NoSuchKey", "NotFound":
		return fmt.Errorf("%s: %w", key, store.ErrNotFound)
	case "AccessDenied", "InvalidAccessKeyId", "SignatureDoesNotMatch":
		besides := ""
		if s.lock.span > 0 {
			besides = ", and s3:GetObjectRetention and s3:PutObjectRetention, for it locks its objects"
		}
		return fmt.Errorf("the store %s refuses us (%s); check its keys, and that they may read, write, list and delete in the bucket%s",
			s.name, answer.Code, besides)
	case "PreconditionFailed", "ConditionalRequestConflict":
		return fmt.Errorf("%s: %w", key, store.ErrExists)
	case "NoSuchBucket":
		return fmt.Errorf("the store %s: there is no such bucket; make it first", s.name)
	case "QuotaExceeded", "XMinioStorageFull", "InsufficientStorage", "EntityTooLarge":
		return fmt.Errorf("%w (%s)", store.ErrFull, answer.Code)
	}
	return fmt.Errorf("the store %s: %w", s.name, err)
}
