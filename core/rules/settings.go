package rules

import (
	"fmt"
	"strings"
	"time"
)

// Settings are what can be set at several levels. Which keys a level has:
//
//	route     timeout, retry, limit
//	policy    all
//	service   all but limit
//	defaults  all but limit
//
// The nearest level that sets something decides: route, then the policy with
// the most labels, then service, then defaults, then what is built in.
type Settings struct {
	Timeout  *Timeout  `json:"timeout,omitempty"`
	Retry    *Retry    `json:"retry,omitempty"`
	Limit    *Limit    `json:"limit,omitempty"`
	Queue    *Queue    `json:"queue,omitempty"`
	Breaker  *Breaker  `json:"breaker,omitempty"`
	Sideline *Sideline `json:"sideline,omitempty"`
	Health   *Health   `json:"health,omitempty"`
	Balance  *Balance  `json:"balance,omitempty"`
	Failover *Failover `json:"failover,omitempty"`
	Identity *Identity `json:"identity,omitempty"`
}

// Setting is one of Settings.
type Setting interface {
	String() string // in one line, as it is read aloud
	Where() Origin
}

// Named is a setting with the name that the language has for it.
type Named struct {
	Name string
	Setting
}

// All lists what is set, in a fixed order.
func (s *Settings) All() []Named {
	var out []Named
	if s.Timeout != nil {
		out = append(out, Named{"timeout", s.Timeout})
	}
	if s.Retry != nil {
		out = append(out, Named{"retry", s.Retry})
	}
	if s.Limit != nil {
		out = append(out, Named{"limit", s.Limit})
	}
	if s.Queue != nil {
		out = append(out, Named{"guard.in-flight", s.Queue})
	}
	if s.Breaker != nil {
		out = append(out, Named{"guard.breaker", s.Breaker})
	}
	if s.Sideline != nil {
		out = append(out, Named{"guard.sideline", s.Sideline})
	}
	if s.Health != nil {
		out = append(out, Named{"health", s.Health})
	}
	if s.Balance != nil {
		out = append(out, Named{"balance", s.Balance})
	}
	if s.Failover != nil {
		out = append(out, Named{"failover", s.Failover})
	}
	if s.Identity != nil {
		out = append(out, Named{"identity", s.Identity})
	}
	return out
}

// fillRoute takes what a route can have and has not yet.
func (s *Settings) fillRoute(from *Settings) {
	s.Timeout = or(s.Timeout, from.Timeout)
	s.Retry = or(s.Retry, from.Retry)
	s.Limit = or(s.Limit, from.Limit)
}

// fillService takes what a service can have and has not yet.
func (s *Settings) fillService(from *Settings) {
	s.Timeout = or(s.Timeout, from.Timeout)
	s.Retry = or(s.Retry, from.Retry)
	s.Queue = or(s.Queue, from.Queue)
	s.Breaker = or(s.Breaker, from.Breaker)
	s.Sideline = or(s.Sideline, from.Sideline)
	s.Health = or(s.Health, from.Health)
	s.Balance = or(s.Balance, from.Balance)
	s.Failover = or(s.Failover, from.Failover)
	s.Identity = or(s.Identity, from.Identity)
}

func or[T any](a, b *T) *T {
	if a != nil {
		return a
	}
	return b
}

// Timeout covers a request from its first byte in to the last header out, all
// tries and waits included.
type Timeout struct {
	Value time.Duration `json:"value"`
	Origin
}

// DefaultTimeout holds where no level sets one.
const DefaultTimeout = 15 * time.Second

func (t Timeout) String() string { return t.Value.String() }

// Retry says when a request is sent once more.
type Retry struct {
	Times   int           `json:"times"`          // besides the first try
	Each    time.Duration `json:"each,omitempty"` // for one try; 0: only the timeout limits it
	On      []string      `json:"on"`             // reasons and statuses, such as unreachable, 503 or 5xx
	WaitMin time.Duration `json:"waitMin"`
	WaitMax time.Duration `json:"waitMax"`
	Budget  Percent       `json:"budget"`            // of the requests of the last 10 s
	AnyVerb bool          `json:"anyVerb,omitempty"` // also methods that are not idempotent
	Origin
}

func (r Retry) String() string {
	text := fmt.Sprintf("%d times on %s", r.Times, strings.Join(r.On, ", "))
	if r.Each > 0 {
		text += fmt.Sprintf(", each %s", r.Each)
	}
	text += fmt.Sprintf(", wait %s..%s, budget %s%%", r.WaitMin, r.WaitMax, r.Budget)
	if r.AnyVerb {
		text += ", all methods"
	}
	return text
}

// ScopeMesh is the scope of a limit that all proxies share.
const ScopeMesh = "mesh"

// Limit is a token bucket for every combination of Keys: in every proxy, or with ScopeMesh
// for all proxies together.
type Limit struct {
	Scope string        `json:"scope,omitempty"` // ScopeMesh; empty: each proxy has its own
	Count int           `json:"count"`           // tokens that come back in Per
	Per   time.Duration `json:"per"`
	Burst int           `json:"burst"` // tokens that a full bucket holds
	Keys  []Key         `json:"keys,omitempty"`
	Origin
}

