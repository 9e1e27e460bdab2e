// Package access shows who calls whom, who may, and who was refused; and suggests rules
// for what is used.
package access

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"nightjar/control/fleet"
	"nightjar/control/revisions"
	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/store"
	"nightjar/wire"
)

const (
	// WriteEvery is how often Write is to be called.
	WriteEvery = 10 * time.Second

	keptDays = 14
	maxRows  = 20_000 // that wait for the disk
	freshFor = 10 * time.Second
	writeFor = 10 * time.Second

	maxAddresses = 100 // without an identity that are told apart, of a service and day
)

// Outcomes of requests between a caller and a service.
const (
	used    = "used"    // they were let in
	denied  = "denied"  // access rules refused them
	watched = "watched" // access rules would have refused them
	plain   = "plain"   // they were let in without an identity
	unknown = "unknown" // they were refused since they had no identity
	// they were let in without an identity from the address in place of the rule, where one is
	// asked for; counted among plain too
	unproven = "unproven"
)

// Records is what access needs of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	AccessSeen(ctx context.Context, from string) ([]store.AccessSeen, error)
}

// Config is what Access is made of.
type Config struct {
	Records Records
	Current func() revisions.Current
	Sites   func(caller string) []string // where a caller runs
	Now     func() time.Time
}

// Access counts who called whom. It is safe for concurrent use.
type Access struct {
	Config

	mu      sync.Mutex // guards what follows
	waiting map[key]*store.AccessSeen
	pruned  string
	// of callers without an identity, by service, on the day addressDay
	addresses  map[string]map[string]bool
	addressDay string
	read       []store.AccessSeen // what is on disk
	readAt     time.Time
}

type key struct{ day, caller, service, rule, outcome string }

// New makes Access.
func New(c Config) *Access { return &Access{Config: c, waiting: map[key]*store.AccessSeen{}} }

// deniedNumber is the place of the reason among those that are counted.
var deniedNumber, _ = engine.Denied.Number()

// Count takes what a proxy counted.
func (a *Access) Count(d *wire.Delta) {
	now, caller := a.Now().UTC(), a.partyOf(d.Caller)
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := range d.Series {
		s := &d.Series[i]
		refused := s.Counts.Reasons[deniedNumber]
		total := s.Counts.Requests() + s.Counts.Abandoned + s.Counts.CallerFault
		switch {
		case s.Service == "" || s.Service == wire.Other || s.Copy:
		case !s.App && s.Instance == "": // the caller's own proxy refused
			a.add(now, key{caller: caller, service: s.Service, outcome: denied}, refused)
			a.add(now, key{caller: caller, service: s.Service, outcome: used}, total-refused)
		case !s.App:
			a.add(now, key{caller: caller, service: s.Service, outcome: used}, total-refused)
		case s.Caller == "":
			a.add(now, key{service: s.Service, outcome: unknown}, refused)
			a.add(now, key{service: s.Service, outcome: plain}, total-refused)
		default:
			a.add(now, key{caller: a.partyOf(s.Caller), service: s.Service, outcome: denied}, refused)
		}
	}
	for _, w := range d.Watched {
		a.add(now, key{caller: w.From, service: d.Caller, rule: w.Rule, outcome: watched}, w.Requests)
	}
	for _, u := range d.Unproven {
		address := a.addressOf(now, d.Caller, u.Address)
		a.add(now, key{service: d.Caller, rule: address, outcome: unproven}, u.Requests)
	}
}

// addressOf is what an address is kept as: Other, when there are too many today. The
// caller holds mu.
func (a *Access) addressOf(now time.Time, service, address string) string {
	if today := now.Format(time.DateOnly); a.addressDay != today {
		a.addressDay, a.addresses = today, map[string]map[string]bool{}
	}
	known := a.addresses[service]
	if known == nil {
		known = map[string]bool{}
		a.addresses[service] = known
	}
	if _, err := netip.ParseAddr(address); err != nil || !known[address] && len(known) >= maxAddresses {
		return wire.Other
	}
	known[address] = true
	return address
}

