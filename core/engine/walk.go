package engine

import (
	"fmt"
	"strings"

	"nightjar/core/rules"
)

// walk follows one request through a table, from the proxy that it enters by to
// the versions that it can go to. Deciding, explaining and asking who would take
// it are the same walk with other visitors, so that an explanation cannot differ
// from a decision.
type walk struct {
	table *Table
	entry Entry
	view  View   // the request as the ladder at hand sees it
	path  string // percent-encoded, after rewriting
	host  string // to send; empty: as it came

	rule    *rules.Gateway // by which it enters; nil: elsewhere
	gate    *Route         // the gateway's route; nil: none took it, or it entered elsewhere
	route   *Route         // the service's route; nil: the gateway's names a version, or none took it
	service *service
	edited  edited // room for view, when the gateway's route changes the header
	isOdd   bool   // path may have other readings

	// looked, when not nil, is called after every search of a ladder, whatever it
	// found: the route that takes the request and the condition by which it does.
	looked func(l *ladder, rt *Route, cond *condition)
}

// visitor is told what a walk comes to, and decides where it goes on.
type visitor interface {
	// take is called with the route that took the request: walk.gate or
	// walk.route. over tells that the request ends there, with an answer or a
	// refusal of the route's own.
	take(rt *Route, cond *condition) (over bool)
	// choose are the targets of the route to go on to, with their chances.
	choose(rt *Route) []choice
	// send ends the walk at a target whose version is known, or at a service
	// without routes.
	send(to *target, by *Route, chance float64)
	// refuse ends the walk, since the mesh has to answer.
	refuse(s Step)
}

// choice is a target with its chance, 0 to 1.
type choice struct {
	to     *target
	chance float64
}

func (w *walk) run(by visitor) {
	w.isOdd = isOdd(w.path)
	if why := unfit(w.view, w.isOdd); why != "" {
		by.refuse(Refuse(BadRequest, why))
		return
	}
	if w.entry.Gateway == "" {
		w.enterService(by)
		return
	}
	g := w.table.gateways[w.entry.Gateway]
	if g == nil {
		by.refuse(Refuse(NoRoute, "the rules in force declare no gateway "+w.entry.Gateway))
		return
	}
	if !hostIn(g.rule.Hosts, w.view.Host()) {
		by.refuse(Refuse(NoRoute, fmt.Sprintf("gateway %s serves no host %s", w.entry.Gateway, w.view.Host())))
		return
	}
	if a := g.rule.Authenticate; a != nil {
		w.view.Ask(a.JWT)
	}
	w.rule = g.rule
	rt, over := w.search(by, g.ladder, "gateway", w.entry.Gateway)
	if over {
		return
	}
	w.leaveGateway(by, rt)
}

// resume goes on at a route that the request had to wait at.
func (w *walk) resume(by visitor, rt *Route, cond *condition) {
	if w.pass(by, rt, cond) {
		return
	}
	if rt == w.gate {
		w.leaveGateway(by, rt)
		return
	}
	w.leaveService(by, rt, 1)
}

// leaveGateway goes where a route of a gateway sends.
func (w *walk) leaveGateway(by visitor, rt *Route) {
	for _, c := range by.choose(rt) {
		if c.to.version != "" {
			w.service = c.to.service
			by.send(c.to, rt, c.chance)
			continue
		}
		came, path, host := w.view, w.path, w.host
		if rt.request != nil {
			w.edited = edited{came, rt.request}
			w.view = &w.edited
		}
		w.climb(by, c.to.service, c.chance)
		if c.chance < 1 { // the next target begins where this one did
			w.view, w.path, w.host, w.route = came, path, host, nil
		}
	}
}

// enterService begins at the service that the host names, or that the entry does.
func (w *walk) enterService(by visitor) {
	name := w.entry.Service
	if name != "" {
		w.host = name // the caller could not write one
	} else {
		name = w.view.Host()
	}
	s := w.table.services[name] // most hosts are the name as it is
	if s == nil && w.host == "" {
		name = serviceName(name)
		s = w.table.services[name]
	}
	if s == nil {
		by.refuse(w.table.unknown(name))
		return
	}
	w.climb(by, s, 1)
}

// serviceName is the service that a host means: without port, without the suffix
// .internal, in small letters.
func serviceName(host string) string {
	return strings.TrimSuffix(bareHost(host), ".internal")
}

