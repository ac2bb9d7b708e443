package wire

import (
	"context"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"connectrpc.com/connect"
)

// Silence is after how long without a word a side asks the other whether it is there, and how long the answer may take.
const Silence = 15 * time.Second

// address is what the other end of every connection is called.
const address = "host.velvet:80"

// settings are those of HTTP/2 on both sides of a connection, which TLS guards already.
func settings() (*http.HTTP2Config, *http.Protocols) {
	var p http.Protocols
	p.SetUnencryptedHTTP2(true)
	return &http.HTTP2Config{SendPingTimeout: Silence, PingTimeout: Silence}, &p
}

// Client is a connection over which a host is asked.
type Client struct {
	Name   string // of the host
	HTTP   connect.HTTPClient
	silent *atomic.Int64 // until when it is not asked, for it did not answer in time; nil where that is not minded
}

// quiet is how long a host that did not answer in time is not asked again: whoever looks at many copies on it waits for one only.
const quiet = 10 * time.Second

// silence tells whether the host did not answer a short time ago.
func (c Client) silence() bool { return c.silent != nil && time.Now().UnixNano() < c.silent.Load() }

// hush notes that the host did not answer in time.
func (c Client) hush() {
	if c.silent != nil {
		c.silent.Store(time.Now().Add(quiet).UnixNano())
	}
}

// NewClient asks a host over a connection that it has opened. gone is closed when that is lost.
func NewClient(ctx context.Context, name string, conn net.Conn) (c Client, gone <-chan struct{}, err error) {
	w := &watched{Conn: conn, gone: make(chan struct{})}
	t := &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) { return w, nil }}
	t.HTTP2, t.Protocols = settings()
	asked, err := t.NewClientConn(ctx, "http", address)
	return Client{name, over{asked}, new(atomic.Int64)}, w.gone, err
}

// over asks over one connection.
type over struct{ conn *http.ClientConn }

func (o over) Do(r *http.Request) (*http.Response, error) { return o.conn.RoundTrip(r) }

// watched is a connection of which it is noticed when it ends.
type watched struct {
	net.Conn
	once sync.Once
	gone chan struct{}
}

func (w *watched) Read(b []byte) (int, error) {
	n, err := w.Conn.Read(b)
	if err != nil {
		w.once.Do(func() { close(w.gone) })
	}
	return n, err
}

func (w *watched) Close() error {
	w.once.Do(func() { close(w.gone) })
	return w.Conn.Close()
}

// Answer answers what is asked over a connection, until that is lost or ctx ends.
func Answer(ctx context.Context, conn net.Conn, h http.Handler) {
	w := &watched{Conn: conn, gone: make(chan struct{})}
	s := &http.Server{Handler: h, BaseContext: func(net.Listener) context.Context { return ctx }, ReadHeaderTimeout: Silence}
	s.HTTP2, s.Protocols = settings()
	_ = s.Serve(&single{conn: w}) // which always ends with an error
	_ = w.Close()
}

// single is a listener to which one connection comes. It ends with that.
type single struct {
	mu   sync.Mutex
	conn *watched
	came bool
}

func (l *single) Accept() (net.Conn, error) {
	l.mu.Lock()
	came := l.came
	l.came = true
	l.mu.Unlock()
	if came {
		<-l.conn.gone
		return nil, net.ErrClosed
	}
	return l.conn, nil
}

func (l *single) Close() error   { return nil }
func (l *single) Addr() net.Addr { return l.conn.LocalAddr() }
