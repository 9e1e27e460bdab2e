// Package client is the Go client of the service's API.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/local"
)

// Client calls one service. The zero value is not usable; see New.
type Client struct {
	name      string // address of the service, as people know it
	base      string // URL that paths are put after
	token     string // empty: none
	authority string // see Authority
	http      *http.Client
}

// Unreachable means that no service answered.
type Unreachable struct {
	Server string
	Err    error
}

func (e *Unreachable) Error() string {
	if isUntrusted(e.Err) {
		return fmt.Sprintf("this machine does not trust the certificate of %s: %v. Sign in with --authority and the "+
			"fingerprint that nightjar ca show says on the service's machine", e.Server, e.Err)
	}
	return fmt.Sprintf(
		"no service answers at %s (%v): start one with \"nightjar serve\" or \"nightjar demo\", or name "+
			"another one with --server",
		e.Server,
		e.Err,
	)
}
func (e *Unreachable) Unwrap() error { return e.Err }

// Refused is an error that the service answered.
type Refused struct{ model.Problem }

func (e *Refused) Error() string { return e.Detail }

// ServerURL is the address of a service in full: 127.0.0.1:7600 means
// http://127.0.0.1:7600, and an address of another machine https. unix:PATH is its socket.
func ServerURL(server string) (string, error) {
	if strings.HasPrefix(server, unixScheme) {
		return server, nil
	}
	full := server
	if !strings.Contains(server, "://") {
		full = "https://" + server
	}
	u, err := url.Parse(full)
	if err == nil && full != server && local.IsLoopback(u.Hostname()) {
		u.Scheme = "http"
	}
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return "", fmt.Errorf("%q is not the address of a service: write http://HOST:PORT, or unix:PATH of its socket", server)
	}
	return strings.TrimSuffix(u.String(), "/"), nil
}

const unixScheme = "unix:"

// Option is how a client reaches a service, or proves who calls.
type Option func(*Client)

// Token has the client call with an access token.
func Token(text string) Option { return func(c *Client) { c.token = strings.TrimSpace(text) } }

// Authority has the client trust the service whose authority has a fingerprint (SHA-256
// in hexadecimal), besides those that the system trusts.
func Authority(fingerprint string) Option { return func(c *Client) { c.authority = fingerprint } }

// New makes a client for the service at server, such as http://127.0.0.1:7600. Without a
// token it calls by the socket of this machine, if this user has one for that address.
func New(server string, options ...Option) (*Client, error) {
	base, err := ServerURL(server)
	if err != nil {
		return nil, err
	}
	c := &Client{name: base, base: base}
	for _, o := range options {
		o(c)
	}
	tr := &http.Transport{
		Proxy: nil, MaxIdleConnsPerHost: 4, TLSHandshakeTimeout: dialTime, ResponseHeaderTimeout: 90 * time.Second,
	}
	c.http = &http.Client{Transport: tr}
	if path, isUnix := strings.CutPrefix(base, unixScheme); isUnix {
		c.base = "http://localhost"
		tr.DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) { return local.Dial(ctx, path) }
		return c, nil
	}
	u, err := url.Parse(base)
	if err != nil {
		return nil, err
	}
	if c.token != "" && u.Scheme == "http" && !local.IsLoopback(u.Hostname()) {
		return nil, fmt.Errorf("an access token goes to another machine by TLS alone: write https://%s", u.Host)
	}
	cfg := &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"}}
	if c.authority != "" {
		trustFingerprint(cfg, c.authority, u.Hostname())
	}
	plain := net.Dialer{Timeout: dialTime}
	tr.DialContext, tr.TLSClientConfig = plain.DialContext, cfg
	if c.token == "" {
		secure := tls.Dialer{NetDialer: &plain, Config: cfg}
		tr.DialContext, tr.DialTLSContext = orLocal(plain.DialContext), orLocal(secure.DialContext)
	}
	return c, nil
}

type dialFunc = func(ctx context.Context, network, address string) (net.Conn, error)

