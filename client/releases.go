package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"nightjar/api/model"
)

// Releases lists releases below the number before (0: from the newest), newest
// first, and what the rules in force declare.
func (c *Client) Releases(ctx context.Context, before uint, limit int) (l model.ReleasePage, err error) {
	return l, c.do(ctx, http.MethodGet, fmt.Sprintf("/releases?before=%d&limit=%d", before, limit), nil, &l)
}

// StartRelease starts a release.
func (c *Client) StartRelease(ctx context.Context, ask model.StartReleaseRequest) (r model.Release, err error) {
	return r, c.do(ctx, http.MethodPost, "/releases", ask, &r)
}

// Release is a release by its name or number.
func (c *Client) Release(ctx context.Context, name string) (r model.Release, err error) {
	return r, c.do(ctx, http.MethodGet, "/releases/"+url.PathEscape(name), nil, &r)
}

// ActOnRelease does one of the acts of api/model to a release.
func (c *Client) ActOnRelease(
	ctx context.Context,
	name, act string,
	in model.ReleaseAction,
) (r model.Release, err error) {
	return r, c.do(ctx, http.MethodPost, "/releases/"+url.PathEscape(name)+"/"+act, in, &r)
}

// SigningKey is the key by which receivers check the signatures of events.
func (c *Client) SigningKey(ctx context.Context) (k model.SigningKey, err error) {
	return k, c.do(ctx, http.MethodGet, "/releases/key", nil, &k)
}

// StandIns lists the stand-ins of the sample mesh.
func (c *Client) StandIns(ctx context.Context) (l model.StandInList, err error) {
	return l, c.do(ctx, http.MethodGet, "/standins", nil, &l)
}

// ChangeStandIn changes how an instance, or all of SERVICE/VERSION, behaves.
func (c *Client) ChangeStandIn(
	ctx context.Context,
	which string,
	change model.StandInChange,
) (l model.StandInList, err error) {
	return l, c.do(ctx, http.MethodPut, "/standins/"+url.PathEscape(strings.Replace(which, "/", "~", 1)), change, &l)
}