// climb goes through the routes of a service.
func (w *walk) climb(by visitor, s *service, chance float64) {
	w.service = s
	if s.ladder == nil {
		w.route = s.plain
		by.send(&s.whole, s.plain, chance)
		return
	}
	if rt, over := w.search(by, s.ladder, "service", s.name); !over {
		w.leaveService(by, rt, chance)
	}
}

// leaveService goes where a route of a service sends.
func (w *walk) leaveService(by visitor, rt *Route, chance float64) {
	for _, c := range by.choose(rt) {
		by.send(c.to, rt, chance*c.chance)
	}
}

// search finds the route of a ladder that takes the request, and lets the
// visitor take it. over tells that the request ends there.
func (w *walk) search(by visitor, l *ladder, kind, name string) (rt *Route, over bool) {
	rt, cond := l.match(w.view, w.path)
	if w.looked != nil {
		w.looked(l, rt, cond)
	}
	if w.isOdd && hasReadings(w.path) {
		if why := w.misread(l, rt); why != "" {
			by.refuse(Refuse(BadRequest, why))
			return nil, true
		}
	}
	if rt == nil {
		by.refuse(Refuse(NoRoute, fmt.Sprintf("no route of %s %s takes %s %s", kind, name, w.view.Method(), w.path)))
		return nil, true
	}
	if kind == "gateway" {
		w.gate = rt
		if w.prove(by, w.rule, rt) {
			return nil, true
		}
	} else {
		w.route = rt
	}
	return rt, w.pass(by, rt, cond)
}

// pass has the visitor take a route, and rewrites. over tells that the request ends there.
func (w *walk) pass(by visitor, rt *Route, cond *condition) (over bool) {
	if by.take(rt, cond) {
		return true
	}
	if rt.rule.Rewrite != nil {
		w.rewrite(rt.rule.Rewrite, cond)
	}
	return false
}

// rewrite changes where the request goes, as the route that took it says.
func (w *walk) rewrite(rw *rules.Rewrite, cond *condition) {
	if rw.Host != "" {
		w.host = rw.Host
	}
	if rw.Path != "" {
		w.path = rewritten(rw.Path, w.path, cond)
		w.isOdd = isOdd(w.path)
	}
}

// misread says that another reading of the path leads to another route than rt,
// so that the request must be refused; empty: every reading leads there.
func (w *walk) misread(l *ladder, rt *Route) string {
	name := func(rt *Route) string {
		if rt == nil {
			return "to no route"
		}
		return "to route " + rt.Name()
	}
	for _, reading := range readings(w.path) {
		if other, _ := l.match(w.view, reading); other != rt {
			return fmt.Sprintf(
				"the path can be read in two ways: %s leads %s, and read as %s it leads %s; "+
					"send the path that is meant",
				clipped(w.path),
				name(rt),
				clipped(reading),
				name(other),
			)
		}
	}
	return ""
}

// clipped is a text short enough for a message.
func clipped(s string) string {
	const most = 100
	if len(s) > most {
		return s[:most] + "…"
	}
	return s
}

// Names is the identity of a route by its names; it outlives a table. A nil
// route has none.
func (r *Route) Names() *RouteName {
	if r == nil {
		return nil
	}
	return r.names
}

// RouteName is what a route is called.
type RouteName struct {
	Of   string // the service or gateway that it belongs to
	Name string // empty: plain balancing
}

// nameOf is the identity of a route: that of the table before, if it has one.
func (b *builder) nameOf(of string, rule *rules.Route, old *Route) *RouteName {
	if old != nil {
		return old.names
	}
	return &RouteName{of, rule.Name}
}

// asked is the visitor that finds out which routes would take a request that is
// meant for a service.
type asked struct {
	walk
	service string
	gate    string
	own     [2]string
}

// Taken tells which routes would take a request that is meant for a service: the
// gateway's, by its name, and the service's own, by the service and its name. A
// service without routes has the one without a name; of a gateway's route that
// names a version the service's own is empty. It counts nothing and draws nothing.
func Taken(t *Table, entry Entry, v View, service string) (gate string, own [2]string) {
	if entry.Gateway == "" {
		entry.Service = service
	}
	a := &asked{service: service}
	a.walk = walk{table: t, entry: entry, view: v, path: v.Path()}
	a.run(a)
	return a.gate, a.own
}

