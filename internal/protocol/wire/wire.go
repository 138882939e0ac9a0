// Package wire carries protocol.Bench between two processes: remote procedure calls by Connect over HTTP/2, bodies in JSON, on one
// connection. The bench dials and answers on it; the shop, which was dialled, calls. Whatever passes is either repeated until it is
// acknowledged (reports), known again when it comes twice (orders), or of the moment (progress): a wire that breaks loses nothing. Start
// with Answer and Meet.
package wire

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"sync"

	"connectrpc.com/connect"

	"hylostat.example/internal/protocol"
)

// Version is that of the wire. It changes when an earlier bench or shop could misunderstand; what is only added keeps it. The path of every
// call carries it, so that those who cannot talk are told so at the first.
const Version = 1

var service = fmt.Sprintf("/hylostat.bench.v%d.Bench/", Version)

// most is the largest message, in bytes: a report of a sweep with everything it found, or of file systems.
const most = 64 << 20

// mostAtOnce is how many calls may be under way; more wait.
const mostAtOnce = 1000

// The messages, by their calls.
type (
	nothing struct{}
	hello   struct {
		protocol.Description
		Tool string `json:"tool"` // the version of the program
	}
	sequence struct {
		Seq int64 `json:"seq"`
	}
	binding struct {
		Shop  string `json:"shop"`
		After int64  `json:"after"`
	}
	answer struct {
		Receipt protocol.Receipt  `json:"receipt"`
		Refusal *protocol.Refusal `json:"refusal,omitempty"`
	}
	reports struct {
		Reports []protocol.Report `json:"reports"`
	}
)

// codec writes messages as they are in the journal: what passes is in no second description beside package protocol.
type codec struct{}

func (codec) Name() string                       { return "json" }
func (codec) Marshal(v any) ([]byte, error)      { return json.Marshal(v) }
func (codec) Unmarshal(body []byte, v any) error { return json.Unmarshal(body, v) }

// protocols has both sides speak HTTP/2 from the first byte.
func protocols() *http.Protocols {
	p := &http.Protocols{}
	p.SetUnencryptedHTTP2(true)
	return p
}

// Answer has a bench answer on a connection until the context or the connection ends, which it closes. tool is the program's version.
func Answer(ctx context.Context, conn net.Conn, b protocol.Bench, tool string) error {
	ctx, end := context.WithCancel(ctx)
	defer end()
	one := newLine(conn)
	web := &http.Server{ //nolint:gosec // one peer, who was checked, on one connection that is silent while there is nothing to tell
		Handler: answers(b, tool), Protocols: protocols(), HTTP2: &http.HTTP2Config{MaxConcurrentStreams: mostAtOnce},
		BaseContext: func(net.Listener) context.Context { return ctx },
	}
	context.AfterFunc(ctx, func() { _ = web.Close() })
	go func() {
		<-one.gone
		end()
	}()
	err := web.Serve(one)
	// The line's end is told to the server and to the goroutine above; whichever hears it first ends this.
	if ctx.Err() != nil || errors.Is(err, http.ErrServerClosed) || errors.Is(err, protocol.ErrGone) {
		return nil
	}
	return err
}

