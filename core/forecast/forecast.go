package forecast

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"nightjar/core/effect"
	"nightjar/core/engine"
	"nightjar/core/guard"
	"nightjar/core/hash"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
)

// Options of a run.
type Options struct {
	Seed     uint64
	Requests uint64        // of all streams that count, at most; 0: until the streams end
	Until    time.Duration // requests that are due later are left out; 0: no bound
	Stop     func() bool   // asked now and then; true gives up
}

// Result is what the requests came to.
type Result struct {
	Tally    *effect.Tally           // of every hop
	Streams  map[string]*trial.Tally // what the requests of each stream came to
	Requests uint64                  // of all streams that count
	Events   uint64
	Stopped  bool
}

// endless ends what never ends by itself.
const endless = 1 << 62

// Run simulates the requests of a mesh under rules. The same rules, mesh and
// seed have the same result, and a request of another run with the same seed
// meets the same luck. The streams are used up.
func Run(rs *rules.Rules, m *Mesh, opt Options) (*Result, error) {
	s := &sim{
		rules:    rs,
		mesh:     m,
		opt:      opt,
		servers:  map[string]*server{},
		byCaller: map[string][]*proxy{},
		common:   map[string]*guard.Limit{},
	}
	for i := range m.Instances {
		in := &m.Instances[i]
		s.server(in).proxy = s.proxy(Proxy{ID: in.ID, Caller: in.Service, Site: in.Site})
	}
	for _, p := range m.Proxies {
		s.proxy(p)
	}
	for i := range m.Streams {
		st := &stream{Stream: &m.Streams[i], number: uint64(i), cells: map[cellKey]*cell{}}
		if st.proxies = s.byCaller[st.Caller]; len(st.proxies) == 0 {
			return nil, fmt.Errorf("nobody is known by whom requests of %s come into the mesh", st.Caller)
		}
		if len(st.Kinds) == 0 {
			return nil, fmt.Errorf("nothing is known of the requests of %s", st.Name)
		}
		st.timer = timer{of: st}
		s.streams = append(s.streams, st)
		s.due(st)
	}
	if err := s.run(); err != nil {
		return nil, err
	}
	return s.result(), nil
}

// sim is a simulation that runs.
type sim struct {
	clock
	rules    *rules.Rules
	mesh     *Mesh
	opt      Options
	servers  map[string]*server
	byCaller map[string][]*proxy
	common   map[string]*guard.Limit // limits of the whole mesh
	proxies  []*proxy
	streams  []*stream
	ready    []*call // that were woken
	calls    []*call // to be used again
	jobs     []*job
	begun    uint64        // requests of streams that count
	first    time.Duration // arrival of the first of them
	last     time.Duration
	events   uint64
	err      error
	stopped  bool
}

// stream is a Stream under way.
type stream struct {
	*Stream
	number  uint64
	timer   timer
	n       uint64 // requests so far
	proxies []*proxy
	cells   map[cellKey]*cell
	order   []*cell
}

// proxy decides for one caller. Its table is made when it is first used.
type proxy struct {
	Proxy
	party engine.Party // of Proxy
	table *engine.Table
	cells map[cellKey]*cell
	order []*cell
}

// cellKey is a kind of requests of one proxy.
type cellKey struct {
	gate, route *engine.Route
	instance    *engine.Instance
	service     string // without an instance
	version     string
}

// cell counts requests of one kind.
type cell struct {
	names    effect.Names
	counts   stats.Counts
	answered uint64   // by an instance
	latency  []uint64 // by bucket
}

func (c *cell) count(class engine.Class, reason engine.Reason, tries int, firstOK bool, took time.Duration) {
	n := &c.counts
	n.Tries += uint64(tries)
	switch class {
	case engine.OK:
		n.OK++
	case engine.Failed:
		n.Failed++
	case engine.Refused:
		n.Refused++
	}
	if firstOK {
		n.FirstOK++
	}
	if reason == "" {
		c.answered++
	} else if i, ok := reason.Number(); ok {
		n.Reasons[i]++
	}
	if c.latency == nil {
		c.latency = make([]uint64, stats.NumBuckets)
	}
	c.latency[stats.Bucket(took)]++
}

func (c *cell) sum() *stats.Counts {
	out := c.counts
	for b, n := range c.latency {
		if n > 0 {
			out.Latency = append(out.Latency, stats.Bin{Bucket: uint16(b), N: n})
		}
	}
	return &out
}

// server is the workload of an instance.
func (s *sim) server(in *engine.Instance) *server {
	sv := s.servers[in.ID]
	if sv == nil {
		sv = &server{Behaviour: s.mesh.Behaviour[in.Service+"/"+in.Version]}
		s.servers[in.ID] = sv
	}
	return sv
}

