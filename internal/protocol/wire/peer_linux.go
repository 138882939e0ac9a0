package wire

import (
	"errors"
	"net"

	"golang.org/x/sys/unix"
)

// peer tells whose process is at the other end (unix(7), SO_PEERCRED): of who connected, or of who made the socket.
func peer(conn net.Conn) (id int, err error) {
	socket, ok := conn.(*net.UnixConn)
	if !ok {
		return 0, errors.New("it is no socket of this machine")
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return 0, err
	}
	var who *unix.Ucred
	wrong := raw.Control(func(fd uintptr) { who, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) })
	if err := errors.Join(wrong, err); err != nil {
		return 0, err
	}
	return int(who.Uid), nil
}
