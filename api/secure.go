package api

import (
	"crypto/tls"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"slices"
	"strings"

	"nightjar/identity"
	"nightjar/wire"
)

// SetCertificate names the certificate that people are shown, anew for each connection.
func (s *Server) SetCertificate(get func() (*tls.Certificate, error)) { s.shown = get }

// isMember tells whether a proxy begins a connection: it asks for the protocol of
// proxies or, when it is of an earlier program, for none. Browsers and other clients of
// people ask for HTTP.
func isMember(protocols []string) bool {
	return len(protocols) == 0 || slices.Contains(protocols, identity.ControlProtocol)
}

// bothTLS is the TLS of a port that proxies and people share. People are not asked for a
// certificate: a browser would ask them in turn.
func (s *Server) bothTLS() *tls.Config {
	members, turns := s.membersTLS(), newHandshakes()
	of := members.Clone()
	of.GetConfigForClient = func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		if isMember(hello.SupportedProtos) {
			_, err := members.GetConfigForClient(hello)
			return members, err
		}
		if err := turns.wait(hello); err != nil {
			return nil, err
		}
		return &tls.Config{
			MinVersion:             tls.VersionTLS12,
			SessionTicketsDisabled: true, // as those of proxies, whose keys it would share
			NextProtos:             []string{"h2", "http/1.1", "http/1.0"},
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
				if s.shown == nil {
					return nil, errors.New("there is no certificate for people")
				}
				return s.shown()
			},
		}, nil
	}
	return of
}

// secure answers by TLS: proxies at their endpoints, people elsewhere.
func (s *Server) secure(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, wire.Root) {
		s.members.ServeHTTP(w, r)
		return
	}
	s.echo.ServeHTTP(w, r)
}

// isLoopback tells whether only this machine reaches an address.
func isLoopback(at net.Addr) bool {
	tcp, isTCP := at.(*net.TCPAddr)
	return isTCP && tcp.IP.IsLoopback()
}

// toSecure answers what comes without TLS from other machines: pages are sent on to
// their secure address, and nothing else is done. A credential that came so was seen by
// whoever is between.
func toSecure(w http.ResponseWriter, r *http.Request) {
	isPlain := r.Header.Get("Authorization") == "" && r.Header.Get("Cookie") == ""
	if isPlain && (r.Method == http.MethodGet || r.Method == http.MethodHead) && !strings.HasPrefix(r.URL.Path, "/api/") {
		http.Redirect(w, r, "https://"+r.Host+r.URL.RequestURI(), http.StatusPermanentRedirect)
		return
	}
	f := failed(http.StatusForbidden, "not-secure", "this address speaks TLS alone: use https://%s. If a token was sent "+
		"just now, revoke it: it went over the network in the clear", r.Host)
	b, _ := json.Marshal(f.Problem)
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Connection", "close")
	w.WriteHeader(f.Status)
	w.Write(append(b, '\n'))
}
