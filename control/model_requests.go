package control

import (
	"net/http"
	"slices"
	"strings"

	"nightjar/core/engine"
	"nightjar/core/forecast"
	"nightjar/core/rules"
	"nightjar/traces"
)

type askedBy map[[2]string][]traces.Asked

// kinds are requests that stand for the calls of a link: one for each set of
// routes that took some, as often as they did.
func (k *maker) kinds(l link) (out []forecast.Kind) {
	var classes []class
	for cl := range k.seen.classes {
		if cl.Caller == l.Caller && cl.CallerVersion == l.CallerVersion && cl.Service == l.Service && k.seen.classes[cl] > 0 {
			classes = append(classes, cl)
		}
	}
	slices.SortFunc(classes, func(a, b class) int { return strings.Compare(a.RouteOf+"/"+a.Route, b.RouteOf+"/"+b.Route) })
	for _, cl := range classes {
		if r := k.request(cl); r != nil {
			out = append(out, forecast.Kind{Weight: float64(k.seen.classes[cl]), Request: r})
		}
	}
	return out
}

// request makes up a request that the routes of a class take: out of requests
// that were traced, and of what the routes ask for. What it makes up is put to the
// engine; nil: nothing was taken by just these routes.
func (k *maker) request(cl class) *forecast.Request {
	entry := engine.Entry{}
	gate := []rules.Condition{{}}
	if g := k.force.Gateway(cl.Caller); g != nil {
		entry.Gateway = g.Name
		if rt := findRoute(k.force, [2]string{g.Name, cl.Gate}); rt != nil && len(rt.When) > 0 {
			gate = rt.When
		}
	} else {
		entry.Service = cl.Service
	}
	own := []rules.Condition{{}}
	if rt := findRoute(k.force, [2]string{cl.RouteOf, cl.Route}); rt != nil && len(rt.When) > 0 {
		own = rt.When
	}
	paths := []traces.Asked{}
	for _, a := range k.asked[[2]string{cl.Caller, cl.Service}] {
		paths = append(paths, traces.Asked{Method: a.Method, Path: a.Path})
	}
	keys := k.keys()
	for _, g := range gate {
		for _, o := range own {
			made := forecast.Request{Fields: map[string][]string{}}
			ask(&made, &o)
			ask(&made, &g)
			host := made.Host
			if gw := k.force.Gateway(cl.Caller); gw != nil && host == "" {
				for _, h := range gw.Hosts {
					if !strings.HasPrefix(h, "*") {
						host = h
						break
					}
				}
			}
			tries := append(slices.Clone(paths), traces.Asked{Method: made.Method, Path: made.Path}, traces.Asked{Method: made.Method, Path: pathOf(o.Path)}, traces.Asked{Method: made.Method, Path: "/"})
			for _, t := range tries {
				if t.Path == "" || made.Method != "" && t.Method != made.Method {
					continue
				}
				r := made
				r.Method, r.Path, r.Host = t.Method, t.Path, host
				for _, with := range []map[string]string{keys, nil} {
					full := r
					full.Fields = withKeys(r.Fields, with)
					if k.taken(entry, cl, &full) {
						return &full
					}
				}
			}
		}
	}
	return nil
}

// keys are the fields that rules tell visitors apart by: each request has its own.
func (k *maker) keys() map[string]string {
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
		ladders := [][]*rules.Route{}
		for _, s := range rs.Services {
			ladders = append(ladders, s.Routes)
		}
		for _, g := range rs.Gateways {
			ladders = append(ladders, g.Routes)
		}
		for _, list := range ladders {
			for _, rt := range list {
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

// ask lets a request fulfil a condition, as far as one can tell how.
func ask(r *forecast.Request, c *rules.Condition) {
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
		ask(r, &c.All[i])
	}
	if len(c.Any) > 0 {
		ask(r, &c.Any[0])
	}
}

// pathOf is a path that a pattern takes.
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

// taken tells whether just the routes of a class take a request.
func (k *maker) taken(entry engine.Entry, cl class, r *forecast.Request) bool {
	host := r.Host
	if host == "" {
		host = cl.Service
	}
	gate, own := engine.Taken(k.table, entry, &modelView{r, host, cl.Caller}, cl.Service)
	return gate == cl.Gate && own == [2]string{cl.RouteOf, cl.Route}
}

// modelView is the engine's view of a request that was made up.
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