// partyOf is a caller by its name as access rules write it.
func (a *Access) partyOf(name string) string {
	return engine.NewParty(name, a.Current().Rules.Gateway(name) != nil, "").String()
}

// add counts requests. The caller holds mu.
func (a *Access) add(now time.Time, k key, n uint64) {
	if n == 0 {
		return
	}
	k.day = now.Format(time.DateOnly)
	one := a.waiting[k]
	if one == nil {
		if len(a.waiting) >= maxRows {
			return
		}
		one = &store.AccessSeen{Day: k.day, Caller: k.caller, Service: k.service, Rule: k.rule, Outcome: k.outcome}
		a.waiting[k] = one
	}
	one.Requests += n
	one.Last = now
}

// Write writes what was counted to disk. What cannot be written waits.
func (a *Access) Write(ctx context.Context) error {
	a.mu.Lock()
	waiting := a.waiting
	a.waiting = map[key]*store.AccessSeen{}
	today, isNew := a.Now().UTC().Format(time.DateOnly), false
	if isNew = today != a.pruned; isNew {
		a.pruned = today
	}
	a.mu.Unlock()
	var changes []store.Change
	if len(waiting) > 0 {
		rows := store.AddAccessSeen{}
		for _, one := range waiting {
			rows = append(rows, *one)
		}
		changes = append(changes, rows)
	}
	if isNew {
		changes = append(changes, store.PruneAccessSeen{Before: a.firstDay()})
	}
	if len(changes) == 0 {
		return nil
	}
	ctx, stop := context.WithTimeout(ctx, writeFor)
	defer stop()
	err := a.Records.Apply(ctx, changes...)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.readAt = time.Time{}
	if err == nil {
		return nil
	}
	a.pruned = ""
	for k, one := range waiting {
		if have := a.waiting[k]; have != nil {
			have.Requests += one.Requests
		} else if len(a.waiting) < maxRows {
			a.waiting[k] = one
		}
	}
	return err
}

func (a *Access) firstDay() string {
	return a.Now().UTC().AddDate(0, 0, -keptDays).Format(time.DateOnly)
}

// seen is what was counted in the last 14 days, on disk and in memory.
func (a *Access) seen(ctx context.Context) ([]store.AccessSeen, error) {
	a.mu.Lock()
	rows, at := a.read, a.readAt
	a.mu.Unlock()
	if now := a.Now(); now.Sub(at) > freshFor {
		var err error
		if rows, err = a.Records.AccessSeen(ctx, a.firstDay()); err != nil {
			return nil, err
		}
		a.mu.Lock()
		a.read, a.readAt = rows, now
		a.mu.Unlock()
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	rows = slices.Clone(rows)
	for _, one := range a.waiting {
		rows = append(rows, *one)
	}
	return rows, nil
}

// Links are the links that were used in the last 14 days, besides those of now.
func (a *Access) Links(ctx context.Context, now []rules.Link) []rules.Link {
	rows, err := a.seen(ctx)
	if err != nil {
		return now
	}
	type pair struct{ from, to string }
	byPair := map[pair]*rules.Link{}
	for i := range now {
		if now[i].From == fleet.ServiceCaller { // it needs no permission
			continue
		}
		byPair[pair{now[i].From, now[i].To}] = &now[i]
	}
	for _, r := range rows {
		name := strings.TrimPrefix(r.Caller, rules.PartyGateway+"/")
		if r.Outcome != used || name == "" || name == fleet.ServiceCaller {
			continue
		}
		l := byPair[pair{name, r.Service}]
		if l == nil {
			l = &rules.Link{From: name, To: r.Service}
			byPair[pair{name, r.Service}] = l
		}
		l.Recent += r.Requests
	}
	out := make([]rules.Link, 0, len(byPair))
	for _, l := range byPair {
		l.Sites = a.Sites(l.From)
		out = append(out, *l)
	}
	slices.SortFunc(
		out,
		func(x, y rules.Link) int { return cmp.Or(cmp.Compare(x.From, y.From), cmp.Compare(x.To, y.To)) },
	)
	return out
}
