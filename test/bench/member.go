package main

import (
	"bytes"
	"context"
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

// joinAs joins a mesh on this machine, and registers.
func joinAs(ctx context.Context, server, id, svc, nonce string) (*member, error) {
	t, err := service.ReadJoinFile(server)()
	if err != nil {
		return nil, err
	}
	key, err := identity.NewKey()
	if err != nil {
		return nil, err
	}
	who := identity.Member{Name: identity.Name{Kind: identity.Service, Name: svc}, ID: id}
	request, err := identity.NewRequest(key, who)
	if err != nil {
		return nil, err
	}
	var credentials identity.Credentials
	m := &member{base: "https://" + server + wire.Prefix + id}
	m.client = &http.Client{
		Timeout:   10 * time.Second,
		Transport: &http.Transport{TLSClientConfig: t.Config(), DisableKeepAlives: true},
	}
	var joined wire.Joined
	in := wire.Join{Secret: t.Secret, Request: request, ID: id, Service: svc, Version: "v1"}
	if err := m.call(ctx, http.MethodPost, "https://"+server+wire.JoinPath, in, &joined); err != nil {
		return nil, fmt.Errorf("joining: %w", err)
	}
	chain, err := identity.DecodeCertificates([]byte(joined.Chain))
	if err != nil {
		return nil, err
	}
	roots, err := identity.DecodeCertificates([]byte(joined.Trust.Roots))
	if err != nil {
		return nil, err
	}
	trust, err := identity.NewTrust(joined.Trust.Domain, joined.Trust.Generation, roots)
	if err != nil {
		return nil, err
	}
	credentials.Set(identity.Certificate(chain, key), trust)
	m.client.Transport = &http.Transport{TLSClientConfig: credentials.ClientConfig(identity.Name{Kind: identity.Node})}
	return m, m.call(ctx, http.MethodPut, m.base, wire.Registration{ID: id, Nonce: nonce, Service: svc, Version: "v1", Program: "bench"}, nil)
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
