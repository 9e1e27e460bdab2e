package forecasts

import (
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/traces"
)

// examples are requests that were traced, by caller and called service.
type examples map[[2]string][]traces.Example

// kinds are requests that stand for the calls of a link: one for each set of
// routes that took some, as often as they did.
func (k *builder) kinds(l link) (out []forecast.Kind) {
	var classes []class
	for cl := range k.seen.classes {
		if cl.Caller == l.Caller && cl.CallerVersion == l.CallerVersion && cl.Service == l.Service &&
			k.seen.classes[cl] > 0 {
			classes = append(classes, cl)
		}
	}
	slices.SortFunc(
		classes,
		func(a, b class) int { return strings.Compare(a.RouteOf+"/"+a.Route, b.RouteOf+"/"+b.Route) },
	)
	for _, cl := range classes {
		if r := k.request(cl); r != nil {
			out = append(out, forecast.Kind{Weight: float64(k.seen.classes[cl]), Request: r})
		}
	}
	return out
}

// request makes a request that takes the routes of a class, out of examples from
// traces and of what the routes demand. The engine tells whether it takes them; nil:
// no request was found that does.
func (k *builder) request(cl class) *forecast.Request {
	entry := engine.Entry{Service: cl.Service}
	gateway := k.force.Gateway(cl.Caller)
	gatewayConditions := []rules.Condition{{}}
	if gateway != nil {
		entry = engine.Entry{Gateway: gateway.Name}
		gatewayConditions = conditionsOf(k.force.Route(gateway.Name, cl.Gate))
	}
	keys := k.keys()
	for _, g := range gatewayConditions {
		for _, own := range conditionsOf(k.force.Route(cl.RouteOf, cl.Route)) {
			made := forecast.Request{Fields: map[string][]string{}, Claims: map[string][]string{}}
			satisfy(&made, &own)
			satisfy(&made, &g)
			if made.Host == "" && gateway != nil {
				isExact := func(h string) bool { return !strings.HasPrefix(h, "*") }
				if at := slices.IndexFunc(gateway.Hosts, isExact); at >= 0 {
					made.Host = gateway.Hosts[at]
				}
			}
			for _, one := range k.candidates(cl, made, own.Path) {
				for _, with := range []map[string]string{keys, nil} {
					full := one
					full.Fields = withKeys(one.Fields, with)
					if k.takes(entry, cl, &full) {
						return &full
					}
				}
			}
		}
	}
	return nil
}

// conditionsOf returns the conditions of a route. One of them must hold; the empty
// condition always holds.
func conditionsOf(rt *rules.Route) (conditions []rules.Condition) {
	if rt == nil || len(rt.When) == 0 {
		return []rules.Condition{{}}
	}
	return rt.When
}

// candidates are requests like made with the paths of examples, and with its own.
func (k *builder) candidates(cl class, made forecast.Request, pattern string) (out []forecast.Request) {
	add := func(method, path string) {
		if path == "" || made.Method != "" && method != made.Method {
			return
		}
		one := made
		one.Method, one.Path = method, path
		out = append(out, one)
	}
	for _, e := range k.examples[[2]string{cl.Caller, cl.Service}] {
		add(e.Method, e.Path)
	}
	add(made.Method, made.Path)
	add(made.Method, pathOf(pattern))
	add(made.Method, "/")
	return out
}

// keys are the fields by which rules tell visitors apart: each request has its own.
func (k *builder) keys() map[string]string {
	out := map[string]string{}
	add := func(key rules.Key) {
		switch key.Kind {
		case "header":
			out[http.CanonicalHeaderKey(key.Name)] = forecast.EachOwn
		case "cookie":
			if pair := key.Name + "=" + forecast.EachOwn; !slices.Contains(strings.Split(out["Cookie"], "; "), pair) {
				out["Cookie"] = strings.TrimPrefix(out["Cookie"]+"; "+pair, "; ")
			}
		}
	}
	for _, rs := range []*rules.Rules{k.force, k.draft} {
		if rs == nil {
			continue
		}
		for _, rt := range allRoutes(rs) {
			if rt.Stick != nil {
				add(rt.Stick.By)
			}
			if rt.Limit != nil {
				for _, key := range rt.Limit.Keys {
					add(key)
				}
			}
		}
	}
	return out
}

