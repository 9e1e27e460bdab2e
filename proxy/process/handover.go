// Package process is what a proxy has to do with its process: what it hands to the
// next one, what it tells a supervisor, its memory, and the listener for those who
// look after it.
package process

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
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
	Listeners map[string]int `json:"listeners"`        // file descriptors by the names of ports
	Ready     int            `json:"ready"`            // file descriptor to write to when the new process serves
	Program   Program        `json:"program"`          // that was started
	Args      []string       `json:"args"`             // the first is the program's name
	Before    *Program       `json:"before,omitempty"` // that started it, to go back to; nil: that is not known

	mu   sync.Mutex // guards what follows: listeners are taken while others are given up
	open map[string]net.Listener
}

// Program is the file of a program.
type Program struct {
	Path string `json:"path"`
	Hash string `json:"hash,omitempty"` // SHA-256, in hexadecimal digits; empty: not known
	// Upgrade is the number of the upgrade by which it came; 0: by none.
	Upgrade uint `json:"upgrade,omitempty"`
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

// Listen opens a listener, or takes the one of that name over. A nil Handover has
// none to take over.
func (h *Handover) Listen(name, address string) (net.Listener, error) {
	if l := h.take(name); l != nil {
		return l, nil
	}
	return net.Listen("tcp", address)
}

func (h *Handover) take(name string) net.Listener {
	if h == nil {
		return nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	l := h.open[name]
	delete(h.open, name)
	return l
}

// Done tells the process before that it can go.
func (h *Handover) Done() {
	if h == nil {
		return
	}
	h.mu.Lock()
	for _, l := range h.open { // which the rules do not want any more
		l.Close()
	}
	h.open = nil
	h.mu.Unlock()
	f := os.NewFile(uintptr(h.Ready), "ready")
	f.Write([]byte{1})
	f.Close()
}

// HandOver starts a program, with arguments of which the first is its name, and
// hands it listeners by the names of what they are for. It returns when the program
// has rules in force. After an error nothing has changed hands. When ctx is done
// first, the program is stopped.
func HandOver(
	ctx context.Context,
	id, nonce string,
	listeners map[string]net.Listener,
	program Program,
	before *Program,
	args []string,
) (pid int, err error) {
	ready, told, err := os.Pipe()
	if err != nil {
		return 0, err
	}
	defer ready.Close()
	h := &Handover{ID: id, Nonce: nonce, Listeners: map[string]int{}, Program: program, Args: args, Before: before}
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
	for name, l := range listeners {
		raw, err := l.(syscall.Conn).SyscallConn()
		if err != nil {
			return 0, err
		}
		fd, failed := -1, error(nil)
		err = raw.Control(func(from uintptr) { fd, failed = syscall.Dup(int(from)) })
		if err := errors.Join(err, failed); err != nil {
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
	pid, err = syscall.ForkExec(program.Path, args, &syscall.ProcAttr{Env: env, Files: files})
	if err != nil {
		return 0, fmt.Errorf("%s cannot be started: %w", program.Path, err)
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
	return pid, nil
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

// ResidentMemory is the resident memory of this process in bytes; 0 where the
// system does not tell (proc(5), statm).
func ResidentMemory() uint64 {
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
