package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"nightjar/identity"
	"nightjar/service"
	"nightjar/wire"
)

// member is a proxy as the service sees it: an identity, and the calls that it makes.
type member struct {
	client *http.Client
	base   string // of its calls
}

// join joins a mesh on this machine as a proxy of a service: its certificate, and the
// authorities that it is told to trust.
func join(ctx context.Context, server, id, svc string) (*tls.Certificate, *identity.Trust, error) {
	t, err := service.ReadJoinFile(server)()
	if err != nil {
		return nil, nil, err
	}
	key, err := identity.NewKey()
	if err != nil {
		return nil, nil, err
	}
	who := identity.Member{Name: identity.Name{Kind: identity.Service, Name: svc}, ID: id}
	request, err := identity.NewRequest(key, who)
	if err != nil {
		return nil, nil, err
	}
	stranger := member{client: &http.Client{
		Timeout:   callTime,
		Transport: &http.Transport{TLSClientConfig: t.Config(), DisableKeepAlives: true},
	}}
	var joined wire.Joined
	in := wire.Join{Secret: t.Secret, Request: request, ID: id, Service: svc, Version: "v1"}
	if err := stranger.call(ctx, http.MethodPost, "https://"+server+wire.JoinPath, in, &joined); err != nil {
		return nil, nil, fmt.Errorf("joining: %w", err)
	}
	chain, err := identity.DecodeCertificates([]byte(joined.Chain))
	if err != nil {
		return nil, nil, err
	}
	roots, err := identity.DecodeCertificates([]byte(joined.Trust.Roots))
	if err != nil {
		return nil, nil, err
	}
	trust, err := identity.NewTrust(joined.Trust.Domain, joined.Trust.Generation, roots)
	return identity.Certificate(chain, key), trust, err
}

// callTime bounds one call of a member.
const callTime = 10 * time.Second

// joinAs joins a mesh on this machine, and registers.
func joinAs(ctx context.Context, server, id, svc, nonce string) (*member, error) {
	own, trust, err := join(ctx, server, id, svc)
	if err != nil {
		return nil, err
	}
	var credentials identity.Credentials
	credentials.Set(own, trust)
	m := &member{base: "https://" + server + wire.Prefix + id, client: &http.Client{
		Timeout:   callTime,
		Transport: &http.Transport{TLSClientConfig: credentials.ClientConfig(identity.Name{Kind: identity.Node})},
	}}
	r := wire.Registration{ID: id, Nonce: nonce, Service: svc, Version: "v1", Program: "bench"}
	return m, m.call(ctx, http.MethodPut, m.base, r, nil)
}

// call makes a call with a body of JSON.
func (m *member) call(ctx context.Context, method, url string, in, out any) error {
	body, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, url, bytes.NewReader(body))
	if err != nil {
		return err
	}
	resp, err := m.client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		return err
	}
	if resp.StatusCode >= 300 {
		return fmt.Errorf("%s: %s", resp.Status, text)
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(text, out)
}
