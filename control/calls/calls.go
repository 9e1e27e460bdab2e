// Package calls explains what would happen to a request, and sends requests
// through the mesh on behalf of people.
package calls

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/control/revisions"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/wire"
)

// Fleet is the proxies, by which requests enter the mesh.
type Fleet interface {
	Entry(service, gateway string) fleet.Entry
	View(service, gateway string) fleet.View
	Sequence() uint64
	List() model.Fleet
	Guards(visit func(proxy, caller string, at time.Time, s engine.Status))
	Key() string
}

// Config is what Calls are made of.
type Config struct {
	Fleet   Fleet
	Current func() revisions.Current
	Drills  func() []wire.Drill // that are running
	Drains  func() []wire.Drain // sites that are drained
	Now     func() time.Time
}

// Calls explains and sends requests. It is safe for concurrent use.
type Calls struct {
	Config
	started time.Time // tables count time from it

	mu       sync.Mutex // guards what follows
	tables   map[tableKey]*engine.Table
	sequence uint64        // snapshot that tables are of
	last     *engine.Table // the last one that was compiled
}

// tableKey is a kind of caller: its proxies follow one table.
type tableKey struct{ service, gateway, site string }

// maxTables bounds the tables that are kept.
const maxTables = 16

// New makes Calls.
func New(c Config) *Calls { return &Calls{Config: c, started: c.Now()} }

// request is a model.RequestSpec that makes sense. It is the engine's view of the
// request.
type request struct {
	method  string
	url     *url.URL
	host    string
	header  http.Header
	gateway string // by which it enters the mesh; empty: by a proxy of caller
	caller  string
	site    string // of the proxy by which it enters
	tls     *tls.Config
	engine.Known
}

func (r *request) Method() string             { return r.method }
func (r *request) Host() string               { return r.host }
func (r *request) Path() string               { return r.url.EscapedPath() }
func (r *request) Query() string              { return r.url.RawQuery }
func (r *request) Header(key string) []string { return r.header[key] }
func (r *request) Caller() string             { return r.caller }
func (r *request) Site() string               { return r.site }

// read reads a request and finds where it enters the mesh: at the gateway whose
// host or address it names, or else at a proxy of its caller.
func (c *Calls) read(q model.RequestSpec) (*request, error) {
	text := q.URL
	if !strings.Contains(text, "://") {
		text = "http://" + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, problem.Invalid(
			"%q is not a URL to call: write http://SERVICE/PATH, or http:// or https://HOST-OF-A-GATEWAY/PATH",
			q.URL,
		)
	}
	if u.Path == "" {
		u.Path = "/"
	}
	r := &request{method: strings.ToUpper(q.Method), url: u, host: u.Host, header: http.Header{}}
	if r.method == "" {
		r.method = http.MethodGet
	}
	if !isToken(r.method) || r.method == http.MethodConnect {
		return nil, problem.Invalid("%q is not a method to call with: use one such as GET or POST", q.Method)
	}
	for k, v := range q.Headers {
		if !isToken(k) || strings.ContainsAny(v, "\r\n\x00") {
			return nil, problem.Invalid(
				"header %q cannot be sent: a name has letters, digits and hyphens, a value is one line",
				k,
			)
		}
		if k = http.CanonicalHeaderKey(k); k == "Host" {
			r.host = v
		} else {
			r.header[k] = append(r.header[k], v)
		}
	}
	if q.Address != "" {
		if r.Addr, err = netip.ParseAddr(q.Address); err != nil {
			return nil, problem.Invalid("%q is not an address: write one such as 203.0.113.9 or 2001:db8::1", q.Address)
		}
		r.Addr = r.Addr.Unmap().WithZone("")
	}
	r.Claims = q.Claims
	r.HasToken = len(q.Claims) > 0 || strings.HasPrefix(r.header.Get("Authorization"), "Bearer ")
	for _, g := range c.Current().Rules.Gateways {
		isHost := func(pattern string) bool { return pattern != "*" && matchesHost(pattern, r.host) }
		if q.From == "" && (listensAt(g.Listen, u.Host) || slices.ContainsFunc(g.Hosts, isHost)) {
			r.gateway = g.Name
		}
	}
	switch {
	case r.gateway != "":
		r.caller = r.gateway
		if err := r.secure(q, c.Current().Rules.Gateway(r.gateway)); err != nil {
			return nil, err
		}
	case u.Scheme == "https":
		return nil, problem.Invalid(
			"%s is no host of a gateway: call services by http://, as workloads do; the mesh encrypts what they say",
			u.Host,
		)
	case q.From != "":
		r.caller = q.From
	default:
		r.caller = fleet.ServiceCaller
	}
	r.site = c.Fleet.Entry(q.From, r.gateway).Site
	return r, nil
}

