package s3

import (
	"context"
	"encoding/xml"
	"errors"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"

	"velvetrewind/engine/store"
)

const day = 24 * time.Hour

// How long objects are locked where the bucket has no rule of its own, and at least; and how many
// requests about locks are made at a time.
const (
	usualLock    = 14 * day
	shortestLock = 4 * day
	lockRequests = 8
)

// lock is how a bucket with object lock locks the objects that are put into it.
type lock struct {
	mode    minio.RetentionMode
	span    time.Duration // from when it is put, or its lock extended
	problem string        // why it is not known whether the bucket locks objects
}

// readLock asks the bucket for its object lock: the rule that it has for new objects, if any, says how
// and for how long.
func (s *Store) readLock(ctx context.Context) (l lock, err error) {
	enabled, mode, validity, unit, err := s.client.GetObjectLockConfig(ctx, s.bucket)
	var answer minio.ErrorResponse
	var other xml.UnmarshalError
	switch {
	case err == nil:
	case errors.As(err, &other): // not an answer to this question, by a service that does not know it
		return l, nil
	case !errors.As(err, &answer):
		return l, s.explain("", err)
	case answer.StatusCode == http.StatusForbidden:
		l.problem = "the keys may not ask whether the bucket locks objects (s3:GetBucketObjectLockConfiguration)"
		return l, nil
	case answer.StatusCode >= http.StatusBadRequest && answer.StatusCode < http.StatusInternalServerError,
		answer.StatusCode == http.StatusNotImplemented:
		return l, nil
	default:
		return l, s.explain("", err)
	}
	if enabled != "Enabled" {
		return l, nil
	}
	l.mode, l.span = minio.Governance, usualLock
	if mode != nil && mode.IsValid() && validity != nil && unit != nil {
		l.mode, l.span = *mode, time.Duration(*validity)*day
		if *unit == minio.Years {
			l.span *= 365
		}
	}
	l.span = max(l.span, shortestLock)
	return l, nil
}

// put adds to an upload how the object is locked.
func (l lock) put(o minio.PutObjectOptions) minio.PutObjectOptions {
	if l.span > 0 {
		o.Mode, o.RetainUntilDate = l.mode, time.Now().Add(l.span).UTC().Truncate(time.Second)
	}
	return o
}

// Locked implements store.Locking. Half of a lock's span is left when it is extended.
func (s *Store) Locked() (atLeast time.Duration, problem string) {
	return s.lock.span / 2, s.lock.problem
}

// ExtendLocks implements store.Locking. It asks for the lock of each object that may need it, and so
// makes good, too, what somebody has shortened.
func (s *Store) ExtendLocks(ctx context.Context, now time.Time, every time.Duration) (extended int, err error) {
	if s.lock.span == 0 {
		return 0, nil
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	enough := now.Add(s.lock.span/2 + every)
	objects := make(chan minio.ObjectInfo)
	var done atomic.Int64
	var wg sync.WaitGroup
	for range lockRequests {
		wg.Go(func() {
			for o := range objects {
				switch longer, err := s.extendLock(ctx, o.Key, enough, now.Add(s.lock.span)); {
				case err != nil && ctx.Err() == nil:
					cancel(err)
				case longer:
					done.Add(1)
				}
			}
		})
	}
	for o := range s.client.ListObjects(ctx, s.bucket, minio.ListObjectsOptions{Prefix: s.prefix, Recursive: true}) {
		if o.Err != nil {
			cancel(o.Err)
			break
		}
		if o.LastModified.Add(s.lock.span).Before(enough) {
			objects <- o
		}
	}
	close(objects)
	wg.Wait()
	if err = context.Cause(ctx); err != nil {
		err = s.explain("locks of objects", err)
	}
	return int(done.Load()), err
}

func (s *Store) extendLock(ctx context.Context, name string, enough, until time.Time) (longer bool, err error) {
	_, at, err := s.client.GetObjectRetention(ctx, s.bucket, name, "")
	if code := minio.ToErrorResponse(err).Code; code == "NoSuchKey" || code == "NotFound" {
		return false, nil // deleted meanwhile
	} else if err != nil && code != "NoSuchObjectLockConfiguration" {
		return false, err
	}
	if err == nil && at != nil && !at.Before(enough) {
		return false, nil
	}
	until = until.UTC().Truncate(time.Second)
	err = s.client.PutObjectRetention(ctx, s.bucket, name, minio.PutObjectRetentionOptions{Mode: &s.lock.mode, RetainUntilDate: &until})
	return err == nil, err
}

var _ store.Locking = (*Store)(nil)
