package wire

import (
	"errors"
	"io"
	"net"
	"time"
)

// Pipe is a connection of two files or pipes: those by which a process talks to the one that started it. Whoever is at the other end was
// chosen by the system. It knows no deadlines.
func Pipe(in io.ReadCloser, out io.WriteCloser) net.Conn { return &pipe{in, out} }

type pipe struct {
	in  io.ReadCloser
	out io.WriteCloser
}

func (p *pipe) Read(b []byte) (int, error)       { return p.in.Read(b) }
func (p *pipe) Write(b []byte) (int, error)      { return p.out.Write(b) }
func (p *pipe) Close() error                     { return errors.Join(p.out.Close(), p.in.Close()) }
func (p *pipe) LocalAddr() net.Addr              { return &net.UnixAddr{Name: "pipe", Net: "unix"} }
func (p *pipe) RemoteAddr() net.Addr             { return p.LocalAddr() }
func (p *pipe) SetDeadline(time.Time) error      { return nil }
func (p *pipe) SetReadDeadline(time.Time) error  { return nil }
func (p *pipe) SetWriteDeadline(time.Time) error { return nil }
