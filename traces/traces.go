// Package traces keeps the spans of sampled requests for an hour, and exports them by
// OTLP if a receiver is configured.
package traces

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"nightjar/wire"
)

// Limits of the store. Beyond a limit the oldest traces are dropped.
const (
	keptTime = time.Hour
	maxSpans = 300_000
	maxTrace = 2000 // spans of one trace
)

// Store keeps traces. Make one with New.
type Store struct {
	// Exporter gets every span too; nil: none does. It is set before the first Add.
	Exporter *Exporter

	mu    sync.Mutex
	byID  map[string]*trace
	order []*trace // by arrival
	spans int
	lost  uint64
	names map[string]string // interned: names that occur in many spans are kept once
}

type trace struct {
	id    string
	seen  time.Time // of the first span
	spans []wire.Span
}

// New makes an empty store.
func New() *Store { return &Store{byID: map[string]*trace{}, names: map[string]string{}} }

// maxInterned bounds the interned names.
const maxInterned = 20_000

func (s *Store) intern(p *string) {
	if known, ok := s.names[*p]; ok {
		*p = known
		return
	}
	if len(s.names) >= maxInterned {
		clear(s.names)
	}
	s.names[*p] = *p
}

// Add adds spans that a proxy reported, and the number of those that it dropped.
func (s *Store) Add(list []wire.Span, lost uint64, now time.Time) {
	if len(list) == 0 && lost == 0 {
		return
	}
	s.Exporter.Add(list)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lost += lost
	for _, span := range list {
		t := s.byID[span.Trace]
		if t == nil {
			t = &trace{id: span.Trace, seen: now}
			s.byID[span.Trace] = t
			s.order = append(s.order, t)
		}
		if len(t.spans) >= maxTrace {
			s.lost++
			continue
		}
		span.Trace = t.id
		for _, p := range []*string{&span.Kind, &span.Proxy, &span.Caller, &span.Service, &span.Version,
			&span.Instance, &span.Site, &span.Route, &span.Method, &span.Path, &span.Outcome, &span.Reason} {
			s.intern(p)
		}
		t.spans = append(t.spans, span)
		s.spans++
	}
	past := 0
	for past < len(s.order) && (s.spans > maxSpans || now.Sub(s.order[past].seen) > keptTime) {
		s.spans -= len(s.order[past].spans)
		delete(s.byID, s.order[past].id)
		s.order[past] = nil
		past++
	}
	s.order = s.order[past:]
}

// Summary is a trace in one line.
type Summary struct {
	ID       string    `json:"id"`
	At       time.Time `json:"at"`                // when its first span began
	MS       float64   `json:"ms"`                // from the begin of its first span to the end of its last
	Caller   string    `json:"caller,omitempty"`  // of the first request
	Service  string    `json:"service,omitempty"` // that the first request called
	Method   string    `json:"method,omitempty"`
	Path     string    `json:"path,omitempty"`
	Status   int       `json:"status,omitempty"`  // that the first caller got
	Outcome  string    `json:"outcome,omitempty"` // of the first request
	Reason   string    `json:"reason,omitempty"`
	Services []string  `json:"services"` // that took part, in order of time
	Sites    []string  `json:"sites"`    // where it took place, in order of time
	Attempts int       `json:"attempts"` // in the whole trace
	Failed   int       `json:"failed"`   // attempts that did not succeed, in the whole trace
	Spans    int       `json:"spans"`
}

// Filter selects traces; the zero value selects all.
type Filter struct {
	Service string // took part
	Site    string // where a part of it took place
	Outcome string // of the first request; "not-ok" is any but ok, of an attempt too
	Path    string // of the first request begins with it
	Slower  time.Duration
	Since   time.Time
}

// List lists traces, newest first.
func (s *Store) List(f Filter, limit int) (list []Summary, lost uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list = []Summary{}
	for _, t := range slices.Backward(s.order) {
		if len(list) >= limit || t.seen.Before(f.Since) {
			break
		}
		if one := summarise(t); f.takes(&one) {
			list = append(list, one)
		}
	}
	return list, s.lost
}

func (f *Filter) takes(s *Summary) bool {
	switch {
	case f.Service != "" && !slices.Contains(s.Services, f.Service),
		f.Site != "" && !slices.Contains(s.Sites, f.Site),
		f.Slower > 0 && s.MS <= float64(f.Slower.Microseconds())/1000,
		f.Path != "" && (len(s.Path) < len(f.Path) || s.Path[:len(f.Path)] != f.Path):
		return false
	case f.Outcome == wire.NotOK:
		return s.Outcome != "ok" || s.Failed > 0
	}
	return f.Outcome == "" || f.Outcome == s.Outcome
}

