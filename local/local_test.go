package local

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestSocket: the socket of a service is found by its address, whatever its directory is
// called, for its user alone; one that a killed service left is replaced.
func TestSocket(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	short := t.TempDir() // for sockets whose paths are too long
	t.Setenv("TMPDIR", short)
	for _, data := range []string{t.TempDir(), filepath.Join(t.TempDir(), strings.Repeat("long", 40))} {
		if err := os.MkdirAll(data, 0o700); err != nil {
			t.Fatal(err)
		}
		if _, err := Listen(data); err != nil { // and is killed
			t.Fatal(err)
		}
		l, err := Listen(data)
		if err != nil {
			t.Fatal(err)
		}
		at := &net.TCPAddr{IP: net.IPv4zero, Port: 7600}
		if err := Publish(Socket, at, filepath.Join(data, "socket")); err != nil {
			t.Fatal(err)
		}
		for _, address := range []string{"0.0.0.0:7600", "127.0.0.1:7600", "localhost:7600"} {
			path := SocketOf(address)
			if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
				t.Fatalf("%s: %v, %v", address, info, err)
			}
			ctx, stop := context.WithTimeout(t.Context(), 5*time.Second)
			conn, err := Dial(ctx, path)
			if err != nil {
				t.Fatal(err)
			}
			other, err := l.Accept()
			if err != nil {
				t.Fatal(err)
			}
			if name, err := UserOf(other); err != nil || name == "" {
				t.Errorf("its own user: %q, %v", name, err)
			}
			stop()
			conn.Close()
			other.Close()
		}
		if l.Close(); SocketOf("127.0.0.1:7600") != "" {
			t.Error("the socket is still found when the service has ended")
		}
		if left, err := os.ReadDir(short); err != nil || len(left) > 0 {
			t.Errorf("it left %v (%v)", left, err)
		}
	}
	// A data directory that is reached by a link keeps what is in it.
	data := t.TempDir()
	link := filepath.Join(t.TempDir(), "link")
	if err := errors.Join(os.Symlink(data, link), os.WriteFile(filepath.Join(data, "nightjar.db"), nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	for range 2 { // the first is killed
		if _, err := Listen(link); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := os.Stat(filepath.Join(data, "nightjar.db")); err != nil {
		t.Errorf("the records are gone: %v", err)
	}
	// So does whatever a link in the place of the socket leads to.
	other := t.TempDir()
	os.Remove(filepath.Join(data, "socket"))
	if err := errors.Join(os.WriteFile(filepath.Join(other, "socket"), nil, 0o600), os.Symlink(filepath.Join(other, "socket"), filepath.Join(data, "socket"))); err != nil {
		t.Fatal(err)
	}
	if _, err := Listen(data); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(other, "socket")); err != nil {
		t.Errorf("what a link led to is gone: %v", err)
	}
	if _, err := UserOf(nil); err == nil {
		t.Error("somebody who came otherwise has a name")
	}
}
