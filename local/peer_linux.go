package local

import (
	"errors"
	"net"
	"syscall"
)

// peer is the user at the other end of a socket, as the kernel says (SO_PEERCRED,
// unix(7)).
func peer(conn net.Conn) (uid int, err error) {
	c, isUnix := conn.(*net.UnixConn)
	if !isUnix {
		return 0, errors.New("it is no Unix socket")
	}
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *syscall.Ucred
	var failed error
	err = raw.Control(func(fd uintptr) {
		cred, failed = syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED)
	})
	if err = errors.Join(err, failed); err != nil {
		return 0, err
	}
	return int(cred.Uid), nil
}