// orLocal connects by the socket of this machine if this user has one for an address, and
// otherwise by dial.
func orLocal(dial dialFunc) dialFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		if path := local.SocketOf(address); path != "" {
			if conn, err := local.Dial(ctx, path); err == nil {
				return conn, nil
			}
		}
		return dial(ctx, network, address)
	}
}

// dialTime is how long connecting may take.
const dialTime = 15 * time.Second

// Address is where the service is, as people write it.
func (c *Client) Address() string { return c.name }

// do makes one call. header holds pairs of name and value.
func (c *Client) do(ctx context.Context, method, path string, in, out any, header ...string) error {
	resp, err := c.send(ctx, method, path, in, header...)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("the response of %s could not be read (is it a Nightjar service?): %w", c.name, err)
	}
	return nil
}

func (c *Client) send(ctx context.Context, method, path string, in any, header ...string) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	return c.exchange(req)
}

// exchange sends a request as who the client acts for. An answer that is an error is one.
func (c *Client) exchange(req *http.Request) (*http.Response, error) {
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if err := req.Context().Err(); err != nil {
			return nil, err
		}
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return nil, &Unreachable{c.name, err}
	}
	if resp.StatusCode < 300 {
		return resp, nil
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusUnauthorized { // it may have its socket by the next call
		defer c.http.CloseIdleConnections()
	}
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 32<<20))
	r := &Refused{}
	if json.Unmarshal(b, &r.Problem) != nil || r.Detail == "" {
		r.Status, r.Detail = resp.StatusCode, fmt.Sprintf(
			"%s answered %s: is it a Nightjar service?",
			c.name,
			resp.Status,
		)
	}
	return nil, r
}

// Mesh returns all that runs, with the figures of the last seconds; 0: 10.
func (c *Client) Mesh(ctx context.Context, seconds int) (m model.Mesh, err error) {
	path := "/mesh"
	if seconds > 0 {
		path += fmt.Sprintf("?window=%d", seconds)
	}
	return m, c.do(ctx, http.MethodGet, path, nil, &m)
}

// Check checks files and compares them with what is in force.
func (c *Client) Check(ctx context.Context, in model.CheckRequest) (r model.CheckReport, err error) {
	return r, c.do(ctx, http.MethodPost, "/rules/check", in, &r)
}

// Effective returns what holds for a service after policies and defaults.
func (c *Client) Effective(ctx context.Context, service string) (e model.EffectiveSettings, err error) {
	return e, c.do(ctx, http.MethodGet, "/services/"+url.PathEscape(service)+"/effective", nil, &e)
}

// Draft reads what somebody is editing; without a name what who calls is editing.
func (c *Client) Draft(ctx context.Context, bundle, by string) (d model.Draft, err error) {
	return d, c.do(ctx, http.MethodGet, "/drafts/"+url.PathEscape(bundle)+"?by="+url.QueryEscape(by), nil, &d)
}

// SaveDraft saves what somebody is editing, in place of a version of it; 0: there is
// none yet.
func (c *Client) SaveDraft(
	ctx context.Context,
	bundle string,
	in model.DraftRequest,
	version uint,
) (d model.Draft, err error) {
	return d, c.do(ctx, http.MethodPut, "/drafts/"+url.PathEscape(bundle), in, &d, ifMatch(version)...)
}

// Publish puts files in force, on top of the revision expect; nil: of the one that is in
// force when it is called.
func (c *Client) Publish(ctx context.Context, in model.PublishRequest, expect *uint) (p model.Published, err error) {
	return p, c.doOnTop(ctx, expect, http.MethodPost, "/revisions", in, &p)
}

// Removal asks for a revision without a bundle.
type Removal struct {
	Bundle, Message string
	WaitMS          int // how long to wait for the proxies
	RefuseUsedLinks bool
}

