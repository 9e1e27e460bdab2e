// Package git reads rule files from a branch of a repository, and proposes changes to it
// as branches. It keeps a small local copy, which can be deleted at any time.
package git

import (
	"cmp"
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"

	"golang.org/x/crypto/ssh"

	"nightjar/local"
)

// Source is a branch of a repository, and where rules are in it.
type Source struct {
	// URL is of scheme https, http, ssh or file. It has no credentials. Clean writes it so.
	URL string
	// Branch is its name without refs/heads/.
	Branch string
	// Path is a directory or a file of the repository; ".": all of it.
	Path string
	// Key is the text of a private key for ssh, of a token or USER:PASSWORD for https; nil: none.
	Key []byte
	// HostKey is the key by which an SSH server is known, as TYPE SHA256:… or SHA256:…;
	// empty: the one that it shows first.
	HostKey string
}

const (
	// MaxKey is how long the text of a key may be, in bytes.
	MaxKey = 64 << 10
	maxURL = 2000
)

var (
	shortSSH    = regexp.MustCompile(`^([A-Za-z0-9._-]+@)?([A-Za-z0-9.-]+):([^/:].*|/[^/].*)$`)
	branchShape = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._/+@#-]{0,200}$`)
	fingerprint = regexp.MustCompile(`^([a-z0-9@.-]+ )?SHA256:[A-Za-z0-9+/]{43}$`)
)

// Clean is the source with its URL, path and host key in their usual form. It returns what
// is wrong with one that cannot be read.
func (s Source) Clean() (Source, error) {
	var err error
	if s.URL, err = cleanURL(s.URL); err != nil {
		return s, err
	}
	if s.Path, err = cleanPath(s.Path); err != nil {
		return s, err
	}
	s.Branch = cmp.Or(strings.TrimPrefix(s.Branch, "refs/heads/"), "main")
	if !branchShape.MatchString(s.Branch) || strings.Contains(s.Branch, "..") || strings.HasSuffix(s.Branch, ".lock") {
		return s, fmt.Errorf("branch %q cannot be the name of a branch: write one such as main", s.Branch)
	}
	if s.HostKey, err = cleanHostKey(s.HostKey); err != nil {
		return s, err
	}
	return s, s.checkKey()
}

func cleanURL(text string) (string, error) {
	const expected = "write https://HOST/PATH, ssh://USER@HOST/PATH, or the absolute path of a repository " +
		"of the service's machine"
	text = strings.TrimSpace(text)
	if len(text) > maxURL {
		return "", fmt.Errorf("the URL of the repository has more than %d bytes", maxURL)
	}
	if m := shortSSH.FindStringSubmatch(text); m != nil && !strings.Contains(text, "://") {
		text = "ssh://" + m[1] + m[2] + "/" + strings.TrimPrefix(m[3], "/")
	}
	if strings.HasPrefix(text, "/") {
		text = (&url.URL{Scheme: "file", Path: path.Clean(text)}).String()
	}
	u, err := url.Parse(text)
	if err != nil || u.Path == "" || u.Opaque != "" {
		return "", fmt.Errorf("%q is not where a repository is: %s", text, expected)
	}
	if _, hasPassword := u.User.Password(); hasPassword || u.User != nil && u.Scheme != "ssh" {
		return "", fmt.Errorf("the URL of the repository has credentials in it, which everybody would see: " +
			"write them into a file and name that as the key")
	}
	if u.RawQuery != "" || u.Fragment != "" {
		return "", fmt.Errorf("%q has a query or a fragment: %s", text, expected)
	}
	switch {
	case u.Scheme == "file" && u.Host == "" && path.IsAbs(u.Path):
	case (u.Scheme == "https" || u.Scheme == "http" || u.Scheme == "ssh") && u.Hostname() != "" && u.Path != "/":
	default:
		return "", fmt.Errorf("%q is not where a repository is: %s", text, expected)
	}
	return u.String(), nil
}

func cleanPath(text string) (string, error) {
	p := path.Clean(cmp.Or(strings.TrimSpace(text), "."))
	if path.IsAbs(p) {
		return "", fmt.Errorf("path %q begins with a slash: write it as it is in the repository, such as rules", text)
	}
	if p == ".." || strings.HasPrefix(p, "../") || strings.ContainsAny(p, "\x00\\:") {
		return "", fmt.Errorf("path %q is no path within the repository: write one such as rules", text)
	}
	return p, nil
}

func cleanHostKey(text string) (string, error) {
	text = strings.TrimSpace(text)
	if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text)); err == nil {
		return nameOf(key), nil
	}
	if text != "" && !fingerprint.MatchString(text) {
		return "", fmt.Errorf("%q is no host key: write its fingerprint, SHA256:…, or the line of its .pub file", text)
	}
	return text, nil
}

// checkKey tells whether the key is one for the URL.
func (s *Source) checkKey() error {
	u, _ := url.Parse(s.URL)
	switch {
	case len(s.Key) > MaxKey:
		return fmt.Errorf("the key has more than %d bytes", MaxKey)
	case u.Scheme == "ssh" && len(s.Key) == 0:
		return fmt.Errorf("a repository by ssh needs a private key: name its file as the key")
	case u.Scheme == "ssh":
		_, err := signerOf(s.Key)
		return err
	case u.Scheme == "file" && len(s.Key) > 0:
		return fmt.Errorf("a repository of the service's machine needs no key: leave it out")
	case u.Scheme == "http" && len(s.Key) > 0 && !local.IsLoopback(u.Hostname()):
		return fmt.Errorf("http would send the key in clear text: write https")
	case len(s.Key) > 0 && !isLine(string(s.Key)):
		return fmt.Errorf("the key is no token: write one line, TOKEN or USER:PASSWORD, into the file")
	}
	return nil
}

func isLine(text string) bool {
	text = strings.TrimSpace(text)
	return text != "" && !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}

func signerOf(key []byte) (ssh.Signer, error) {
	signer, err := ssh.ParsePrivateKey(key)
	if _, isLocked := err.(*ssh.PassphraseMissingError); isLocked {
		return nil, fmt.Errorf("the key has a passphrase, which nobody could enter: make one without, for this use alone")
	}
	if err != nil {
		return nil, fmt.Errorf("the key is no private key for ssh: name the file without .pub, such as id_ed25519")
	}
	return signer, nil
}

// nameOf is how a host key is written: its type, and its fingerprint.
func nameOf(key ssh.PublicKey) string { return key.Type() + " " + ssh.FingerprintSHA256(key) }
