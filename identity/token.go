package identity

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"
)

// Token is what a proxy joins a mesh with. It names the service and its authority, so
// that an impostor cannot take its place, and holds a secret.
type Token struct {
	Server    string `json:"s"` // URL of the service, such as https://10.0.0.1:7601
	Authority string `json:"a"` // Fingerprint of its authority
	Secret    string `json:"k"`
}

// tokenMark begins the text of a token, so that one is recognised where it should not be.
const tokenMark = "nightjar-join-"

const maxToken = 2 << 10 // bytes of the text

// Text is the token in one word.
func (t Token) Text() string {
	b, _ := json.Marshal(t) // strings alone: it cannot fail
	return tokenMark + base64.RawURLEncoding.EncodeToString(b)
}

// ParseToken reads the text of a token.
func ParseToken(text string) (Token, error) {
	var t Token
	text = strings.TrimSpace(text)
	body, ok := strings.CutPrefix(text, tokenMark)
	if !ok || len(text) > maxToken {
		return t, errors.New("it is not a join token: make one with nightjar join-token create")
	}
	b, err := base64.RawURLEncoding.DecodeString(body)
	if err == nil {
		err = json.Unmarshal(b, &t)
	}
	if err != nil || t.Secret == "" || len(t.Authority) != 64 || !strings.HasPrefix(t.Server, "https://") {
		return Token{}, errors.New("this join token is incomplete: copy all of it, it is one word")
	}
	return t, nil
}

// Config is for the first connection to the service, before there are authorities to
// trust: the one of the token signs it, whatever else it shows.
func (t Token) Config() *tls.Config {
	return &tls.Config{
		MinVersion:         tls.VersionTLS13,
		NextProtos:         []string{ControlProtocol, "http/1.1"},
		InsecureSkipVerify: true, // VerifyConnection verifies by the fingerprint of the token
		VerifyConnection: func(s tls.ConnectionState) error {
			for _, c := range s.PeerCertificates {
				if Fingerprint(c) != t.Authority {
					continue
				}
				domain, err := domainOf(s.PeerCertificates[0])
				if err != nil {
					return err
				}
				trust, err := NewTrust(domain, 0, []*x509.Certificate{c})
				if err != nil {
					return err
				}
				m, err := trust.Verify(s.PeerCertificates, time.Now())
				if err != nil {
					return err
				}
				return expect(Name{Kind: Node}, m)
			}
			return ErrOtherAuthority
		},
	}
}

// ErrOtherAuthority means that a token is of another mesh than the service.
var ErrOtherAuthority = errors.New("the service's authority is not the one of the join token: " +
	"the token is of another mesh, or somebody answers in the place of the service")

func domainOf(leaf *x509.Certificate) (string, error) {
	m, err := MemberOf(leaf)
	return m.Domain, err
}

// ReadToken reads a token from the first of the files that is there.
func ReadToken(files ...string) (Token, error) {
	for _, name := range files {
		text, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return Token{}, err
		}
		t, err := ParseToken(string(text))
		if err != nil {
			return t, fmt.Errorf("%s: %w", name, err)
		}
		return t, nil
	}
	return Token{}, fmt.Errorf("there is no join file (%s): start the service on this machine, name its join file or "+
		"a join token with --join, or make one with nightjar join-token create", strings.Join(files, ", "))
}