// RemoveBundle publishes a revision without a bundle; expect: see Publish.
func (c *Client) RemoveBundle(ctx context.Context, in Removal, expect *uint) (p model.Published, err error) {
	q := url.Values{"message": {in.Message}, "waitMS": {fmt.Sprint(in.WaitMS)}}
	if in.RefuseUsedLinks {
		q.Set("refuseUsedLinks", "true")
	}
	return p, c.doOnTop(ctx, expect, http.MethodDelete, "/bundles/"+url.PathEscape(in.Bundle)+"?"+q.Encode(), nil, &p)
}

// doOnTop makes a call that replaces the revision expect; nil: the one in force now.
func (c *Client) doOnTop(ctx context.Context, expect *uint, method, path string, in, out any) error {
	if expect == nil {
		page, err := c.Revisions(ctx, 0, 1)
		if err != nil {
			return err
		}
		expect = new(uint)
		if len(page.Revisions) > 0 {
			*expect = page.Revisions[0].Number
		}
	}
	return c.do(ctx, method, path, in, out, ifMatch(*expect)...)
}

func ifMatch(expect uint) []string {
	return []string{"If-Match", fmt.Sprintf("%q", fmt.Sprint(expect))}
}

// Revisions lists revisions below before (0: from the newest), newest first.
func (c *Client) Revisions(ctx context.Context, before uint, limit int) (r model.RevisionPage, err error) {
	return r, c.do(ctx, http.MethodGet, fmt.Sprintf("/revisions?before=%d&limit=%d", before, limit), nil, &r)
}

// Revision reads one revision with its files; 0 is the one in force.
func (c *Client) Revision(ctx context.Context, number uint) (r model.Revision, err error) {
	return r, c.do(ctx, http.MethodGet, fmt.Sprintf("/revisions/%d", number), nil, &r)
}

// Restore publishes an earlier revision again; expect: see Publish.
func (c *Client) Restore(
	ctx context.Context,
	number uint,
	in model.RestoreRequest,
	expect *uint,
) (p model.Published, err error) {
	return p, c.doOnTop(ctx, expect, http.MethodPost, fmt.Sprintf("/revisions/%d/restore", number), in, &p)
}

// Split changes the weights of one route; expect: see Publish.
func (c *Client) Split(
	ctx context.Context,
	service string,
	in model.SplitRequest,
	expect *uint,
) (p model.Published, err error) {
	return p, c.doOnTop(ctx, expect, http.MethodPost, "/services/"+url.PathEscape(service)+"/split", in, &p)
}

// Explain returns what would happen to a request.
func (c *Client) Explain(ctx context.Context, in model.RequestSpec) (e model.Explanation, err error) {
	return e, c.do(ctx, http.MethodPost, "/explain", in, &e)
}

// Call sends requests through the mesh. It calls each with the results so far, a few
// times a second, and returns the final ones.
func (c *Client) Call(
	ctx context.Context,
	in model.CallRequest,
	each func(model.CallResult),
) (t model.CallResult, err error) {
	resp, err := c.send(ctx, http.MethodPost, "/calls", in)
	if err != nil {
		return t, err
	}
	err = eachLine(resp, func(line model.CallResult) bool {
		t = line
		each(t)
		return true
	})
	if err != nil {
		return t, err
	}
	if !t.IsFinal {
		return t, errors.New("the service ended the call early: is it still running?")
	}
	return t, nil
}

// Drills returns drills, newest first.
func (c *Client) Drills(ctx context.Context) (d model.DrillList, err error) {
	return d, c.do(ctx, http.MethodGet, "/drills", nil, &d)
}

// StartDrill starts a drill.
func (c *Client) StartDrill(ctx context.Context, ask model.DrillRequest) (d model.Drill, err error) {
	return d, c.do(ctx, http.MethodPost, "/drills", ask, &d)
}

// LetBack lets a sidelined instance take requests again before its time.
func (c *Client) LetBack(ctx context.Context, service, instance string) (r model.LetBackResult, err error) {
	path := "/services/" + url.PathEscape(service) + "/instances/" + url.PathEscape(instance) + "/let-back"
	return r, c.do(ctx, http.MethodPost, path, nil, &r)
}

