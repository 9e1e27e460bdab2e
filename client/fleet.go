package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"nightjar/api/model"
)

// Fleet lists the proxies.
func (c *Client) Fleet(ctx context.Context) (f model.Fleet, err error) {
	return f, c.do(ctx, http.MethodGet, "/fleet", nil, &f)
}

// UploadProgram uploads a program for the fleet.
func (c *Client) UploadProgram(ctx context.Context, from io.Reader, size int64) (p model.Program, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPut, c.base+"/api/v1/fleet/programs", from)
	if err != nil {
		return p, err
	}
	req.ContentLength = size
	req.Header.Set("Content-Type", "application/octet-stream")
	resp, err := c.exchange(req)
	if err != nil {
		return p, err
	}
	defer resp.Body.Close()
	return p, json.NewDecoder(resp.Body).Decode(&p)
}

// StartUpgrade has the fleet take a program that was uploaded.
func (c *Client) StartUpgrade(ctx context.Context, in model.UpgradeRequest) (u model.Upgrade, err error) {
	return u, c.do(ctx, http.MethodPost, "/fleet/upgrades", in, &u)
}

// Upgrades are those of the fleet, newest first.
func (c *Client) Upgrades(ctx context.Context) (l model.UpgradeList, err error) {
	return l, c.do(ctx, http.MethodGet, "/fleet/upgrades", nil, &l)
}

// TakeBackUpgrade has the proxies that took the program run the one before again.
func (c *Client) TakeBackUpgrade(ctx context.Context, number uint) (u model.Upgrade, err error) {
	return u, c.do(ctx, http.MethodPost, fmt.Sprintf("/fleet/upgrades/%d/take-back", number), nil, &u)
}

// Adopt tells proxies to follow this mesh, whatever mesh they followed before: those
// of the ids, or without ids all that follow another one or reject its rules. It
// returns the proxies that were told.
func (c *Client) Adopt(ctx context.Context, ids []string) (told []string, err error) {
	var out model.AdoptResult
	err = c.do(ctx, http.MethodPost, "/fleet/adopt", model.AdoptRequest{Proxies: ids}, &out)
	return out.Proxies, err
}

// Sites are the sites, with the figures of a window: see MeshAt.
func (c *Client) Sites(ctx context.Context, seconds int, at int64) (l model.Sites, err error) {
	return l, c.do(ctx, http.MethodGet, "/sites?"+windowQuery(seconds, at).Encode(), nil, &l)
}

// DrainSite has the instances of a site give their requests away over a time, such as 2m.
func (c *Client) DrainSite(ctx context.Context, site, over string) (d model.Drain, err error) {
	return d, c.do(ctx, http.MethodPut, "/sites/"+url.PathEscape(site)+"/drain", model.DrainRequest{Over: over}, &d)
}

// ResumeSite has them take their requests back.
func (c *Client) ResumeSite(ctx context.Context, site, over string) (d model.Drain, err error) {
	return d, c.do(ctx, http.MethodPut, "/sites/"+url.PathEscape(site)+"/resume", model.DrainRequest{Over: over}, &d)
}