// answers is what a bench answers.
func answers(b protocol.Bench, tool string) http.Handler {
	mux := http.NewServeMux()
	unary(mux, "Hello", func(context.Context, *nothing) (*hello, error) { return &hello{b.Describe(), tool}, nil })
	unary(mux, "Bond", func(ctx context.Context, _ *nothing) (*protocol.Bond, error) {
		bond, err := b.Bond(ctx)
		return &bond, err
	})
	unary(mux, "Bind", func(ctx context.Context, m *binding) (*nothing, error) {
		return &nothing{}, b.Bind(ctx, m.Shop, m.After)
	})
	unary(mux, "Order", func(ctx context.Context, o *protocol.Order) (*answer, error) {
		receipt, err := b.Order(ctx, *o)
		if refusal, ok := errors.AsType[*protocol.Refusal](err); ok {
			return &answer{Refusal: refusal}, nil
		}
		return &answer{Receipt: receipt}, err
	})
	unary(mux, "Reports", func(ctx context.Context, _ *nothing) (*reports, error) {
		all, err := b.Reports(ctx)
		return &reports{all}, err
	})
	unary(mux, "Acknowledge", func(ctx context.Context, m *sequence) (*nothing, error) { return &nothing{}, b.Acknowledge(ctx, m.Seq) })
	unary(mux, "Resend", func(ctx context.Context, m *sequence) (*nothing, error) { return &nothing{}, b.Resend(ctx, m.Seq) })
	mux.Handle(service+"Progress", connect.NewServerStreamHandlerSimple(service+"Progress",
		func(ctx context.Context, _ *nothing, out *connect.ServerStream[protocol.Progress]) error {
			moves, err := b.Progress(ctx)
			if err != nil {
				return err
			}
			if err := out.Send(nil); err != nil { // the shop is heard to listen
				return err
			}
			for {
				select {
				case <-ctx.Done():
					return nil
				case p, more := <-moves:
					if !more {
						return nil
					}
					if err := out.Send(&p); err != nil {
						return err
					}
				}
			}
		}, connect.WithCodec(codec{}), connect.WithReadMaxBytes(most)))
	return mux
}

func unary[Asked, Said any](mux *http.ServeMux, name string, do func(context.Context, *Asked) (*Said, error)) {
	mux.Handle(service+name, connect.NewUnaryHandlerSimple(service+name, do, connect.WithCodec(codec{}), connect.WithReadMaxBytes(most)))
}

// Bench is a bench at the other end of a wire; it implements protocol.Bench. Every error of a call that found nobody there is a
// protocol.ErrGone.
type Bench struct {
	said hello
	line *line
	web  *http.Client
}

var _ protocol.Bench = (*Bench)(nil)

// Meet takes a connection on which a bench answers, and asks the bench who it is. The bench closes it at its end, or Close does.
func Meet(ctx context.Context, conn net.Conn) (*Bench, error) {
	one := newLine(conn)
	b := &Bench{line: one, web: &http.Client{Transport: &http.Transport{
		Protocols: protocols(), HTTP2: &http.HTTP2Config{StrictMaxConcurrentRequests: true},
		DialContext: func(context.Context, string, string) (net.Conn, error) { return one.Accept() },
	}}}
	said, err := call[nothing, hello](ctx, b, "Hello", &nothing{})
	if err != nil {
		_ = b.Close()
		if connect.CodeOf(err) == connect.CodeUnimplemented {
			err = fmt.Errorf("it speaks another version of the wire than %d: upgrade the program on both sides", Version)
		}
		return nil, fmt.Errorf("meeting a bench: %w", err)
	}
	b.said = *said
	return b, nil
}

// Close ends the connection.
func (b *Bench) Close() error { return b.line.Close() }

// Tool is the version of the bench's program.
func (b *Bench) Tool() string { return b.said.Tool }

// Describe implements protocol.Bench.
func (b *Bench) Describe() protocol.Description { return b.said.Description }

// Bond implements protocol.Bench.
func (b *Bench) Bond(ctx context.Context) (protocol.Bond, error) {
	bond, err := call[nothing, protocol.Bond](ctx, b, "Bond", &nothing{})
	if err != nil {
		return protocol.Bond{}, err
	}
	return *bond, nil
}

// Bind implements protocol.Bench.
func (b *Bench) Bind(ctx context.Context, shop string, after int64) error {
	_, err := call[binding, nothing](ctx, b, "Bind", &binding{shop, after})
	return err
}

// Order implements protocol.Bench.
func (b *Bench) Order(ctx context.Context, o protocol.Order) (protocol.Receipt, error) {
	said, err := call[protocol.Order, answer](ctx, b, "Order", &o)
	if err != nil {
		return protocol.Receipt{}, err
	}
	if said.Refusal != nil {
		return protocol.Receipt{}, said.Refusal
	}
	return said.Receipt, nil
}

