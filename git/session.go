package git

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/file"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	gitssh "github.com/go-git/go-git/v5/plumbing/transport/ssh"
	"golang.org/x/crypto/ssh"
	"golang.org/x/net/proxy"
)

const (
	// LookTime is how long one look at a repository, or one proposal, may take.
	LookTime = 2 * time.Minute
	dialTime = 15 * time.Second
	maxSaid  = 500 // bytes of what a repository says that are shown
)

var overHTTP = githttp.NewClientWithOptions(&http.Client{Transport: &http.Transport{
	Proxy:                 http.ProxyFromEnvironment,
	DialContext:           (&net.Dialer{Timeout: dialTime}).DialContext,
	TLSHandshakeTimeout:   dialTime,
	ResponseHeaderTimeout: LookTime,
	MaxIdleConnsPerHost:   2,
	IdleConnTimeout:       90 * time.Second,
	ForceAttemptHTTP2:     true,
}}, nil)

// boundedScheme is the scheme of a dialer whose connections end with the look that they are
// for: the library's own wait for an SSH server without a limit. The host is the number of
// the look.
const boundedScheme = "nightjar-bounded"

// looks are the contexts of looks that connect by SSH, by their numbers.
var (
	looks    sync.Map
	lastLook atomic.Uint64
)

func init() {
	gitssh.DefaultSSHConfig = nil // what somebody wrote for their own use is not the service's
	proxy.RegisterDialerType(boundedScheme, func(at *url.URL, _ proxy.Dialer) (proxy.Dialer, error) {
		ctx, isThere := looks.Load(at.Hostname())
		if !isThere {
			return nil, context.Canceled
		}
		return bounded{ctx.(context.Context)}, nil
	})
}

// bounded dials within a context, with which its connections end.
type bounded struct{ within context.Context }

func (b bounded) Dial(network, addr string) (net.Conn, error) {
	return b.DialContext(b.within, network, addr)
}

func (b bounded) DialContext(_ context.Context, network, addr string) (net.Conn, error) {
	c, err := (&net.Dialer{Timeout: dialTime}).DialContext(b.within, network, addr)
	if err == nil {
		context.AfterFunc(b.within, func() { c.SetDeadline(time.Unix(1, 0)) })
	}
	return c, err
}

// bound names a dialer whose connections end with ctx.
func bound(ctx context.Context) string {
	number := strconv.FormatUint(lastLook.Add(1), 10)
	looks.Store(number, ctx)
	context.AfterFunc(ctx, func() { looks.Delete(number) })
	return boundedScheme + "://" + number
}

// connect is the transport to the repository, its endpoint and the credentials.
func (r *Repository) connect(
	ctx context.Context,
) (transport.Transport, *transport.Endpoint, transport.AuthMethod, error) {
	at, err := transport.NewEndpoint(r.source.URL)
	if err != nil {
		return nil, nil, nil, err
	}
	switch at.Protocol {
	case "file":
		return file.DefaultClient, at, nil, nil
	case "ssh":
		at.Proxy.URL = bound(ctx)
		signer, err := signerOf(r.source.Key)
		return gitssh.DefaultClient, at, &keyed{r, at.User, signer}, err
	}
	if len(r.source.Key) == 0 {
		return overHTTP, at, nil, nil
	}
	user, password, isPair := strings.Cut(strings.TrimSpace(string(r.source.Key)), ":")
	if !isPair {
		user, password = "nightjar", user
	}
	return overHTTP, at, &githttp.BasicAuth{Username: user, Password: password}, nil
}

// keyed signs in to an SSH server, which is known by its host key.
type keyed struct {
	r      *Repository
	user   string
	signer ssh.Signer
}

// Name is that of the library for this kind of credentials.
func (*keyed) Name() string { return gitssh.PublicKeysName }

func (k *keyed) String() string { return k.user }

// ClientConfig is how to connect.
func (k *keyed) ClientConfig() (*ssh.ClientConfig, error) {
	user := k.user
	if user == "" {
		user = gitssh.DefaultUsername
	}
	c := &ssh.ClientConfig{
		User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(k.signer)}, Timeout: dialTime, HostKeyCallback: k.checkHost,
	}
	if kind, _, isNamed := strings.Cut(k.r.source.HostKey, " "); isNamed {
		c.HostKeyAlgorithms = []string{kind}
		if kind == ssh.KeyAlgoRSA {
			c.HostKeyAlgorithms = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
		}
	}
	return c, nil
}

// checkHost compares the key of a server with the known one; the first one becomes known.
func (k *keyed) checkHost(host string, _ net.Addr, key ssh.PublicKey) error {
	known, shown := k.r.source.HostKey, nameOf(key)
	if known != "" && known != shown && known != ssh.FingerprintSHA256(key) {
		return failure("%s shows another host key, %s, than the known one, %s. Somebody may be in between. If the server "+
			"has a new key, stop following and add it again", host, shown, known)
	}
	k.r.source.HostKey = shown
	return nil
}

// Failure is why a repository cannot be read or written, in words for people.
type Failure struct{ Why string }

func (f *Failure) Error() string { return f.Why }

func failure(format string, args ...any) error { return &Failure{said(fmt.Sprintf(format, args...))} }

// explain is an error of the library in words for people.
func (r *Repository) explain(err error) error {
	if f := (*Failure)(nil); errors.As(err, &f) {
		return f
	}
	at := r.source.URL
	if outer := (*url.Error)(nil); errors.As(err, &outer) {
		err = outer.Err // the URL is named anyway
	}
	text := err.Error()
	switch {
	case errors.Is(err, transport.ErrRepositoryNotFound):
		return failure("there is no repository at %s, or its key may not see it", at)
	case errors.Is(err, transport.ErrEmptyRemoteRepository):
		return failure("the repository at %s is empty: push branch %s", at, r.source.Branch)
	case errors.Is(err, transport.ErrAuthenticationRequired) && len(r.source.Key) == 0:
		return failure("the repository at %s asks who it is: add it again with a key", at)
	case errors.Is(err, transport.ErrAuthenticationRequired), errors.Is(err, transport.ErrAuthorizationFailed),
		strings.Contains(text, "unable to authenticate"):
		return failure("the repository at %s refuses the key: add it again with one that may read it", at)
	case isTimeout(err):
		return failure("the repository at %s did not respond in time", at)
	case strings.Contains(text, "executable file not found"):
		return failure("git is not installed on the service's machine, which a repository of that machine needs: " +
			"install it")
	case strings.Contains(text, "dubious ownership"):
		return failure("the repository at %s belongs to another user of the service's machine: allow it, "+
			"git config --global --add safe.directory %s", at, strings.TrimPrefix(at, "file://"))
	}
	return failure("the repository at %s cannot be used: %s", at, text)
}

// isTimeout tells whether something took too long.
func isTimeout(err error) bool {
	n := (net.Error)(nil)
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &n) && n.Timeout()
}

// said is what a repository says on one line of limited length, without control characters.
func said(text string) string {
	text = strings.Join(strings.FieldsFunc(strings.ToValidUTF8(text, "�"), func(r rune) bool {
		return r <= ' ' || r == 0x7f || r >= 0x80 && r < 0xa0
	}), " ")
	if len(text) > maxSaid {
		text = strings.ToValidUTF8(text[:maxSaid], "") + "…"
	}
	return text
}