func (s *sim) proxy(p Proxy) *proxy {
	made := &proxy{Proxy: p, party: engine.NewParty(p.Caller, p.Gateway, p.Site), cells: map[cellKey]*cell{}}
	made.party.IsNode = p.Node
	s.proxies = append(s.proxies, made)
	s.byCaller[p.Caller] = append(s.byCaller[p.Caller], made)
	return made
}

// tableOf makes the table of a proxy when it is first used.
func (s *sim) tableOf(p *proxy) (*engine.Table, error) {
	if p.table != nil {
		return p.table, nil
	}
	seed := s.opt.Seed
	for _, c := range []byte(p.ID) {
		seed = hash.Finish(seed ^ uint64(c))
	}
	drills := slices.Clone(s.mesh.Drills)
	for i := range drills {
		drills[i].Until = endless
	}
	var err error
	p.table, err = engine.Compile(
		s.rules,
		s.mesh.Instances,
		engine.Options{Seed: seed, Site: p.Site, Drills: drills, Now: s.now, Common: s.common},
	)
	return p.table, err
}

// due sets the next arrival of a stream.
func (s *sim) due(st *stream) {
	if s.opt.Requests > 0 && s.begun >= s.opt.Requests {
		return
	}
	at, ok := st.Next()
	if ok && (s.opt.Until == 0 || at < s.opt.Until) {
		s.set(&st.timer, at, arrival)
	}
}

// lookEvery is after how many events Stop is asked.
const lookEvery = 1 << 14

func (s *sim) run() error {
	for t := s.next(); t != nil && s.err == nil; t = s.next() {
		if s.events++; s.events%lookEvery == 0 && s.opt.Stop != nil && s.opt.Stop() {
			s.stopped = true
			return nil
		}
		switch t.what {
		case arrival:
			s.arrive(t.of)
		case waited:
			t.call.goOn()
		case deadline:
			t.call.late()
		case workEnded:
			t.job.worked()
		}
		for len(s.ready) > 0 {
			c := s.ready[0]
			s.ready = append(s.ready[:0], s.ready[1:]...)
			if c.waiting {
				c.goOn()
			}
		}
	}
	return s.err
}

// arrive begins the next request of a stream.
func (s *sim) arrive(st *stream) {
	st.n++
	luck := Draw(s.opt.Seed).child(st.number).child(st.n)
	c := s.call(st.proxies[st.n%uint64(len(st.proxies))])
	c.stream, c.counts = st, s.now >= st.Counted
	if c.counts {
		if s.begun++; s.begun == 1 {
			s.first = s.now
		}
		s.last = s.now
	}
	c.request = pick(st.Kinds, &luck)
	if st.PassOn {
		c.passed = c.request.Fields
	}
	c.to, c.luck = st.To, luck
	c.began = s.now
	s.due(st)
	c.begin()
}

// pick draws one of some kinds.
func pick(kinds []Kind, d *Draw) *Request {
	if len(kinds) == 1 {
		return kinds[0].Request
	}
	total := 0.0
	for _, k := range kinds {
		total += k.Weight
	}
	u := d.Uniform() * total
	for _, k := range kinds {
		if u -= k.Weight; u < 0 {
			return k.Request
		}
	}
	return kinds[len(kinds)-1].Request
}

func (s *sim) result() *Result {
	r := &Result{
		Tally:    &effect.Tally{},
		Streams:  map[string]*trial.Tally{},
		Requests: s.begun,
		Events:   s.events,
		Stopped:  s.stopped,
	}
	type part struct {
		names effect.Names
		c     *stats.Counts
	}
	var parts []part
	for _, p := range s.proxies {
		for _, c := range p.order {
			parts = append(parts, part{c.names, c.sum()})
		}
	}
	slices.SortStableFunc(parts, func(a, b part) int {
		return cmp.Or(cmp.Compare(a.names.Caller, b.names.Caller), cmp.Compare(a.names.Service, b.names.Service))
	})
	for _, p := range parts {
		r.Tally.Add(p.names, p.c)
	}
	for _, st := range s.streams {
		sum := r.Streams[st.Name]
		if sum == nil {
			sum = &trial.Tally{Versions: map[string]uint64{}}
			r.Streams[st.Name] = sum
		}
		for _, c := range st.order {
			sum.Add(c.sum())
			if c.names.Version != "" && c.answered > 0 {
				sum.Versions[c.names.Service+"/"+c.names.Version] += c.answered
			}
		}
	}
	r.Tally.Seconds = (s.last - s.first).Seconds()
	return r
}
