// Package wire is how a service asks a host agent, over a connection that the agent has opened.
//
// Invariant: every question is named here with what is asked and answered. What one side does not know of the other's messages is
// passed over, and a question that it does not know is an error that says so: versions that differ by one release work together.
package wire

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"

	"connectrpc.com/connect"
	"github.com/fxamacker/cbor/v2"

	"velvetrewind/engine/host"
)

// Version is that of the questions. Sides whose versions differ by more than one do not work together.
const Version = 1

// Fits tells whether another side's version works with ours.
func Fits(version int) bool { return version >= Version-1 && version <= Version+1 }

// MostBytes bounds one message; Piece is how many bytes of a file are sent in one.
const (
	MostBytes = 32 << 20
	Piece     = 512 << 10
)

const service = "/velvet.host.v1.Agent/"

// options are those of both sides. Nothing is compressed: files of a database go by faster than a processor compresses them.
var (
	options = connect.WithOptions(connect.WithCodec(codec{}), connect.WithReadMaxBytes(MostBytes))
	asking  = connect.WithClientOptions(options, connect.WithAcceptCompression("gzip", nil, nil))
	answers = connect.WithHandlerOptions(options, connect.WithCompression("gzip", nil, nil))
)

// Path is where what is no message is asked for.
func Path(what string) string { return service + what }

// Op is a question that is answered at once.
type Op[In, Out any] string

// Serve has it be answered.
func (o Op[In, Out]) Serve(mux *http.ServeMux, do func(context.Context, In) (Out, error)) {
	mux.Handle(service+string(o), connect.NewUnaryHandler(service+string(o),
		func(ctx context.Context, r *connect.Request[In]) (*connect.Response[Out], error) {
			out, err := do(ctx, *r.Msg)
			if err != nil {
				return nil, coded(err)
			}
			return connect.NewResponse(&out), nil
		}, answers))
}

// Ask asks it.
func (o Op[In, Out]) Ask(ctx context.Context, c Client, in In) (out Out, err error) {
	if c.silence() {
		return out, fmt.Errorf("the host %s is out of reach: %w: it did not answer in time just now", c.Name, ErrOutOfReach)
	}
	client := connect.NewClient[In, Out](c.HTTP, c.URL(string(o)), asking)
	r, err := client.CallUnary(ctx, connect.NewRequest(&in))
	if err != nil {
		return out, c.read(err)
	}
	return *r.Msg, nil
}

// Stream is a question that is answered bit by bit.
type Stream[In, Out any] string

// Serve has it be answered.
func (o Stream[In, Out]) Serve(mux *http.ServeMux, do func(context.Context, In, func(Out) error) error) {
	mux.Handle(service+string(o), connect.NewServerStreamHandler(service+string(o),
		func(ctx context.Context, r *connect.Request[In], s *connect.ServerStream[Out]) error {
			return coded(do(ctx, *r.Msg, func(out Out) error { return s.Send(&out) }))
		}, answers))
}

// Ask asks it, and shows the answers as they come.
func (o Stream[In, Out]) Ask(ctx context.Context, c Client, in In, show func(Out)) error {
	client := connect.NewClient[In, Out](c.HTTP, c.URL(string(o)), asking)
	s, err := client.CallServerStream(ctx, connect.NewRequest(&in))
	if err != nil {
		return c.read(err)
	}
	defer func() { _ = s.Close() }()
	for s.Receive() {
		show(*s.Msg())
	}
	return c.read(s.Err())
}

// URL is where something is asked for.
func (c Client) URL(what string) string { return "http://" + address + Path(what) }

// Marks that errors keep on their way.
var (
	// ErrRefused says that the host's own configuration does not allow it.
	ErrRefused = errors.New("the host does not allow it")
	// ErrLacks says that the host has not what it takes.
	ErrLacks = errors.New("the host cannot do it")
	// ErrOutOfReach says that the host could not be asked.
	ErrOutOfReach = errors.New("its agent cannot be asked")
)

// marks are the codes that they are sent as; of several, the first.
var marks = []struct {
	code connect.Code
	mark error
}{
	{connect.CodePermissionDenied, ErrRefused}, {connect.CodeFailedPrecondition, ErrLacks}, {connect.CodeDataLoss, host.ErrGone},
	{connect.CodeNotFound, fs.ErrNotExist}, {connect.CodeAlreadyExists, fs.ErrExist},
}

// markOf is what a code says; nil for none of them.
func markOf(code connect.Code) error {
	for _, m := range marks {
		if m.code == code {
			return m.mark
		}
	}
	return nil
}

// coded gives an error the code by which the other side knows it.
func coded(err error) error {
	if err == nil {
		return nil
	}
	for _, m := range marks {
		if errors.Is(err, m.mark) {
			return connect.NewError(m.code, err)
		}
	}
	return connect.NewError(connect.CodeUnknown, err)
}

// answered is an error of the host's.
type answered struct {
	text string
	mark error // nil for none
}

func (a *answered) Error() string { return a.text }
func (a *answered) Unwrap() error { return a.mark }

// read gives an error with the mark that it had on the other side.
func (c Client) read(err error) error {
	if err == nil {
		return nil
	}
	ce := (*connect.Error)(nil)
	if !errors.As(err, &ce) {
		return err
	}
	switch {
	case ce.Code() == connect.CodeUnimplemented:
		return fmt.Errorf("%w: the velvet on %s is of an older release; bring it up to date", ErrLacks, c.Name)
	case connect.IsWireError(err):
		return &answered{"on " + c.Name + ": " + ce.Message(), markOf(ce.Code())}
	case ce.Code() == connect.CodeDeadlineExceeded:
		c.hush()
	case errors.Is(err, context.Canceled):
		return fmt.Errorf("%w: %s", context.Canceled, ce.Message())
	}
	return fmt.Errorf("the host %s is out of reach: %w: %s", c.Name, ErrOutOfReach, ce.Message())
}

// codec writes messages as CBOR, which holds bytes as they are.
type codec struct{}

func (codec) Name() string                        { return "cbor" }
func (codec) Marshal(message any) ([]byte, error) { return cbor.Marshal(message) }
func (codec) Unmarshal(b []byte, to any) error    { return cbor.Unmarshal(b, to) }