// Reports implements protocol.Bench.
func (b *Bench) Reports(ctx context.Context) ([]protocol.Report, error) {
	said, err := call[nothing, reports](ctx, b, "Reports", &nothing{})
	if err != nil {
		return nil, err
	}
	return said.Reports, nil
}

// Acknowledge implements protocol.Bench.
func (b *Bench) Acknowledge(ctx context.Context, seq int64) error {
	_, err := call[sequence, nothing](ctx, b, "Acknowledge", &sequence{seq})
	return err
}

// Resend implements protocol.Bench.
func (b *Bench) Resend(ctx context.Context, after int64) error {
	_, err := call[sequence, nothing](ctx, b, "Resend", &sequence{after})
	return err
}

// Progress implements protocol.Bench. The channel is closed when the context or the wire ends.
func (b *Bench) Progress(ctx context.Context) (<-chan protocol.Progress, error) {
	in, err := client[nothing, protocol.Progress](b, "Progress").CallServerStream(ctx, connect.NewRequest(&nothing{}))
	if err != nil {
		return nil, b.failed(ctx, "Progress", err)
	}
	moves := make(chan protocol.Progress)
	go func() {
		defer close(moves)
		defer func() { _ = in.Close() }()
		for in.Receive() {
			select {
			case moves <- *in.Msg():
			case <-ctx.Done():
				return
			}
		}
	}()
	return moves, nil
}

func client[Asked, Said any](b *Bench, name string) *connect.Client[Asked, Said] {
	return connect.NewClient[Asked, Said](
		b.web, "http://bench"+service+name, connect.WithCodec(codec{}), connect.WithReadMaxBytes(most),
		connect.WithAcceptCompression("gzip", nil, nil), // it does not leave the machine
	)
}

func call[Asked, Said any](ctx context.Context, b *Bench, name string, asked *Asked) (*Said, error) {
	said, err := client[Asked, Said](b, name).CallUnary(ctx, connect.NewRequest(asked))
	if err != nil {
		return nil, b.failed(ctx, name, err)
	}
	return said.Msg, nil
}

// failed tells what a call failed for: nobody there, or what the bench says.
func (b *Bench) failed(ctx context.Context, name string, err error) error {
	select {
	case <-b.line.gone:
		return fmt.Errorf("%w (%s: %w)", protocol.ErrGone, name, err)
	default:
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case connect.CodeOf(err) == connect.CodeDeadlineExceeded: // the bench was told how long is waited, and was the first to notice
		return context.DeadlineExceeded
	case connect.CodeOf(err) == connect.CodeCanceled: // the bench ends
		return fmt.Errorf("%w (%s: %w)", protocol.ErrGone, name, err)
	}
	if said, ok := errors.AsType[*connect.Error](err); ok && connect.IsWireError(err) {
		return fmt.Errorf("%s says: %s", b.said.Title, said.Message())
	}
	return err
}

// line is one connection, as a listener that has it to give once. It knows when it is gone.
type line struct {
	net.Conn
	once sync.Once
	gone chan struct{}
	give chan net.Conn
}

func newLine(conn net.Conn) *line {
	l := &line{Conn: conn, gone: make(chan struct{}), give: make(chan net.Conn, 1)}
	l.give <- l
	return l
}

// Read implements net.Conn.
func (l *line) Read(b []byte) (int, error) {
	n, err := l.Conn.Read(b)
	if err != nil && !errors.Is(err, os.ErrDeadlineExceeded) {
		_ = l.Close()
	}
	return n, err
}

// Close implements net.Conn and net.Listener.
func (l *line) Close() (err error) {
	l.once.Do(func() {
		err = l.Conn.Close()
		close(l.gone)
	})
	return err
}

// Accept implements net.Listener.
func (l *line) Accept() (net.Conn, error) {
	select {
	case conn := <-l.give:
		return conn, nil
	case <-l.gone:
		return nil, protocol.ErrGone
	}
}

// Addr implements net.Listener.
func (l *line) Addr() net.Addr { return l.LocalAddr() }
