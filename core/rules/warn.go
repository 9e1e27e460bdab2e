package rules

import (
	"fmt"
	"slices"
	"time"
)

// warnings looks for what is possible and yet hardly meant.
func (c *checker) warnings() {
	for _, s := range c.rules.Services {
		path := "services." + s.Name
		c.shadows(s.Routes, path)
		c.idle(s.Routes, path)
		whole := c.resolver.Service(s)
		for i, rt := range s.Routes {
			c.route(s, rt, &whole, fmt.Sprintf("%s.routes[%d]", path, i))
		}
		c.guard(s, &whole, path)
	}
	for _, g := range c.rules.Gateways {
		path := "gateways." + g.Name
		c.shadows(g.Routes, path)
		c.idle(g.Routes, path)
		for i, rt := range g.Routes {
			p := fmt.Sprintf("%s.routes[%d]", path, i)
			c.route(nil, rt, &Settings{}, p)
			c.outlivesGate(g, rt)
		}
	}
	c.outlivesCaller()
	c.multiplied()
	c.deniedLinks()
	c.accessRules()
}

// idle warns of a version that gets requests and has no instance now.
func (c *checker) idle(routes []*Route, path string) {
	if !c.live.Known {
		return
	}
	told := map[string]bool{}
	for i, rt := range routes {
		for _, t := range rt.Send {
			s := c.services[t.Service]
			if s == nil || t.Weight == 0 || t.Version == "" || told[t.String()] || !s.HasVersion(t.Version) ||
				slices.Contains(c.live.Versions[t.Service], t.Version) ||
				slices.ContainsFunc(s.Instances, func(in Instance) bool { return in.Version == t.Version }) {
				continue
			}
			told[t.String()] = true
			expected := "a running instance before requests are sent there"
			if rt.Otherwise == nil {
				expected += ", or otherwise: TARGET for the time without one"
			}
			c.warn(
				t.At,
				fmt.Sprintf("%s.routes[%d].send", path, i),
				CodeNoInstance,
				fmt.Sprintf("%s/%s gets requests and has no instance", t.Service, t.Version),
				expected,
			)
		}
	}
}

// route warns of what one route does by itself. whole is what holds for its
// service; home is nil for a route of a gateway.
func (c *checker) route(home *Service, rt *Route, whole *Settings, path string) {
	own := c.resolver.Route(home, rt)
	own.fillRoute(&Settings{Timeout: whole.Timeout, Retry: whole.Retry})
	if r := own.Retry; r != nil && r.Times > 0 && (rt.Send != nil || home == nil) {
		limit, also := DefaultTimeout, Origin{}
		if own.Timeout != nil {
			limit, also = own.Timeout.Value, own.Timeout.Origin
		}
		if need := worst(r); r.Each > 0 && need > limit {
			c.warn(
				r.Origin,
				path,
				CodeTriesTooLong,
				fmt.Sprintf(
					"%d attempts of %s and the waits between them take up to %s, but the timeout of route %s is %s",
					r.Times+1,
					r.Each,
					need,
					rt.Name,
					limit,
				),
				"a longer timeout, or fewer or shorter attempts",
				also,
			)
		}
		if r.AnyVerb && !idempotentOnly(rt.When) {
			c.warn(
				r.Origin,
				path,
				CodeUnsafeRetry,
				fmt.Sprintf("route %s retries methods such as POST; their effects can happen twice", rt.Name),
				"methods: idempotent, or a separate route for requests that can be repeated",
			)
		}
	}
	for _, f := range rt.Faults {
		if f.Share == Whole && len(rt.When) == 0 {
			c.warn(
				f.At,
				path+".fault",
				CodeFaultForAll,
				fmt.Sprintf("the fault of route %s affects every request", rt.Name),
				"a `when` that names a cohort, or a share below 100%",
			)
		}
	}
	if m := rt.Mirror; m != nil && m.Share*2 >= Whole {
		if s := c.services[m.To.Service]; s != nil {
			if guard := c.resolver.Service(s); guard.Queue != nil || guard.Breaker != nil {
				c.warn(
					m.At,
					path+".mirror",
					CodeMirrorDoubles,
					fmt.Sprintf(
						"%s%% of the requests of route %s are copied to %s, and the guard of %s counts the copies",
						m.Share,
						rt.Name,
						m.To,
						s.Name,
					),
					"a small share at first",
					guardOrigin(&guard),
				)
			}
		}
	}
}

func guardOrigin(s *Settings) Origin {
	if s.Queue != nil {
		return s.Queue.Origin
	}
	return s.Breaker.Origin
}

// worst is how long all tries of a request and the waits between them can take.
func worst(r *Retry) time.Duration {
	total, wait := r.Each*time.Duration(r.Times+1), r.WaitMin
	for range r.Times {
		total += min(wait, r.WaitMax)
		wait *= 2
	}
	return total
}

// idempotentOnly tells whether every condition names methods that may be
// repeated (RFC 9110, section 9.2.2).
func idempotentOnly(when []Condition) bool {
	safe := []string{"GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE"}
	for _, c := range when {
		if len(c.Methods) == 0 ||
			slices.ContainsFunc(c.Methods, func(m string) bool { return !slices.Contains(safe, m) }) {
			return false
		}
	}
	return len(when) > 0
}