func (l Limit) String() string {
	text := fmt.Sprintf("%d/%s, burst %d", l.Count, unitName(l.Per), l.Burst)
	for i, k := range l.Keys {
		if i == 0 {
			text += ", per "
		} else {
			text += " and "
		}
		text += k.String()
	}
	if l.Scope == ScopeMesh {
		text += ", for the whole mesh"
	}
	return text
}

// rateUnits are the units of a rate.
var rateUnits = map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour}

func unitName(per time.Duration) string {
	for name, d := range rateUnits {
		if d == per {
			return name
		}
	}
	return per.String()
}

// Key is a value of the request that tells visitors apart.
type Key struct {
	Kind string `json:"kind"`           // header, cookie, query, claim, address or from
	Name string `json:"name,omitempty"` // not with address, the caller's, and from, the calling service
}

func (k Key) String() string {
	if k.Name == "" {
		return k.Kind
	}
	if k.Kind == "header" {
		return "header:" + strings.ToLower(k.Name)
	}
	return k.Kind + ":" + k.Name
}

// Queue is the part of a guard that bounds requests at once, per caller proxy
// and version.
type Queue struct {
	InFlight   int           `json:"inFlight"`
	Waiting    int           `json:"waiting"`
	WaitAtMost time.Duration `json:"waitAtMost"`
	Origin
}

func (q Queue) String() string {
	return fmt.Sprintf("%d, waiting %d for %s at most", q.InFlight, q.Waiting, q.WaitAtMost)
}

// Breaker stops sending to a version whose requests fail.
type Breaker struct {
	Errors   Percent       `json:"errors,omitempty"` // failed share that opens it
	Slow     Percent       `json:"slow,omitempty"`   // share slower than SlowOver that opens it
	SlowOver time.Duration `json:"slowOver,omitempty"`
	Over     time.Duration `json:"over"`  // window
	Least    int           `json:"least"` // requests in the window, fewer say nothing
	OpenFor  time.Duration `json:"openFor"`
	Probes   int           `json:"probes"`
	Origin
}

func (b Breaker) String() string {
	var when []string
	if b.Errors > 0 {
		when = append(when, fmt.Sprintf("%s%% failed", b.Errors))
	}
	if b.Slow > 0 {
		when = append(when, fmt.Sprintf("%s%% over %s", b.Slow, b.SlowOver))
	}
	return fmt.Sprintf(
		"at %s of at least %d in %s, open %s, then %d probes",
		strings.Join(when, " or "),
		b.Least,
		b.Over,
		b.OpenFor,
		b.Probes,
	)
}

// Sideline takes an instance that fails out of its pool for a while.
type Sideline struct {
	After  int           `json:"after"` // failures in a row
	For    time.Duration `json:"for"`
	Most   Percent       `json:"most"` // of a version's instances
	Counts []string      `json:"counts"`
	Origin
}

func (s Sideline) String() string {
	return fmt.Sprintf(
		"after %d of %s, for %s, at most %s%% of the instances",
		s.After,
		strings.Join(s.Counts, ", "),
		s.For,
		s.Most,
	)
}

// Health asks instances from time to time how they are.
type Health struct {
	Path      string        `json:"path"`
	Every     time.Duration `json:"every"`
	DownAfter int           `json:"downAfter"`
	UpAfter   int           `json:"upAfter"`
	Origin
}

func (h Health) String() string {
	return fmt.Sprintf("%s every %s, down after %d, up after %d", h.Path, h.Every, h.DownAfter, h.UpAfter)
}

// Balance picks an instance of a version.
type Balance struct {
	Kind string `json:"kind"` // in-turn, least-busy, random or hash
	Key  *Key   `json:"key,omitempty"`
	Origin
}

func (b Balance) String() string {
	if b.Key != nil {
		return b.Kind + ":" + b.Key.String()
	}
	return b.Kind
}

// DefaultBalance holds where no level sets one.
const DefaultBalance = "in-turn"

// Failover lists sites in the order of preference.
type Failover struct {
	Order []string `json:"order"` // "same" is the caller's own site
	Below Percent  `json:"below"` // usable share under which requests spill over
	Origin
}

func (f Failover) String() string {
	return fmt.Sprintf("%s, below %s%% usable", strings.Join(f.Order, ", then "), f.Below)
}

// Identity says whether callers of a service must prove who they are.
type Identity struct {
	Mode string `json:"mode"` // required, optional or none
	Origin
}

func (i Identity) String() string { return i.Mode }

// The modes of Identity.
const (
	IdentityRequired = "required" // callers are members of the mesh, by mutual TLS
	IdentityOptional = "optional" // members by mutual TLS, and whoever else reaches the port without
	IdentityNone     = "none"     // nobody is asked, and nothing is encrypted
)

// IdentityMode is whether callers must prove who they are.
func (s Settings) IdentityMode() string {
	if s.Identity == nil {
		return IdentityRequired
	}
	return s.Identity.Mode
}