// StopDrill stops a drill before its time.
func (c *Client) StopDrill(ctx context.Context, id string) (d model.Drill, err error) {
	return d, c.do(ctx, http.MethodDelete, "/drills/"+url.PathEscape(id), nil, &d)
}

// MeshAt returns the mesh with the figures of a window: its length in seconds (0: 10)
// and its end in seconds since 1970 (0: now); with a site the part of it there.
func (c *Client) MeshAt(ctx context.Context, seconds int, at int64, site string) (m model.Mesh, err error) {
	q := windowQuery(seconds, at)
	if site != "" {
		q.Set("site", site)
	}
	return m, c.do(ctx, http.MethodGet, "/mesh?"+q.Encode(), nil, &m)
}

func windowQuery(seconds int, at int64) url.Values {
	q := url.Values{}
	if seconds > 0 {
		q.Set("window", fmt.Sprint(seconds))
	}
	if at > 0 {
		q.Set("at", fmt.Sprint(at))
	}
	return q
}

// filterQuery is a filter as the API takes it.
func filterQuery(f model.RequestFilter) url.Values {
	q := url.Values{}
	for name, value := range map[string]string{"from": f.From, "to": f.To, "version": f.Version, "instance": f.Instance,
		"" +
			"route": f.Route, "method": f.Method, "path": f.Path, "status": f.Status,
		"reason": f.Reason, "outcome": f.Outcome,
		"header": f.Header, "request": f.Request, "site": f.Site} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if f.Attempts > 0 {
		q.Set("attempts", fmt.Sprint(f.Attempts))
	}
	if f.SlowerThan > 0 {
		q.Set("slowerThanMS", fmt.Sprint(f.SlowerThan))
	}
	return q
}

// Requests calls each with every line of the stream of requests, until each
// returns false, ctx is done or the service ends.
func (c *Client) Requests(ctx context.Context, f model.RequestFilter, each func(model.FeedLine) bool) error {
	resp, err := c.send(ctx, http.MethodGet, "/requests?"+filterQuery(f).Encode(), nil)
	if err != nil {
		return err
	}
	isLeft := false
	broken := eachLine(resp, func(l model.FeedLine) bool {
		isLeft = !each(l)
		return !isLeft
	})
	if isLeft {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if _, err := c.Who(ctx); err != nil { // as when the credential was revoked
		return err
	}
	return errors.Join(errors.New("the service ended the stream: is it still running?"), broken)
}

// eachLine calls each with every line of a response, which is JSON, until each returns
// false.
func eachLine[T any](resp *http.Response, each func(T) bool) error {
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		var line T
		if err := json.Unmarshal(lines.Bytes(), &line); err != nil {
			return fmt.Errorf("a line of the response could not be read: %w", err)
		}
		if !each(line) {
			return nil
		}
	}
	return lines.Err()
}

// Failures lists some of the latest requests that did not succeed, newest first.
func (c *Client) Failures(ctx context.Context, f model.RequestFilter, limit int) (out model.RecentFailures, err error) {
	q := filterQuery(f)
	q.Set("limit", fmt.Sprint(limit))
	return out, c.do(ctx, http.MethodGet, "/requests/failures?"+q.Encode(), nil, &out)
}

// Traces lists traces of the last hour, newest first.
func (c *Client) Traces(ctx context.Context, f model.TraceFilter, limit int) (t model.TraceList, err error) {
	q := url.Values{
		"limit":        {fmt.Sprint(limit)},
		"service":      {f.Service},
		"site":         {f.Site},
		"outcome":      {f.Outcome},
		"path":         {f.Path},
		"slowerThanMS": {fmt.Sprint(f.SlowerThan.Milliseconds())},
	}
	return t, c.do(ctx, http.MethodGet, "/traces?"+q.Encode(), nil, &t)
}

// Trace is one trace, by the beginning of its id.
func (c *Client) Trace(ctx context.Context, id string) (t model.Trace, err error) {
	return t, c.do(ctx, http.MethodGet, "/traces/"+url.PathEscape(id), nil, &t)
}
