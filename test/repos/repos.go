// Package repos makes real repositories for tests, and serves them over HTTP and SSH by
// the programs that others use.
package repos

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// Repo is a bare repository, and a clone in which somebody works.
type Repo struct {
	t    testing.TB
	Bare string
	Work string
}

// New makes a repository whose branch main has the files.
func New(t testing.TB, files map[string]string) *Repo {
	t.Helper()
	dir := t.TempDir()
	r := &Repo{t: t, Bare: filepath.Join(dir, "rules.git"), Work: filepath.Join(dir, "work")}
	r.run(dir, "init", "-q", "--bare", "-b", "main", r.Bare)
	r.run(dir, "init", "-q", "-b", "main", r.Work)
	r.Git("remote", "add", "origin", r.Bare)
	if len(files) > 0 {
		r.Commit("Mara Lind", "The first rules", files)
	}
	return r
}

// Commit writes files (with the text "" it removes them), and pushes a commit.
func (r *Repo) Commit(author, message string, files map[string]string) (id string) {
	r.t.Helper()
	for name, text := range files {
		at := filepath.Join(r.Work, name)
		if text == "" {
			r.try(os.Remove(at))
			continue
		}
		r.try(os.MkdirAll(filepath.Dir(at), 0o755))
		r.try(os.WriteFile(at, []byte(text), 0o644))
	}
	r.Git("add", "-A")
	r.Git("commit", "-q", "--author", author+" <somebody@ferry.example>", "-m", message)
	r.Git("push", "-q", "-f", "origin", "HEAD:main")
	return r.Git("rev-parse", "HEAD")
}

// Git runs a command in the clone.
func (r *Repo) Git(args ...string) string { r.t.Helper(); return r.run(r.Work, args...) }

func (r *Repo) try(err error) {
	if r.t.Helper(); err != nil {
		r.t.Fatal(err)
	}
}

// Env is the environment of git, without what the machine's user has configured.
func Env() []string {
	return append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null", "GIT_AUTHOR_NAME=Test",
		"GIT_AUTHOR_EMAIL=test@ferry.example", "GIT_COMMITTER_NAME=Test", "GIT_COMMITTER_EMAIL=test@ferry.example")
}

func (r *Repo) run(dir string, args ...string) string {
	r.t.Helper()
	c := exec.Command("git", args...)
	c.Dir, c.Env = dir, Env()
	out, err := c.CombinedOutput()
	if err != nil {
		r.t.Fatalf("git %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return strings.TrimSpace(string(out))
}

// HTTP serves the repository to who has the password of the user git, and returns its URL.
// at, if it is not nil, is called for each request.
func (r *Repo) HTTP(password string, at func(*http.Request)) string {
	r.t.Helper()
	path, err := exec.Command("git", "--exec-path").Output()
	r.try(err)
	backend := &cgi.Handler{
		Path: filepath.Join(strings.TrimSpace(string(path)), "git-http-backend"),
		Env: []string{"GIT_PROJECT_ROOT=" + filepath.Dir(r.Bare), "GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER=git",
			"GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null"},
		Stderr: io.Discard,
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if at != nil {
			at(q)
		}
		if _, said, _ := q.BasicAuth(); said != password {
			w.Header().Set("WWW-Authenticate", `Basic realm="git"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		backend.ServeHTTP(w, q)
	}))
	r.t.Cleanup(s.Close)
	r.run(r.Bare, "config", "http.receivepack", "true")
	return s.URL + "/rules.git"
}

// SSH serves the repository by sshd, and returns its URL, the key of a user, and the
// server's own as a line of its .pub file. It skips the test where there is no sshd.
func (r *Repo) SSH() (url string, key []byte, host string) {
	r.t.Helper()
	sshd := "/usr/sbin/sshd"
	if _, err := os.Stat(sshd); err != nil {
		r.t.Skip("there is no sshd on this machine")
	}
	dir := r.t.TempDir()
	r.try(os.MkdirAll("/run/sshd", 0o755))
	hostKey, hostLine := Key(r.t)
	key, line := Key(r.t)
	for name, text := range map[string]string{"host": string(hostKey), "allowed": line} {
		r.try(os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	r.try(err)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile %[2]s/allowed\n"+
		"StrictModes no\nUsePAM no\nPasswordAuthentication no\nPidFile none\nSetEnv GIT_CONFIG_GLOBAL=/dev/null\n", port, dir)
	r.try(os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600))
	c := exec.Command(sshd, "-D", "-e", "-f", filepath.Join(dir, "config"))
	r.try(c.Start())
	r.t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if at, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			at.Close()
			break
		}
		if time.Now().After(end) {
			r.t.Fatal("sshd does not answer")
		}
	}
	me, err := user.Current()
	r.try(err)
	return fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", me.Username, port, r.Bare), key, hostLine
}

// Key makes a private key for SSH, and the line of its .pub file.
func Key(t testing.TB) (private []byte, line string) {
	t.Helper()
	public, secret, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(secret, "")
	if err != nil {
		t.Fatal(err)
	}
	shown, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(block), strings.TrimSpace(string(ssh.MarshalAuthorizedKey(shown)))
}
