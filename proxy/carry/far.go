package carry

import (
	"net"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// farSilence is for how long the other end of a connection to another site may acknowledge
	// nothing of what was sent: a network between sites that is cut says nothing.
	farSilence = 800 * time.Millisecond
	// farTick is how often connections between sites are looked at: between the first time that
	// the system sends something again, after 200 ms at least, and the second.
	farTick = 250 * time.Millisecond
)

// farWatch has the system end connections between sites over which nothing comes through
// (tcp(7), TCP_USER_TIMEOUT). The system would end those, too, whose other end is there and
// takes nothing for a while; so it is told only while something that was sent, and for which
// there is room, has to be sent again. Its goroutine runs as long as there are connections.
type farWatch struct {
	mu        sync.Mutex               // guards what follows
	conns     map[syscall.RawConn]bool // whether it is told to
	isRunning bool
}

// far are the connections between sites of this process.
var far farWatch

// watchFar watches a connection until it is closed.
func watchFar(conn *net.TCPConn) {
	conn.SetKeepAliveConfig(net.KeepAliveConfig{Enable: true, Idle: time.Second, Interval: time.Second, Count: 2})
	raw, err := conn.SyscallConn()
	if err != nil {
		return
	}
	far.mu.Lock()
	defer far.mu.Unlock()
	if far.conns == nil {
		far.conns = map[syscall.RawConn]bool{}
	}
	far.conns[raw] = false
	if !far.isRunning {
		far.isRunning = true
		go far.run()
	}
}

func (w *farWatch) run() {
	tick := time.NewTicker(farTick)
	defer tick.Stop()
	for w.look() {
		<-tick.C
	}
}

// look looks at all connections, and forgets those that are closed. False: there are none.
func (w *farWatch) look() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for raw, isTold := range w.conns {
		is := isTold
		err := raw.Control(func(fd uintptr) {
			info, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO)
			if err != nil {
				return
			}
			limit := 0 // as the system does
			if is = info.Retransmits > 0 && info.Unacked > 0; is {
				limit = int(farSilence / time.Millisecond)
			}
			if is != isTold {
				syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, limit)
			}
		})
		if err != nil {
			delete(w.conns, raw)
		} else if is != isTold {
			w.conns[raw] = is
		}
	}
	w.isRunning = len(w.conns) > 0
	return w.isRunning
}
