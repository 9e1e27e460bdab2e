package local

import (
	"context"
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
	}
	if _, err := UserOf(nil); err == nil {
		t.Error("somebody who came otherwise has a name")
	}
}
