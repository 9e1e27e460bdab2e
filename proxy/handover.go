package proxy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// handoverVariable tells a new process what it takes over.
const handoverVariable = "NIGHTJAR_HANDOVER"

// takeoverTime is how long a new process may take to have rules in force.
const takeoverTime = 30 * time.Second

// Handover is what one process hands to the next: its name and its listeners,
// so that no connection is refused in between.
type Handover struct {
	ID        string         `json:"id"`
	Nonce     string         `json:"nonce"`
	Listeners map[string]int `json:"listeners"` // file descriptors by the names of ports
	Ready     int            `json:"ready"`     // file descriptor to write to when the new process serves

	open map[string]net.Listener
}

// Inherited is what the process before hands to this one; nil: this is the
// first. The variable is taken out of the environment.
func Inherited() (*Handover, error) {
	text := os.Getenv(handoverVariable)
	if text == "" {
		return nil, nil
	}
	os.Unsetenv(handoverVariable)
	h := &Handover{open: map[string]net.Listener{}}
	if err := json.Unmarshal([]byte(text), h); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", handoverVariable, err)
	}
	syscall.CloseOnExec(h.Ready)
	for name, fd := range h.Listeners {
		f := os.NewFile(uintptr(fd), name)
		l, err := net.FileListener(f)
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("listener %s cannot be taken over: %w", name, err)
		}
		h.open[name] = l
	}
	return h, nil
}

// listen opens a listener, or takes the one of that name over.
func (h *Handover) listen(name, address string) (net.Listener, error) {
	if h != nil && h.open[name] != nil {
		l := h.open[name]
		delete(h.open, name)
		return l, nil
	}
	return net.Listen("tcp", address)
}

// Done tells the process before that it can go.
func (h *Handover) Done() {
	if h == nil {
		return
	}
	for _, l := range h.open { // which the rules do not want any more
		l.Close()
	}
	f := os.NewFile(uintptr(h.Ready), "ready")
	f.Write([]byte{1})
	f.Close()
}

// HandOver starts a program, with arguments of which the first is its name, and
// hands it the listeners. When the program has rules in force, Run drains this
// proxy and returns. Until then, and after an error, this proxy goes on as ever.
// When ctx is done first, the program is stopped.
func (p *Proxy) HandOver(ctx context.Context, program string, args []string) (pid int, err error) {
	ready, told, err := os.Pipe()
	if err != nil {
		return 0, err
	}
	defer ready.Close()
	h := Handover{ID: p.cfg.ID, Nonce: p.nonce, Listeners: map[string]int{}}
	files := []uintptr{0, 1, 2}
	var opened []int
	closeAll := func() {
		for _, fd := range opened {
			syscall.Close(fd)
		}
		opened = nil
		told.Close()
	}
	defer closeAll()
	for name, l := range p.listeners() {
		raw, err := l.(syscall.Conn).SyscallConn()
		if err != nil {
			return 0, err
		}
		fd, failed := -1, error(nil)
		if err := errors.Join(raw.Control(func(from uintptr) { fd, failed = syscall.Dup(int(from)) }), failed); err != nil {
			return 0, fmt.Errorf("listener %s cannot be handed over: %w", name, err)
		}
		syscall.CloseOnExec(fd)
		opened = append(opened, fd)
		h.Listeners[name] = len(files)
		files = append(files, uintptr(fd))
	}
	h.Ready = len(files)
	raw, err := told.SyscallConn()
	if err != nil {
		return 0, err
	}
	raw.Control(func(fd uintptr) { files = append(files, fd) })
	text, err := json.Marshal(h)
	if err != nil {
		return 0, err
	}
	env := append(os.Environ(), handoverVariable+"="+string(text))
	// Not os.StartProcess: it would make the listeners block, here too.
	pid, err = syscall.ForkExec(program, args, &syscall.ProcAttr{Env: env, Files: files})
	if err != nil {
		return 0, fmt.Errorf("%s cannot be started: %w", program, err)
	}
	closeAll()
	child, err := os.FindProcess(pid)
	if err != nil {
		return 0, err
	}
	defer context.AfterFunc(ctx, func() { child.Kill() })()
	ready.SetReadDeadline(time.Now().Add(takeoverTime))
	if n, rerr := ready.Read(make([]byte, 1)); n == 0 {
		child.Kill()
		state, _ := child.Wait()
		if errors.Is(rerr, os.ErrDeadlineExceeded) {
			return 0, fmt.Errorf("the new process had no rules in force after %s, and was stopped", takeoverTime)
		}
		return 0, fmt.Errorf("the new process ended before it was ready: %s", state)
	}
	go child.Wait() // so that it leaves no remains, should it end first
	p.handOnce.Do(func() { close(p.handed) })
	return pid, nil
}

// listeners are the open ones by the names of their ports.
func (p *Proxy) listeners() map[string]net.Listener {
	out := map[string]net.Listener{}
	for _, o := range p.ports() {
		out[o.name] = o.listener
	}
	if p.watchers != nil {
		out["metrics"] = p.watchers.listener
	}
	return out
}

// ports are those that are open now.
func (p *Proxy) ports() []*port {
	out := append([]*port(nil), p.services...)
	for _, o := range []*port{p.inbound, p.outbound} {
		if o != nil {
			out = append(out, o)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.edge != nil {
		out = append(out, p.edge.port)
	}
	return out
}

// Notify tells a supervisor that listens at NOTIFY_SOCKET how this process is
// doing (sd_notify(3)); without one it does nothing.
func Notify(state string) {
	path := os.Getenv("NOTIFY_SOCKET")
	if path == "" {
		return
	}
	ctx, stop := context.WithTimeout(context.Background(), time.Second)
	defer stop()
	if strings.HasPrefix(path, "@") {
		path = "\x00" + path[1:]
	}
	conn, err := new(net.Dialer).DialContext(ctx, "unixgram", path)
	if err != nil {
		return
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(time.Second))
	conn.Write([]byte(state))
}

// residentMemory is the resident memory of this process in bytes; 0 where the
// system does not tell (proc(5), statm).
func residentMemory() uint64 {
	b, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	f := strings.Fields(string(b))
	if len(f) < 2 {
		return 0
	}
	pages, _ := strconv.ParseUint(f[1], 10, 64)
	return pages * uint64(os.Getpagesize())
}
