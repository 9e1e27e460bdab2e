package control

import (
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"nightjar/core/engine"
)

// Ask is a request that somebody wants explained or sent.
type Ask struct {
	Method  string            `json:"method,omitempty" doc:"GET when empty"`
	URL     string            `json:"url" doc:"http://SERVICE/PATH, or the host of a gateway"`
	Headers map[string]string `json:"headers,omitempty" doc:"also Host and Cookie"`
	Body    string            `json:"body,omitempty"`
	From    string            `json:"from,omitempty" doc:"calling service; empty: Nightjar itself"`
}

// asked is an Ask that makes sense. It is the engine's view of the request.
type asked struct {
	method  string
	url     *url.URL
	host    string
	header  http.Header
	gateway string
	caller  string
	site    string
}

func (a *asked) Method() string             { return a.method }
func (a *asked) Host() string               { return a.host }
func (a *asked) Path() string               { return a.url.EscapedPath() }
func (a *asked) Query() string              { return a.url.RawQuery }
func (a *asked) Header(key string) []string { return a.header[key] }
func (a *asked) Caller() string             { return a.caller }
func (a *asked) Site() string               { return a.site }

// understand reads an Ask and finds out where it enters the mesh: at the
// gateway whose host or address it names, or else at a workload's proxy.
func (c *Control) understand(q Ask) (*asked, error) {
	text := q.URL
	if !strings.Contains(text, "://") {
		text = "http://" + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" || u.User != nil {
		return nil, Unusable{fmt.Sprintf("%q is not a URL to call: write http://SERVICE/PATH or http://HOST-OF-A-GATEWAY/PATH", q.URL)}
	}
	if u.Path == "" {
		u.Path = "/"
	}
	a := &asked{method: strings.ToUpper(q.Method), url: u, host: u.Host, header: http.Header{}}
	if a.method == "" {
		a.method = http.MethodGet
	}
	if !tokenOnly(a.method) || a.method == http.MethodConnect {
		return nil, Unusable{fmt.Sprintf("%q is not a method to call with", q.Method)}
	}
	for k, v := range q.Headers {
		if !tokenOnly(k) || strings.ContainsAny(v, "\r\n\x00") {
			return nil, Unusable{fmt.Sprintf("header %q cannot be sent: a name is letters, digits and hyphens, a value is one line", k)}
		}
		if k = http.CanonicalHeaderKey(k); k == "Host" {
			a.host = v
		} else {
			a.header[k] = append(a.header[k], v)
		}
	}
	for _, g := range c.InForce().Rules.Gateways {
		if q.From == "" && (sameAddress(g.Listen, u.Host) || slices.ContainsFunc(g.Hosts, func(h string) bool { return h != "*" && hostFits(h, a.host) })) {
			a.gateway = g.Name
		}
	}
	switch {
	case a.gateway != "":
		a.caller = a.gateway
	case q.From != "":
		a.caller = q.From
	default:
		a.caller = ownCaller
	}
	_, a.site = c.doorman(q.From, a.gateway)
	return a, nil
}

// ownCaller is the name under which the service's own proxy calls.
const ownCaller = "nightjar"

func tokenOnly(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("!#$%&'*+.^_`|~-", r))
	})
}

func hostFits(pattern, host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if suffix, ok := strings.CutPrefix(pattern, "*"); ok {
		return len(host) > len(suffix) && strings.HasSuffix(host, suffix)
	}
	return pattern == host
}

// sameAddress tells whether host, with a port, is where a gateway listens.
func sameAddress(listen, host string) bool {
	lh, lp, err1 := net.SplitHostPort(listen)
	h, p, err2 := net.SplitHostPort(host)
	if err1 != nil || err2 != nil || lp != p {
		return false
	}
	return lh == h || (lh == "" || lh == "0.0.0.0" || lh == "127.0.0.1") && (h == "localhost" || h == "127.0.0.1")
}

