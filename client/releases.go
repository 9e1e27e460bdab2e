package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"nightjar/api/dto"
	"nightjar/control"
)

// Releases lists releases below the number before (0: from the newest), newest
// first, and what the rules in force declare.
func (c *Client) Releases(ctx context.Context, before uint, limit int) (l control.ReleaseList, err error) {
	return l, c.do(ctx, http.MethodGet, fmt.Sprintf("/releases?before=%d&limit=%d", before, limit), nil, &l)
}

// StartRelease begins a release.
func (c *Client) StartRelease(ctx context.Context, ask control.ReleaseAsk) (r control.Release, err error) {
	return r, c.do(ctx, http.MethodPost, "/releases", ask, &r)
}

// Release is a release by its name or number.
func (c *Client) Release(ctx context.Context, name string) (r control.Release, err error) {
	return r, c.do(ctx, http.MethodGet, "/releases/"+url.PathEscape(name), nil, &r)
}

// ActRelease tells a release what a person wants; act is one of control.ActHold
// and its like.
func (c *Client) ActRelease(ctx context.Context, name, act string, in dto.ReleaseAct) (r control.Release, err error) {
	return r, c.do(ctx, http.MethodPost, "/releases/"+url.PathEscape(name)+"/"+act, in, &r)
}

// NoticeKey is what receivers check signatures with.
func (c *Client) NoticeKey(ctx context.Context) (k control.NoticeKey, err error) {
	return k, c.do(ctx, http.MethodGet, "/releases/key", nil, &k)
}

// Standins lists the simulated workloads of the sample mesh.
func (c *Client) Standins(ctx context.Context) (l dto.Standins, err error) {
	return l, c.do(ctx, http.MethodGet, "/standins", nil, &l)
}

// SetStandin changes an instance, or all of SERVICE/VERSION.
func (c *Client) SetStandin(ctx context.Context, which string, change control.StandinChange) (l dto.Standins, err error) {
	return l, c.do(ctx, http.MethodPut, "/standins/"+url.PathEscape(strings.Replace(which, "/", "~", 1)), change, &l)
}
