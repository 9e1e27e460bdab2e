package client

import (
	"context"
	"net/http"
	"net/url"

	"nightjar/api/model"
)

// Authority tells who signs the certificates of the mesh, and how a rotation is going.
func (c *Client) Authority(ctx context.Context) (a model.Authority, err error) {
	return a, c.do(ctx, http.MethodGet, "/authority", nil, &a)
}

// Roots are the roots that proxies trust.
func (c *Client) Roots(ctx context.Context) (r model.Roots, err error) {
	return r, c.do(ctx, http.MethodGet, "/authority/roots", nil, &r)
}

// RotateAuthority begins to replace the root by a new one.
func (c *Client) RotateAuthority(ctx context.Context) (a model.Authority, err error) {
	return a, c.do(ctx, http.MethodPost, "/authority/rotate", nil, &a)
}

// RequestAuthority makes a signing request, in PEM, for an authority elsewhere.
func (c *Client) RequestAuthority(ctx context.Context) (r model.SigningRequest, err error) {
	return r, c.do(ctx, http.MethodPost, "/authority/request", nil, &r)
}

// InstallAuthority takes the certificate for the signing request into use.
func (c *Client) InstallAuthority(ctx context.Context, in model.InstallRequest) (a model.Authority, err error) {
	return a, c.do(ctx, http.MethodPost, "/authority/install", in, &a)
}

// JoinTokens lists the join tokens, the newest first.
func (c *Client) JoinTokens(ctx context.Context) (l model.JoinTokenList, err error) {
	return l, c.do(ctx, http.MethodGet, "/join-tokens", nil, &l)
}

// CreateJoinToken makes a token with which a proxy joins the mesh.
func (c *Client) CreateJoinToken(ctx context.Context, in model.JoinTokenRequest) (t model.JoinToken, err error) {
	return t, c.do(ctx, http.MethodPost, "/join-tokens", in, &t)
}

// RevokeJoinToken revokes a join token and lists the others.
func (c *Client) RevokeJoinToken(ctx context.Context, id string) (l model.JoinTokenList, err error) {
	return l, c.do(ctx, http.MethodDelete, "/join-tokens/"+url.PathEscape(id), nil, &l)
}

// Access tells who may call whom, who did, and who was refused; empty names are any.
func (c *Client) Access(ctx context.Context, from, to string) (m model.AccessMatrix, err error) {
	path := "/access?from=" + url.QueryEscape(from) + "&to=" + url.QueryEscape(to)
	return m, c.do(ctx, http.MethodGet, path, nil, &m)
}

// SuggestAccess writes access rules for what was used in the last 14 days.
func (c *Client) SuggestAccess(ctx context.Context) (s model.AccessSuggestion, err error) {
	return s, c.do(ctx, http.MethodGet, "/access/suggestion", nil, &s)
}
