//go:build !linux

package local

import (
	"errors"
	"net"
)

// peer is not known on this system.
func peer(net.Conn) (uid int, err error) { return 0, errors.ErrUnsupported }