// Explained is what the engine says about a request, and where it enters.
type Explained struct {
	Method   string `json:"method"`
	URL      string `json:"url"`
	Entry    string `json:"entry" doc:"where the request enters the mesh: gateway NAME or proxy of SERVICE"`
	Revision uint   `json:"revision"`
	engine.Explanation
	Unreachable []Unreached `json:"unreachable,omitempty" doc:"instances of these versions to which proxies get no connection now: they go elsewhere"`
}

// Unreached is an instance to which a proxy gets no connection.
type Unreached struct {
	Proxy    string `json:"proxy"`
	Version  string `json:"version" doc:"as service/version"`
	Instance string `json:"instance"`
	Cause    string `json:"cause"`
}

// unreached are the instances of versions that proxies of a caller get no connection to.
func (c *Control) unreached(caller string, odds []engine.Odds) (out []Unreached) {
	callers := c.callers()
	for _, o := range odds {
		for _, in := range callers[o.Service] {
			for _, v := range in.Versions {
				for _, u := range v.Unreachable {
					if in.Caller == caller && v.Version == o.Version {
						out = append(out, Unreached{in.Proxy, o.Service + "/" + v.Version, u.Instance, u.Cause})
					}
				}
			}
		}
	}
	return out
}

// Explain says what would happen to a request by the rules in force.
func (c *Control) Explain(q Ask) (Explained, error) {
	a, err := c.understand(q)
	if err != nil {
		return Explained{}, err
	}
	return c.explain(q, a), nil
}

func (c *Control) explain(q Ask, a *asked) Explained {
	c.tableNow() // what tableOf falls back to
	key := tableKey{site: a.site}
	switch {
	case a.gateway != "":
		key.scope.gateway = a.gateway
	case c.InForce().Rules.Service(a.caller) != nil:
		key.scope.service = a.caller
	}
	e := Explained{
		Method:      a.method,
		URL:         q.URL,
		Revision:    c.InForce().Revision.Number,
		Explanation: engine.Explain(c.tableOf(key), engine.Entry{Gateway: a.gateway}, a, c.sinceStart()),
	}
	e.Unreachable = c.unreached(a.caller, e.Odds)
	switch {
	case a.gateway != "":
		e.Entry = "gateway " + a.gateway
	case q.From != "":
		e.Entry = "proxy of " + q.From
	default:
		e.Entry = "proxy of nightjar"
	}
	return e
}

// doorman is the address and site of a proxy by which a request enters the
// mesh; empty: there is none now.
func (c *Control) doorman(from, gateway string) (address, site string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, id := range slices.Sorted(maps.Keys(c.members)) {
		m := c.members[id]
		switch {
		case m.Outbound == "" || !m.connected(c.now()):
		case gateway != "" && m.Gateway == gateway, gateway == "" && from != "" && m.Service == from,
			gateway == "" && from == "" && m.Service == "" && m.Gateway == "":
			return m.Outbound, m.Site
		}
	}
	return "", ""
}

// door is the address of a proxy that takes the request into the mesh.
func (c *Control) door(q Ask, a *asked) (string, error) {
	if address, _ := c.doorman(q.From, a.gateway); address != "" {
		return address, nil
	}
	callers := map[string]bool{}
	for _, m := range c.Fleet() {
		if m.Connected && m.Outbound != "" && m.Service != "" {
			callers[m.Service] = true
		}
	}
	switch {
	case a.gateway != "":
		return "", Unusable{fmt.Sprintf("no proxy serves gateway %s now: start one with nightjar proxy --gateway %s", a.gateway, a.gateway)}
	case q.From != "":
		return "", Unusable{fmt.Sprintf("service %s has no proxy to call from now; these have: %s", q.From, strings.Join(slices.Sorted(maps.Keys(callers)), ", "))}
	}
	return "", Unusable{"the service's own proxy is not ready yet: try again in a moment"}
}