// guard warns of a cap under what traffic needs now (rate × time, by the law of
// J. Little, "A Proof for the Queuing Formula L = λW", Operations Research 9, 1961).
func (c *checker) guard(s *Service, whole *Settings, path string) {
	if whole.Queue == nil {
		return
	}
	for _, v := range s.Versions {
		if busy := c.live.Busy[s.Name+"/"+v]; busy > float64(whole.Queue.InFlight) {
			c.warn(
				whole.Queue.Origin,
				path+".guard.in-flight",
				CodeGuardTooSmall,
				fmt.Sprintf(
					"%s/%s has %.1f requests in flight from one caller now, on average; the guard allows %d",
					s.Name,
					v,
					busy,
					whole.Queue.InFlight,
				),
				"a limit well above the average, since requests come in bursts",
			)
		}
	}
}

// longest is the longest timeout that the rules name for requests to a service.
func (c *checker) longest(s *Service) *Timeout {
	whole := c.resolver.Service(s)
	if len(s.Routes) == 0 {
		return whole.Timeout
	}
	var most *Timeout
	for _, rt := range s.Routes {
		own := c.resolver.Route(s, rt)
		t := or(own.Timeout, whole.Timeout)
		if t == nil {
			return nil // one of them has what is built in
		}
		if most == nil || t.Value > most.Value {
			most = t
		}
	}
	return most
}

// outlivesGate warns of a service that may take longer than the gateway's route.
func (c *checker) outlivesGate(g *Gateway, rt *Route) {
	own := c.resolver.Route(nil, rt)
	if own.Timeout == nil {
		return
	}
	for _, t := range rt.Send {
		if s := c.services[t.Service]; s != nil {
			c.outlives(s, fmt.Sprintf("route %s of gateway %s", rt.Name, g.Name), own.Timeout)
		}
	}
}

// outlivesCaller does the same for services that call each other now.
func (c *checker) outlivesCaller() {
	for _, l := range c.live.Links {
		from, to := c.services[l.From], c.services[l.To]
		if from == nil || to == nil || from == to {
			continue
		}
		if t := c.longest(from); t != nil {
			c.outlives(to, "its caller "+from.Name, t)
		}
	}
}

func (c *checker) outlives(s *Service, caller string, limit *Timeout) {
	if t := c.longest(s); t != nil && t.Value > limit.Value {
		c.warn(
			t.Origin,
			"services."+s.Name,
			CodeTimeoutOutlives,
			fmt.Sprintf("%s may take %s, but %s gives up after %s", s.Name, t.Value, caller, limit.Value),
			fmt.Sprintf("at most %s", limit.Value),
			limit.Origin,
		)
	}
}

// multiplied warns where the tries along a chain of calls multiply to more
// than 3.
func (c *checker) multiplied() {
	callers := map[string][]string{}
	for _, l := range c.live.Links {
		if l.From != l.To && c.services[l.From] != nil {
			callers[l.To] = append(callers[l.To], l.From)
		}
	}
	type chain struct {
		tries int
		text  string
	}
	own := func(s *Service) (int, *Retry) {
		whole := c.resolver.Service(s)
		most, which := 1, (*Retry)(nil)
		take := func(r *Retry) {
			if r != nil && r.Times+1 > most {
				most, which = r.Times+1, r
			}
		}
		if len(s.Routes) == 0 {
			take(whole.Retry)
		}
		for _, rt := range s.Routes {
			set := c.resolver.Route(s, rt)
			take(or(set.Retry, whole.Retry))
		}
		return most, which
	}
	best := map[string]chain{}
	visiting := map[string]bool{}
	var follow func(name string) chain
	follow = func(name string) chain {
		if b, done := best[name]; done || visiting[name] {
			return b
		}
		visiting[name] = true
		n, _ := own(c.services[name])
		b := chain{n, fmt.Sprintf("%s %d", name, n)}
		for _, from := range callers[name] {
			if up := follow(from); up.tries > 1 && up.tries*n > b.tries {
				b = chain{up.tries * n, fmt.Sprintf("%s × %s %d", up.text, name, n)}
			}
		}
		visiting[name] = false
		best[name] = b
		return b
	}
	for _, s := range c.rules.Services {
		n, r := own(s)
		if b := follow(s.Name); r != nil && b.tries > 3 && b.tries > n {
			c.warn(
				r.Origin,
				"services."+s.Name,
				CodeRetriesMultiply,
				fmt.Sprintf("one request can cause %d attempts along its path: %s", b.tries, b.text),
				"retries at one place of the chain, at most 3 attempts in total",
			)
		}
	}
}

// deniedLinks warns of calls that happen now and would be refused.
func (c *checker) deniedLinks() {
	for _, l := range c.live.Links {
		if s := c.services[l.From]; s != nil && s.isLimited() && c.services[l.To] != nil &&
			!s.calls(l.To) {
			c.warn(
				s.CallsAt,
				"services."+s.Name+".calls",
				CodeUsedLinkDenied,
				fmt.Sprintf("%s calls %s now, and would not find it", l.From, l.To),
				l.To+" in the list",
			)
		}
	}
	a := c.rules.Access
	if a == nil {
		return
	}
	for _, l := range c.live.Links {
		if c.services[l.To] == nil {
			continue
		}
		if at, by, refused := a.refuses(c.rules, l); refused {
			c.add(c.rules.RefusalOf(RefusedLink{l, by, at}))
		}
	}
}
