// Package local is how programs of one machine and one user find a service and prove
// themselves to it: by files that nobody else can read, and a socket that tells whose
// process is at the other end.
package local

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Kinds of files that are found by the address of the service.
const (
	Join   = "join"   // with which proxies join
	Socket = "socket" // by which the service answers without a token
)

// shortDir is how the name of a directory begins that holds a socket alone, since the data
// directory has too long a path.
const shortDir = "nightjar-socket-"

// maxPath is how long the path of a socket may be (of sun_path, unix(7), with room).
const maxPath = 100

// IsLoopback tells whether a host is this machine, so that nobody is on the way to it.
func IsLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Link is where the file of a kind is found of the service at host:port.
func Link(kind, address string) (string, error) {
	dir, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	address = strings.Replace(address, "localhost:", "127.0.0.1:", 1)
	return filepath.Join(dir, "nightjar", kind, strings.ReplaceAll(address, ":", "_")), nil
}

// Publish lets programs of this user find a file by the address where the service
// listens.
func Publish(kind string, at net.Addr, file string) error {
	file, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	for _, address := range addresses(at) {
		link, err := Link(kind, address)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(link), 0o700); err != nil {
			return err
		}
		os.Remove(link)
		forget(filepath.Dir(link))
		if err := os.Symlink(file, link); err != nil {
			return err
		}
	}
	return nil
}

// forget removes the links of a directory that lead nowhere: their services have ended.
func forget(dir string) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		link := filepath.Join(dir, e.Name())
		if _, err := os.Stat(link); errors.Is(err, os.ErrNotExist) {
			os.Remove(link)
		}
	}
}

// addresses are those at which programs of this machine reach a listener.
func addresses(at net.Addr) []string {
	out := []string{at.String()}
	if tcp, isTCP := at.(*net.TCPAddr); isTCP && tcp.IP.IsUnspecified() {
		out = append(out, net.JoinHostPort("127.0.0.1", strconv.Itoa(tcp.Port)))
	}
	return out
}

// SocketOf is the path of the socket of the service at host:port; empty: this user has
// none.
func SocketOf(address string) string {
	link, err := Link(Socket, address)
	if err != nil {
		return ""
	}
	path, err := filepath.EvalSymlinks(link)
	if err != nil {
		return ""
	}
	return path
}

// dialTime is how long a service may take to accept by its socket.
const dialTime = 5 * time.Second

// Dial connects to a socket.
func Dial(ctx context.Context, path string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialTime}
	return d.DialContext(ctx, "unix", path)
}

// Listen makes the socket of a service in its data directory, which nobody else uses.
func Listen(data string) (net.Listener, error) {
	path := filepath.Join(data, "socket")
	if old, err := os.Readlink(path); err == nil && strings.HasPrefix(filepath.Base(filepath.Dir(old)), shortDir) {
		os.Remove(old) // of a service that was killed; see below
		os.Remove(filepath.Dir(old))
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	at, dir := path, ""
	if full, err := filepath.Abs(path); err != nil || len(full) > maxPath {
		if dir, err = os.MkdirTemp("", shortDir); err != nil { // made with 0700
			return nil, err
		}
		at = filepath.Join(dir, "socket")
		if err := os.Symlink(at, path); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("unix", at)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(at, 0o600); err != nil {
		l.Close()
		return nil, err
	}
	return &socket{Listener: l, link: path, dir: dir}, nil
}

// socket is a listener that removes what Listen made.
type socket struct {
	net.Listener
	link, dir string
}

func (s *socket) Close() error {
	err := s.Listener.Close()
	if s.dir != "" {
		os.Remove(s.link)
		os.Remove(s.dir)
	}
	return err
}

// UserOf is the name of the user whose process is at the other end of a socket: that of
// this process, or root. Others are an error that says so.
func UserOf(conn net.Conn) (string, error) {
	uid, err := peer(conn)
	if err != nil {
		return "", fmt.Errorf("nobody can tell whose process this is (%w): send an access token to the address of "+
			"the service instead", err)
	}
	name := strconv.Itoa(uid)
	if u, err := user.LookupId(name); err == nil {
		name = u.Username
	}
	if !slices.Contains([]int{os.Geteuid(), 0}, uid) {
		return "", fmt.Errorf("this socket is for the user of the service, and %s is another one: sign in at its "+
			"address instead (nightjar sign-in)", name)
	}
	return name, nil
}