func allRoutes(rs *rules.Rules) (out []*rules.Route) {
	for _, s := range rs.Services {
		out = append(out, s.Routes...)
	}
	for _, g := range rs.Gateways {
		out = append(out, g.Routes...)
	}
	return out
}

func withKeys(fields map[string][]string, keys map[string]string) map[string][]string {
	out := map[string][]string{}
	for name, v := range fields {
		out[name] = v
	}
	for name, v := range keys {
		if out[name] == nil {
			out[name] = []string{v}
		}
	}
	return out
}

// satisfy makes a request match a condition, as far as that can be told.
func satisfy(r *forecast.Request, c *rules.Condition) {
	if c.Path != "" {
		r.Path = pathOf(c.Path)
	}
	if len(c.Methods) > 0 {
		r.Method = c.Methods[0]
	}
	if len(c.Hosts) > 0 {
		r.Host = strings.Replace(c.Hosts[0], "*", "x", 1)
	}
	for _, t := range c.Headers {
		if v, ok := valueFor(&t); ok {
			r.Fields[http.CanonicalHeaderKey(t.Name)] = []string{v}
		}
	}
	if len(c.Addresses) > 0 {
		r.Address = c.Addresses[0].Addr()
	}
	for _, t := range c.Claims {
		if v, ok := valueFor(&t); ok {
			r.Claims[t.Name] = []string{v}
		}
	}
	var cookies []string
	for _, t := range c.Cookies {
		if v, ok := valueFor(&t); ok {
			cookies = append(cookies, t.Name+"="+v)
		}
	}
	if len(cookies) > 0 {
		r.Fields["Cookie"] = []string{strings.Join(cookies, "; ")}
	}
	for _, t := range c.Query {
		if v, ok := valueFor(&t); ok {
			r.Query = strings.TrimPrefix(r.Query+"&"+t.Name+"="+v, "&")
		}
	}
	for i := range c.All {
		satisfy(r, &c.All[i])
	}
	if len(c.Any) > 0 {
		satisfy(r, &c.Any[0])
	}
}

// pathOf is a path that matches a pattern.
func pathOf(pattern string) string {
	return strings.ReplaceAll(strings.ReplaceAll(pattern, "**", "x"), "*", "x")
}

func valueFor(t *rules.Test) (string, bool) {
	if t.Not {
		return "", false
	}
	switch t.Op {
	case rules.Is, rules.In, rules.Prefix, rules.Suffix, rules.Contains:
		return t.Values[0], true
	case rules.Present:
		return "x", true
	}
	return "", false
}

// takes tells whether a request takes exactly the routes of a class.
func (k *builder) takes(entry engine.Entry, cl class, r *forecast.Request) bool {
	host := r.Host
	if host == "" {
		host = cl.Service
	}
	gate, own := engine.Taken(k.table, entry, &modelView{r, host, cl.Caller}, cl.Service)
	return gate == cl.Gate && own == [2]string{cl.RouteOf, cl.Route}
}

// modelView is the engine's view of a request that was made.
type modelView struct {
	r      *forecast.Request
	host   string
	caller string
}

func (v *modelView) Method() string {
	if v.r.Method == "" {
		return http.MethodGet
	}
	return v.r.Method
}
func (v *modelView) Host() string               { return v.host }
func (v *modelView) Path() string               { return v.r.Path }
func (v *modelView) Query() string              { return v.r.Query }
func (v *modelView) Header(key string) []string { return v.r.Fields[key] }
func (v *modelView) Caller() string             { return v.caller }
func (v *modelView) Site() string               { return "" }
func (v *modelView) Address() netip.Addr        { return v.r.Address }
func (v *modelView) Ask(*rules.JWT)             {}
func (v *modelView) Proof() engine.Proof        { return engine.Proof{State: engine.ProofGood} }
func (v *modelView) Claim(name string) []string { return v.r.Claims[name] }