// secure says how the request speaks TLS with a gateway that wants it.
func (r *request) secure(q model.RequestSpec, g *rules.Gateway) error {
	isSecure := r.url.Scheme == "https"
	switch {
	case isSecure && len(g.TLS) == 0:
		return problem.Invalid("gateway %s speaks no TLS: call http://%s", g.Name, r.url.Host)
	case !isSecure && len(g.TLS) > 0:
		return problem.Invalid("gateway %s speaks TLS: call https://%s", g.Name, r.url.Host)
	case !isSecure:
		return nil
	}
	name := r.host
	if h, _, err := net.SplitHostPort(name); err == nil {
		name = h
	}
	r.tls = &tls.Config{ServerName: name, InsecureSkipVerify: q.IsInsecure}
	if q.CA != "" {
		r.tls.RootCAs = x509.NewCertPool()
		if !r.tls.RootCAs.AppendCertsFromPEM([]byte(q.CA)) {
			return problem.Invalid("ca: there is no certificate in PEM in it")
		}
	}
	return nil
}

// isToken tells whether a text is a token of RFC 9110, section 5.6.2.
func isToken(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		isAlphanumeric := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
		return !isAlphanumeric && !strings.ContainsRune("!#$%&'*+.^_`|~-", r)
	})
}

// matchesHost tells whether a host, with or without a port, matches a pattern such
// as a.example or *.example.
func matchesHost(pattern, host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if suffix, ok := strings.CutPrefix(pattern, "*"); ok {
		return len(host) > len(suffix) && strings.HasSuffix(host, suffix)
	}
	return pattern == host
}

// listensAt tells whether a gateway with an address to listen at can be called by
// a host with a port.
func listensAt(listen, host string) bool {
	lh, lp, err1 := net.SplitHostPort(listen)
	h, p, err2 := net.SplitHostPort(host)
	if err1 != nil || err2 != nil || lp != p {
		return false
	}
	return lh == h || (lh == "" || lh == "0.0.0.0" || lh == "127.0.0.1") && (h == "localhost" || h == "127.0.0.1")
}

// Explain tells what would happen to a request under the rules in force.
func (c *Calls) Explain(q model.RequestSpec) (model.Explanation, error) {
	r, err := c.read(q)
	if err != nil {
		return model.Explanation{}, err
	}
	return c.explain(q, r), nil
}

func (c *Calls) explain(q model.RequestSpec, r *request) model.Explanation {
	c.Table() // the one that stays when the caller's cannot be compiled
	now := c.Current()
	key := tableKey{site: r.site}
	entry := "proxy of " + r.caller
	switch {
	case r.gateway != "":
		key.gateway, entry = r.gateway, "gateway "+r.gateway
	case now.Rules.Service(r.caller) != nil:
		key.service = r.caller
	}
	at := engine.Entry{Gateway: r.gateway, From: r.party()}
	e := from.Explanation(engine.Explain(c.table(key), at, r, c.sinceStart()))
	e.Method, e.URL, e.Entry, e.Revision = r.method, q.URL, entry, now.Revision.Number
	e.Unreachable = c.unreachable(r.caller, e.Odds)
	return e
}

// party is who calls, for the access rules.
func (r *request) party() engine.Party {
	if r.gateway != "" {
		return engine.NewParty(r.gateway, true, r.site)
	}
	p := engine.NewParty(r.caller, false, r.site)
	p.IsNode = r.caller == fleet.ServiceCaller
	return p
}

// unreachable are the instances of versions to which proxies of a caller get no
// connection.
func (c *Calls) unreachable(caller string, odds []model.Odds) (out []model.NoConnection) {
	c.Fleet.Guards(func(proxy, by string, _ time.Time, s engine.Status) {
		if by != caller {
			return
		}
		for _, v := range s.Versions {
			if !slices.ContainsFunc(
				odds,
				func(o model.Odds) bool { return o.Service == s.Service && o.Version == v.Version },
			) {
				continue
			}
			for _, u := range v.Unreachable {
				out = append(
					out,
					model.NoConnection{
						Proxy:    proxy,
						Version:  s.Service + "/" + v.Version,
						Instance: u.Instance,
						Cause:    u.Cause,
					},
				)
			}
		}
	})
	return out
}

// sinceStart is now as tables count time.
func (c *Calls) sinceStart() time.Duration { return c.Now().Sub(c.started) }

// Table is the table of the rules in force, with all services and without drills.
func (c *Calls) Table() *engine.Table { return c.table(tableKey{}) }

// table is the table of the rules in force as the proxies of a caller follow it:
// with the services that it may call, its site, and the running drills. Rules that
// were checked compile; should they not, the last table stays, and every proxy
// reports why.
func (c *Calls) table(k tableKey) *engine.Table {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := c.Fleet.Sequence(); c.sequence != now || len(c.tables) >= maxTables {
		c.tables, c.sequence = map[tableKey]*engine.Table{}, now
	}
	if t := c.tables[k]; t != nil {
		return t
	}
	view := c.Fleet.View(k.service, k.gateway)
	var opt engine.Options
	if k != (tableKey{}) {
		opt = engine.Options{Site: k.site, Now: c.sinceStart(), Calls: view.Calls, Leaves: wire.Leaves(c.Drains())}
		for _, d := range c.Drills() {
			spec := d.Drill
			spec.Until = d.Ends.Sub(c.started)
			opt.Drills = append(opt.Drills, spec)
		}
	}
	t, err := engine.Compile(&view.Rules, view.Instances, opt)
	if err != nil {
		return c.last
	}
	c.tables[k], c.last = t, t
	return t
}