func summarise(t *trace) Summary {
	spans := ordered(t.spans)
	out := Summary{ID: t.id, Spans: len(spans), Services: []string{}, Sites: []string{}}
	begin, end := spans[0].BeganUS, int64(0)
	for i := range spans {
		sp := &spans[i]
		end = max(end, sp.BeganUS+sp.TookUS)
		if sp.Kind == "request" && out.Outcome == "" {
			out.Caller, out.Service, out.Method, out.Path = sp.Caller, sp.Service, sp.Method, sp.Path
			out.Status, out.Outcome, out.Reason = sp.Status, sp.Outcome, sp.Reason
		}
		if sp.Kind == "attempt" {
			if out.Attempts++; sp.Outcome != "ok" {
				out.Failed++
			}
		}
		if sp.Service != "" && !slices.Contains(out.Services, sp.Service) {
			out.Services = append(out.Services, sp.Service)
		}
		if sp.Site != "" && !slices.Contains(out.Sites, sp.Site) {
			out.Sites = append(out.Sites, sp.Site)
		}
	}
	out.At, out.MS = time.UnixMicro(begin).UTC(), float64(end-begin)/1000
	return out
}

// ordered is the spans by the time at which they began, and of those that began
// together the request first, and its parts by the time at which they ended.
func ordered(spans []wire.Span) []wire.Span {
	out := slices.Clone(spans)
	slices.SortStableFunc(out, func(a, b wire.Span) int {
		return cmp.Or(cmp.Compare(a.BeganUS, b.BeganUS), cmp.Compare(rank(a), rank(b)), cmp.Compare(a.TookUS, b.TookUS))
	})
	return out
}

// rank is 0 of a request, and 1 of what is a part of one.
func rank(s wire.Span) int {
	if s.Kind == "request" {
		return 0
	}
	return 1
}

// Trace is one trace.
type Trace struct {
	Summary
	Rows []Row `json:"rows"` // the spans, each parent before its children
}

// Row is one span with its place in the trace.
type Row struct {
	wire.Span
	Depth  int     `json:"depth"`  // 0: the first span, or one whose parent is not known here
	FromMS float64 `json:"fromMS"` // since the begin of the trace
	MS     float64 `json:"ms"`
}

// Get finds the trace whose id starts with id; false: none does, or several do.
func (s *Store) Get(id string) (Trace, bool) {
	s.mu.Lock()
	t := s.byID[id]
	if t == nil && len(id) >= 4 {
		for _, o := range s.order {
			if len(o.id) > len(id) && o.id[:len(id)] == id {
				if t != nil {
					s.mu.Unlock()
					return Trace{}, false
				}
				t = o
			}
		}
	}
	if t == nil {
		s.mu.Unlock()
		return Trace{}, false
	}
	copied := trace{t.id, t.seen, slices.Clone(t.spans)}
	s.mu.Unlock()
	out := Trace{Summary: summarise(&copied), Rows: []Row{}}
	spans := ordered(copied.spans)
	known := map[string]bool{}
	children := map[string][]int{}
	for i := range spans {
		known[spans[i].ID] = true
		children[spans[i].Parent] = append(children[spans[i].Parent], i)
	}
	placed := make([]bool, len(spans))
	var place func(i, depth int)
	place = func(i, depth int) {
		if placed[i] {
			return // a span that is its own ancestor
		}
		placed[i] = true
		sp := spans[i]
		out.Rows = append(
			out.Rows,
			Row{sp, depth, float64(sp.BeganUS-spans[0].BeganUS) / 1000, float64(sp.TookUS) / 1000},
		)
		for _, child := range children[sp.ID] {
			place(child, depth+1)
		}
	}
	for i := range spans {
		if spans[i].Parent == "" || !known[spans[i].Parent] {
			place(i, 0)
		}
	}
	for i := range spans {
		place(i, 0)
	}
	return out, true
}

// Example is a request of a caller, as a trace recorded it.
type Example struct{ Caller, Service, Method, Path string }

// maxExamples bounds what Examples returns of one caller and service.
const maxExamples = 24

// Examples are traced requests, each once, by caller and called service.
func (s *Store) Examples() map[[2]string][]Example {
	s.mu.Lock()
	defer s.mu.Unlock()
	out, known := map[[2]string][]Example{}, map[Example]bool{}
	for _, t := range s.order {
		for i := range t.spans {
			p := &t.spans[i]
			a := Example{p.Caller, p.Service, p.Method, p.Path}
			if p.Kind != "request" || p.Path == "" || known[a] {
				continue
			}
			k := [2]string{p.Caller, p.Service}
			if len(out[k]) < maxExamples {
				known[a] = true
				out[k] = append(out[k], a)
			}
		}
	}
	return out
}
