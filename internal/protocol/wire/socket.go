package wire

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"strconv"
	"syscall"
)

// Users are those whose processes are trusted at the other end of a socket, besides this process's own user and root.
type Users []int

// UsersOf finds users by their names.
func UsersOf(names ...string) (all Users, err error) {
	for _, name := range names {
		u, err := user.Lookup(name)
		if err != nil {
			return nil, fmt.Errorf("no user of this machine is called %s", name)
		}
		id, err := strconv.Atoi(u.Uid)
		if err != nil {
			return nil, fmt.Errorf("the user %s has the number %q", name, u.Uid)
		}
		all = append(all, id)
	}
	return all, nil
}

// trust refuses a connection whose other end is of none of these users, by what the kernel says of it.
func (u Users) trust(conn net.Conn) error {
	id, err := peer(conn)
	if err != nil {
		return fmt.Errorf("asking the kernel who is at the other end: %w", err)
	}
	for _, one := range append(Users{0, os.Getuid()}, u...) {
		if id == one {
			return nil
		}
	}
	who := strconv.Itoa(id)
	if named, err := user.LookupId(who); err == nil {
		who = named.Username
	}
	return fmt.Errorf("at the other end is a process of the user %s, who is not trusted", who)
}

// Socket is where benches of this machine are waited for.
type Socket struct {
	listener net.Listener
	users    Users
}

// Listen makes a socket at a path; one that a service left behind there is replaced. Everybody of the machine may knock: whoever is not
// trusted is turned away.
func Listen(path string, users Users) (*Socket, error) {
	if conn, err := net.Dial("unix", path); err == nil { //nolint:noctx // it is on this machine, and answers or does not
		return nil, errors.Join(fmt.Errorf("another service waits for its bench at %s", path), conn.Close())
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("replacing the socket %s: %w", path, err)
	}
	l, err := net.Listen("unix", path) //nolint:noctx // as above
	if err != nil {
		return nil, fmt.Errorf("waiting for a bench at %s: %w", path, err)
	}
	if err := os.Chmod(path, 0o666); err != nil { //nolint:gosec // the kernel says who knocks
		return nil, errors.Join(fmt.Errorf("opening the socket %s to benches: %w", path, err), l.Close())
	}
	return &Socket{l, users}, nil
}

// Accept waits for the next who knocks. An error of net.ErrClosed is for good; any other is of one who was turned away.
func (s *Socket) Accept() (net.Conn, error) {
	conn, err := s.listener.Accept()
	if err != nil {
		return nil, err
	}
	if err := s.users.trust(conn); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}

// Close removes the socket.
func (s *Socket) Close() error { return s.listener.Close() }

// ErrNobody says that no service waits at a socket.
var ErrNobody = errors.New("no service waits there")

// Dial knocks at the socket of a service. The error is ErrNobody when there is none.
func Dial(ctx context.Context, path string, users Users) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", path)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ECONNREFUSED) {
		return nil, fmt.Errorf("%s: %w", path, ErrNobody)
	}
	if err != nil {
		return nil, err
	}
	if err := users.trust(conn); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return conn, nil
}
