package forecast

import (
	"encoding/binary"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/rules"
)

// call is one request of a caller, through its proxy.
type call struct {
	s       *sim
	x       engine.Exchange
	proxy   *proxy
	to      string
	request *Request
	passed  map[string][]string // fields of the first request, which go on; nil: each has its own
	luck    Draw
	began   time.Duration
	counts  bool

	stream  *stream // of a first request
	parent  *job    // of any other
	needed  bool    // by its parent
	waiting bool    // for a timer or to be woken
	job     *job    // the try under way
	timer   timer
	wake    func()
}

// The engine's view of the request.

func (c *call) Method() string {
	if c.request.Method == "" {
		return "GET"
	}
	return c.request.Method
}

func (c *call) Host() string {
	if c.request.Host == "" {
		return c.to
	}
	return c.request.Host
}

func (c *call) Path() string  { return c.request.Path }
func (c *call) Query() string { return c.request.Query }

func (c *call) Header(key string) []string {
	fields := c.request.Fields
	if c.passed != nil {
		fields = c.passed
	}
	v := fields[key]
	if len(v) != 1 || !strings.Contains(v[0], EachOwn) {
		return v
	}
	return []string{strings.ReplaceAll(v[0], EachOwn, strconv.FormatUint(uint64(c.luck), 36))}
}

// Address is in a network of its own, unless the request has one (RFC 3849).
func (c *call) Address() netip.Addr {
	if c.request.Address.IsValid() {
		return c.request.Address
	}
	a := [16]byte{0x20, 0x01, 0x0d, 0xb8}
	binary.BigEndian.PutUint32(a[4:], uint32(c.luck))
	return netip.AddrFrom16(a)
}

// Ask does nothing: requests that come have what they are asked for.
func (c *call) Ask(*rules.JWT)             {}
func (c *call) Proof() engine.Proof        { return engine.Proof{State: engine.ProofGood} }
func (c *call) Claim(name string) []string { return c.request.Claims[name] }

func (c *call) Caller() string { return c.proxy.Caller }
func (c *call) Site() string   { return c.proxy.Site }

// call takes a call out of use, or makes one.
func (s *sim) call(p *proxy) *call {
	var c *call
	if n := len(s.calls); n > 0 {
		c = s.calls[n-1]
		s.calls = s.calls[:n-1]
	} else {
		c = &call{s: s}
		c.timer.call = c
		c.wake = func() {
			if c.waiting {
				s.ready = append(s.ready, c)
			}
		}
	}
	c.proxy, c.stream, c.parent, c.passed, c.job, c.waiting = p, nil, nil, nil, nil, false
	return c
}

func (c *call) begin() {
	table, err := c.s.tableOf(c.proxy)
	if err != nil {
		c.s.err = err
		return
	}
	entry := engine.Entry{Wake: c.wake, From: c.proxy.party}
	if c.proxy.Gateway {
		entry.Gateway = c.proxy.Caller
	} else {
		entry.Service = c.to
	}
	c.waiting = true // it may be woken before Begin returns
	step := c.x.Begin(table, entry, c, c.s.now)
	c.waiting = false
	c.do(step)
}

// do carries out a step.
func (c *call) do(step engine.Step) {
	s := c.s
	switch step.Kind {
	case engine.Attempt:
		if m := c.x.Mirror(); m != nil {
			s.copyTo(m, c)
		}
		c.job = s.job(s.server(step.Instance), c)
		s.set(&c.timer, step.Deadline, deadline)
		c.job.start()
	case engine.Wait:
		c.waiting = true
		s.set(&c.timer, step.Deadline, waited)
	default:
		c.over(step)
	}
}

// goOn goes on after a wait.
func (c *call) goOn() {
	c.waiting = false
	c.s.unset(&c.timer)
	c.do(c.x.Next(engine.Outcome{}, c.s.now))
}

// late ends a try whose time is over.
func (c *call) late() {
	c.job.drop()
	c.answered(engine.Outcome{Reason: engine.TimedOut})
}

// answered ends a try.
func (c *call) answered(o engine.Outcome) {
	c.job = nil
	c.s.unset(&c.timer)
	c.do(c.x.Next(o, c.s.now))
}

// over ends the request.
func (c *call) over(step engine.Step) {
	s := c.s
	reason := engine.Reason("")
	if step.Kind == engine.Reply {
		reason = step.Reason
	}
	class := engine.Classify(reason, step.Status)
	if c.counts {
		took := s.now - c.began
		firstOK := class == engine.OK && !c.x.FirstFailed()
		c.cell(c.proxy.cells, &c.proxy.order).count(class, reason, c.x.Attempts(), firstOK, took)
		if st := c.stream; st != nil {
			c.cell(st.cells, &st.order).count(class, reason, c.x.Attempts(), firstOK, took)
		}
	}
	parent, needed := c.parent, c.needed
	c.x.End(engine.Finished, s.now)
	s.calls = append(s.calls, c)
	if parent != nil {
		parent.child = nil
		if needed && class != engine.OK {
			parent.finish(502)
		} else {
			parent.next()
		}
	}
}

// abandon ends the request because nobody waits for it any more.
func (c *call) abandon() {
	s := c.s
	s.unset(&c.timer)
	c.waiting = false
	if c.job != nil {
		c.job.drop()
		c.job = nil
	}
	c.x.End(engine.Left, s.now)
	s.calls = append(s.calls, c)
}

// cell is where the request counts, among those of its proxy or stream.
func (c *call) cell(known map[cellKey]*cell, order *[]*cell) *cell {
	route, gate := c.x.Route()
	k := cellKey{gate: gate, route: route, instance: c.x.Instance()}
	if k.instance == nil {
		k.service, k.version = c.x.Service(), c.x.Version()
	}
	out := known[k]
	if out != nil {
		return out
	}
	n := effect.Names{Caller: c.proxy.Caller, Service: c.x.Service(), Version: c.x.Version()}
	if gate != nil {
		n.Gate = gate.Name()
	}
	if route != nil {
		n.RouteOf, n.Route = route.Of(), route.Name()
	}
	out = &cell{names: n}
	known[k] = out
	*order = append(*order, out)
	return out
}