func (a *asked) refuse(Step) {}

func (a *asked) take(rt *Route, _ *condition) (over bool) {
	if rt == a.walk.gate {
		a.gate = rt.Name()
	} else {
		a.own = [2]string{rt.of, rt.Name()}
	}
	return false
}

func (a *asked) choose(rt *Route) []choice {
	for i := range rt.targets {
		if to := &rt.targets[i]; rt == a.walk.gate && to.service.name == a.service && to.version == "" {
			return []choice{{to, 1}}
		}
	}
	return nil
}

func (a *asked) send(to *target, _ *Route, _ float64) {
	if to.version == "" {
		a.own = [2]string{to.service.name, ""}
	}
}

// Unfit tells why a request cannot be carried, whatever the rules; empty: it can.
// It is for a hop that does not ask the engine; Begin refuses such a request itself.
func Unfit(v View) string { return unfit(v, isOdd(v.Path())) }

func unfit(v View, isOdd bool) string {
	if v.Method() == "CONNECT" {
		return "the mesh carries requests and opens no tunnels: call the service by http://"
	}
	if isOdd && hasDotSegment(v.Path()) {
		return "the path has a segment . or .. in it: send the path that is meant"
	}
	return ""
}

// isOdd tells whether a path has anything by which two programs could come to
// read it in two ways: a percent sign, a backslash, a semicolon, or a slash that
// another slash or a dot follows. See readings. Five searches by the processor's
// wide instructions are quicker than one loop over the bytes.
func isOdd(path string) bool {
	return strings.IndexByte(path, '%') >= 0 ||
		strings.IndexByte(path, ';') >= 0 ||
		strings.IndexByte(path, '\\') >= 0 ||
		strings.Contains(path, "//") ||
		strings.Contains(path, "/.")
}

// hasDotSegment tells whether a path has a segment that means "here" or "one
// up", encoded or not, with a parameter or not, with a backslash for a slash or
// not. There is no use for one that a client could not have resolved.
func hasDotSegment(path string) bool {
	for seg := range strings.SplitSeq(path, "/") {
		for part := range strings.FieldsFuncSeq(decoded(seg), func(c rune) bool { return c == '/' || c == '\\' }) {
			if name, _, _ := strings.Cut(part, ";"); name == "." || name == ".." {
				return true
			}
		}
	}
	return false
}

// hasReadings tells whether readings gives any.
func hasReadings(path string) bool {
	for i := 0; i < len(path); i++ {
		switch path[i] {
		case ';', '\\':
			return true
		case '/':
			if i+1 < len(path) && path[i+1] == '/' {
				return true
			}
		case '%':
			if i+2 < len(path) {
				switch path[i+1 : i+3] {
				case "2F", "2f", "5C", "5c", "3B", "3b":
					return true
				}
			}
		}
	}
	return false
}

var slashes = strings.NewReplacer("%2F", "/", "%2f", "/", "%5C", "/", "%5c", "/", `\`, "/")

// readings are the other ways in which a workload may read a path: with
// backslashes and encoded slashes as slashes, without the parameters of its
// segments, without its empty segments, and with any of these together.
func readings(path string) (out []string) {
	for which := 1; which < 8; which++ {
		p := path
		if which&1 != 0 {
			p = slashes.Replace(p)
		}
		if which&2 != 0 {
			p = withoutParameters(p)
		}
		if which&4 != 0 {
			p = withoutEmptySegments(p)
		}
		if p != path {
			out = appendNew(out, p)
		}
	}
	return out
}

// withoutParameters is a path without what follows a semicolon in each segment
// (RFC 3986, section 3.3), encoded or not.
func withoutParameters(path string) string {
	segs := strings.Split(path, "/")
	for i, seg := range segs {
		seg, _, _ = strings.Cut(seg, ";")
		seg, _, _ = strings.Cut(seg, "%3B")
		segs[i], _, _ = strings.Cut(seg, "%3b")
	}
	return strings.Join(segs, "/")
}

// withoutEmptySegments is a path whose slashes stand alone. A last one stays.
func withoutEmptySegments(path string) string {
	for strings.Contains(path, "//") {
		path = strings.ReplaceAll(path, "//", "/")
	}
	return path
}
