package local

import (
	"errors"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
)

// TestOtherUser: the process of another user is told apart.
func TestOtherUser(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can become another user")
	}
	dir, err := os.MkdirTemp("/tmp", "nightjar-test-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "s")
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := errors.Join(os.Chmod(dir, 0o755), os.Chmod(path, 0o777)); err != nil {
		t.Fatal(err)
	}
	dialed := make(chan error, 1)
	go func() { // its thread becomes another user, and ends with it
		runtime.LockOSThread()
		const nobody = 65534
		if _, _, no := syscall.RawSyscall(syscall.SYS_SETRESUID, nobody, nobody, nobody); no != 0 {
			dialed <- no
			return
		}
		conn, err := net.Dial("unix", path)
		if err == nil {
			defer conn.Close()
		}
		dialed <- err
		<-t.Context().Done()
	}()
	if err := <-dialed; err != nil {
		t.Fatal(err)
	}
	conn, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if name, err := UserOf(conn); err == nil || !strings.Contains(err.Error(), "is for the user of the service") {
		t.Errorf("another user: %q, %v", name, err)
	}
}
