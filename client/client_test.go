package client

import (
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"nightjar/local"
)

// TestWhereTokensGo: a token is sent by TLS alone, but on this machine.
func TestWhereTokensGo(t *testing.T) {
	for server, want := range map[string]string{
		"127.0.0.1:7600":               "http://127.0.0.1:7600",
		"localhost:7600":               "http://localhost:7600",
		"[::1]:7600":                   "http://[::1]:7600",
		"192.0.2.2:7600":               "https://192.0.2.2:7600",
		"nightjar.ferry.example:7600/": "https://nightjar.ferry.example:7600",
		"http://192.0.2.2:7600":        "http://192.0.2.2:7600",
		"unix:/run/nightjar":           "unix:/run/nightjar",
	} {
		if got, err := ServerURL(server); err != nil || got != want {
			t.Errorf("%s: %s, %v, want %s", server, got, err, want)
		}
	}
	for _, server := range []string{"", "ftp://a", "http://", "a b"} {
		if got, err := ServerURL(server); err == nil {
			t.Errorf("%q: %s", server, got)
		}
	}
	for server, isGood := range map[string]bool{
		"http://192.0.2.2:7600": false, "http://ferry.example": false, "http://127.0.0.1:7600": true, "https://ferry.example": true,
	} {
		if _, err := New(server, Token("secret")); (err == nil) != isGood || err != nil && strings.Contains(err.Error(), "secret") {
			t.Errorf("a token to %s: %v", server, err)
		}
		if _, err := New(server); err != nil {
			t.Errorf("no token to %s: %v", server, err)
		}
	}
}

// TestSocketOfAnyAddress: on its machine a service is called by its socket without a token,
// whichever of its addresses is named.
func TestSocketOfAnyAddress(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(`{"name":"root"}`)) }))
	srv.Listener.Close()
	srv.Listener = l
	srv.Start()
	defer srv.Close()
	if err := local.Publish(local.Socket, &net.TCPAddr{IP: net.IPv4(192, 0, 2, 2), Port: 7600}, path); err != nil {
		t.Fatal(err)
	}
	for _, server := range []string{"192.0.2.2:7600", "http://192.0.2.2:7600", "https://192.0.2.2:7600"} {
		c, err := New(server)
		if err != nil {
			t.Fatal(err)
		}
		if w, err := c.Who(t.Context()); err != nil || w.Name != "root" {
			t.Errorf("%s: %+v, %v", server, w, err)
		}
	}
}

// TestSocketThatComesLater: whoever called before the service had its socket, and was not let
// in, is when it has.
func TestSocketThatComesLater(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	tcp := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) }))
	defer tcp.Close()
	c, err := New(tcp.URL)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Who(t.Context()); err == nil {
		t.Fatal("it was let in")
	}
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte(`{"name":"root"}`)) }))
	if err := local.Publish(local.Socket, tcp.Listener.Addr(), path); err != nil {
		t.Fatal(err)
	}
	if w, err := c.Who(t.Context()); err != nil || w.Name != "root" {
		t.Errorf("%+v, %v", w, err)
	}
}