// Door is the address of a proxy by which requests enter the mesh: of a gateway, or
// of a calling service, or, with neither, the service's own.
func (c *Calls) Door(service, gateway string) (string, error) {
	if e := c.Fleet.Entry(service, gateway); e.Address != "" {
		return dialable(e.Address), nil
	}
	callers := map[string]bool{}
	for _, p := range c.Fleet.List().Proxies {
		if p.IsConnected && p.Outbound != "" && p.Service != "" {
			callers[p.Service] = true
		}
	}
	switch {
	case gateway != "":
		return "", problem.Invalid(
			"no proxy serves gateway %s now: start one with \"nightjar proxy --gateway %s\"",
			gateway,
			gateway,
		)
	case service != "":
		return "", problem.Invalid("service %s has no proxy to call from now; these have: %s", service,
			strings.Join(slices.Sorted(maps.Keys(callers)), ", "))
	}
	return "", problem.Later("the service's own proxy is not ready yet: try again in a moment")
}

// dialable is an address to connect to, for a listener on every address.
func dialable(address string) string {
	if h, p, err := net.SplitHostPort(address); err == nil {
		if ip := net.ParseIP(h); ip != nil && ip.IsUnspecified() {
			return net.JoinHostPort("127.0.0.1", p)
		}
	}
	return address
}

// Answered is what a response says of who answered: wire.HeaderAnswered.
type Answered struct {
	Service, Version string
	Instance         string
	Revision         string
	Route            string // of the service
	GatewayRoute     string
	Attempts         string // empty: 1
	HasFirstFailed   bool   // the first attempt failed
}

// ReadAnswered reads wire.HeaderAnswered.
func ReadAnswered(field string) Answered {
	var a Answered
	for i, part := range strings.Split(field, ";") {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		v = strings.Trim(v, `"`)
		switch {
		case i == 0:
			a.Service, a.Version, _ = strings.Cut(k, "/")
		case k == "instance":
			a.Instance = v
		case k == "route":
			a.Route = v
		case k == "gate":
			a.GatewayRoute = v
		case k == "attempts":
			a.Attempts = v
		case k == "first":
			a.HasFirstFailed = v == "failed"
		case k == "revision":
			a.Revision = v
		}
	}
	return a
}

// ReasonOf is the reason that a Proxy-Status field of a proxy of the mesh names;
// empty: none.
func ReasonOf(proxyStatus string) engine.Reason {
	_, rest, ok := strings.Cut(proxyStatus, `details="`)
	if !ok {
		return ""
	}
	reason, _, _ := strings.Cut(rest, ":")
	return engine.Reason(reason)
}

// check bounds a CallRequest.
func check(q *model.CallRequest) error {
	q.Count = max(q.Count, 1)
	if q.Concurrency == 0 {
		q.Concurrency = usualConcurrency
	}
	if q.Count > maxCount || q.Concurrency < 1 || q.Concurrency > maxConcurrency ||
		!(q.Rate >= 0 && q.Rate <= maxRate) {
		return problem.Invalid(
			"at most %d requests, %d at once and %d per second can be sent: lower count, concurrency or rate",
			maxCount,
			maxConcurrency,
			maxRate,
		)
	}
	return nil
}

const (
	maxCount         = 100_000
	maxConcurrency   = 256
	usualConcurrency = 8
	maxRate          = 5000 // requests per second
	sampleBytes      = 16 << 10
	reportEvery      = 200 * time.Millisecond
	requestTime      = time.Minute
	handshakeTime    = 10 * time.Second
)

func newClient(connections int, secure *tls.Config) *http.Client {
	return &http.Client{
		Timeout: requestTime,
		Transport: &http.Transport{
			Proxy:               nil,
			MaxIdleConnsPerHost: connections,
			DisableCompression:  true,
			TLSClientConfig:     secure,
			TLSHandshakeTimeout: handshakeTime,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// headersOf are the headers of a response as text.
func headersOf(h http.Header) map[string]string {
	out := map[string]string{}
	for k, v := range h {
		if k != wire.HeaderAnswered {
			out[k] = strings.Join(v, ", ")
		}
	}
	return out
}

// routeOf is PARENT/ROUTE of the route that decided, as a CallResult counts it.
func (a *Answered) routeOf() string {
	route := a.Route
	if route == "" {
		route = a.GatewayRoute
	}
	return fmt.Sprintf("%s/%s", a.Service, route)
}
