package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"nightjar/api/model"
)

// Who is who calls, and what they may do.
func (c *Client) Who(ctx context.Context) (w model.Who, err error) {
	return w, c.do(ctx, http.MethodGet, "/who", nil, &w)
}

// Console makes a link that signs a browser in once, as who calls, and returns its URL.
func (c *Client) Console(ctx context.Context, life time.Duration) (link string, expires time.Time, err error) {
	var l model.SignInLink
	ask := model.SignInLinkRequest{ForSeconds: int64(life.Seconds())}
	err = c.do(ctx, http.MethodPost, "/sessions/links", ask, &l)
	return c.name + l.Path, l.Expires, err
}

// SignInOptions is how people can sign in.
func (c *Client) SignInOptions(ctx context.Context) (o model.SignInOptions, err error) {
	return o, c.do(ctx, http.MethodGet, "/sign-in", nil, &o)
}

// BeginDeviceSignIn begins the sign-in of a command.
func (c *Client) BeginDeviceSignIn(ctx context.Context) (d model.DeviceSignIn, err error) {
	return d, c.do(ctx, http.MethodPost, "/sign-on/devices", nil, &d)
}

// AwaitDeviceSignIn waits until somebody has allowed a command, and returns what it signs
// in with.
func (c *Client) AwaitDeviceSignIn(ctx context.Context, d model.DeviceSignIn) (token string, err error) {
	for {
		var t model.DeviceToken
		err := c.do(ctx, http.MethodPost, "/sign-on/devices/await", model.AwaitRequest{Handle: d.Handle}, &t)
		if err != nil || !t.IsPending {
			return t.Token, err
		}
	}
}

// Sessions lists who is signed in to the console.
func (c *Client) Sessions(ctx context.Context) (l model.SessionList, err error) {
	return l, c.do(ctx, http.MethodGet, "/sessions", nil, &l)
}

// EndSession ends a session and lists the others.
func (c *Client) EndSession(ctx context.Context, id string) (l model.SessionList, err error) {
	return l, c.do(ctx, http.MethodDelete, "/sessions/"+url.PathEscape(id), nil, &l)
}

// AccessTokens lists the access tokens, the newest first.
func (c *Client) AccessTokens(ctx context.Context) (l model.AccessTokenList, err error) {
	return l, c.do(ctx, http.MethodGet, "/access-tokens", nil, &l)
}

// CreateAccessToken makes an access token.
func (c *Client) CreateAccessToken(ctx context.Context, in model.AccessTokenRequest) (t model.AccessToken, err error) {
	return t, c.do(ctx, http.MethodPost, "/access-tokens", in, &t)
}

// RevokeAccessToken revokes an access token, by its id or name, and lists the others.
func (c *Client) RevokeAccessToken(ctx context.Context, which string) (l model.AccessTokenList, err error) {
	return l, c.do(ctx, http.MethodDelete, "/access-tokens/"+url.PathEscape(which), nil, &l)
}

// Activity returns the entries of the activity log that a filter chooses, newest first.
func (c *Client) Activity(ctx context.Context, f model.ActivityFilter) (a model.ActivityPage, err error) {
	q := url.Values{}
	for name, value := range map[string]string{
		"service": f.Service, "site": f.Site, "who": f.Who, "what": f.What, "about": f.About,
	} {
		if value != "" {
			q.Set(name, value)
		}
	}
	for name, value := range map[string]uint{"before": f.Before, "after": f.After, "limit": uint(f.Limit)} {
		if value > 0 {
			q.Set(name, fmt.Sprint(value))
		}
	}
	if !f.Since.IsZero() {
		q.Set("since", fmt.Sprint(f.Since.Unix()))
	}
	return a, c.do(ctx, http.MethodGet, "/activity?"+q.Encode(), nil, &a)
}

// VerifyActivity checks the activity log.
func (c *Client) VerifyActivity(ctx context.Context) (v model.ActivityChain, err error) {
	return v, c.do(ctx, http.MethodGet, "/activity/chain", nil, &v)
}

// ExportActivity calls each with every entry of the activity log from a time on, the
// oldest first, until each returns an error.
func (c *Client) ExportActivity(ctx context.Context, since time.Time, each func(model.ActivityEntry) error) error {
	path := "/activity/export"
	if !since.IsZero() {
		path += fmt.Sprintf("?since=%d", since.Unix())
	}
	resp, err := c.send(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	var failed error
	err = eachLine(resp, func(e model.ActivityEntry) bool {
		failed = each(e)
		return failed == nil
	})
	return errors.Join(failed, err)
}
