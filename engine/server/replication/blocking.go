package replication

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// blockingConn is a connection whose reads block a thread of their own. The runtime's poller is
// woken by every packet that arrives, also while nobody reads, and a stream of WAL brings one for
// each commit: that alone would cost more than all that is done with them.
type blockingConn struct {
	fd            int
	local, remote net.Addr
	// using is held by reads and writes, and by Close to wait for their end.
	using          sync.RWMutex
	closed         atomic.Bool
	readBy, sendBy atomic.Int64  // deadlines in Unix nanoseconds; 0 for none
	readFor        time.Duration // what the kernel waits for at most; of the reading goroutine
	sendFor        time.Duration
}

// longestBlock is how long one call of the kernel blocks at most: deadlines are looked at in between.
const longestBlock = 100 * time.Millisecond

// dialBlocking is a pgconn.DialFunc.
func dialBlocking(ctx context.Context, network, address string) (net.Conn, error) {
	dialer := net.Dialer{KeepAlive: time.Minute}
	conn, err := dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }() // its file is used on under another number
	raw, err := conn.(syscall.Conn).SyscallConn()
	if err != nil {
		return nil, err
	}
	c := &blockingConn{fd: -1, local: conn.LocalAddr(), remote: conn.RemoteAddr()}
	control := raw.Control(func(fd uintptr) {
		if c.fd, err = unix.FcntlInt(fd, unix.F_DUPFD_CLOEXEC, 0); err == nil {
			err = unix.SetNonblock(c.fd, false)
		}
	})
	if err := errors.Join(control, err); err != nil {
		if c.fd >= 0 {
			_ = unix.Close(c.fd)
		}
		return nil, err
	}
	return c, nil
}

// Read implements net.Conn.
func (c *blockingConn) Read(p []byte) (int, error) {
	c.using.RLock()
	defer c.using.RUnlock()
	for {
		if err := c.block(&c.readBy, &c.readFor, unix.SO_RCVTIMEO); err != nil {
			return 0, err
		}
		n, err := unix.Read(c.fd, p)
		switch {
		case again(err):
		case err != nil:
			return 0, os.NewSyscallError("read", err)
		case n == 0 && len(p) > 0:
			return 0, io.EOF
		default:
			return n, nil
		}
	}
}

// Write implements net.Conn.
func (c *blockingConn) Write(p []byte) (done int, err error) {
	c.using.RLock()
	defer c.using.RUnlock()
	for done < len(p) {
		if err := c.block(&c.sendBy, &c.sendFor, unix.SO_SNDTIMEO); err != nil {
			return done, err
		}
		n, err := unix.SendmsgN(c.fd, p[done:], nil, nil, unix.MSG_NOSIGNAL)
		if err != nil && !again(err) {
			return done, os.NewSyscallError("write", err)
		}
		done += max(n, 0)
	}
	return done, nil
}

func again(err error) bool { return errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR) }

// block has the kernel wait no longer than to a deadline.
func (c *blockingConn) block(by *atomic.Int64, set *time.Duration, option int) error {
	if c.closed.Load() {
		return net.ErrClosed
	}
	wait := longestBlock
	if at := by.Load(); at != 0 {
		if wait = min(wait, time.Until(time.Unix(0, at))); wait <= 0 {
			return os.ErrDeadlineExceeded
		}
	}
	const step = 5 * time.Millisecond // not every call sets it anew
	wait = wait.Truncate(step) + step
	if wait == *set {
		return nil
	}
	*set = wait
	t := unix.NsecToTimeval(wait.Nanoseconds())
	return os.NewSyscallError("setsockopt", unix.SetsockoptTimeval(c.fd, unix.SOL_SOCKET, option, &t))
}

// Close implements net.Conn.
func (c *blockingConn) Close() error {
	if c.closed.Swap(true) {
		return net.ErrClosed
	}
	_ = unix.Shutdown(c.fd, unix.SHUT_RDWR) // wakes who reads
	c.using.Lock()
	defer c.using.Unlock()
	return os.NewSyscallError("close", unix.Close(c.fd))
}

// LocalAddr implements net.Conn.
func (c *blockingConn) LocalAddr() net.Addr { return c.local }

// RemoteAddr implements net.Conn.
func (c *blockingConn) RemoteAddr() net.Addr { return c.remote }

// SetDeadline implements net.Conn.
func (c *blockingConn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// SetReadDeadline implements net.Conn.
func (c *blockingConn) SetReadDeadline(t time.Time) error {
	c.readBy.Store(nanoseconds(t))
	return nil
}

// SetWriteDeadline implements net.Conn.
func (c *blockingConn) SetWriteDeadline(t time.Time) error {
	c.sendBy.Store(nanoseconds(t))
	return nil
}

func nanoseconds(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return max(1, t.UnixNano())
}
