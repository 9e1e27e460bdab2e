// Package upgrades has the fleet take a new program, wave by wave: it signs and offers it,
// watches the proxies that have it, and takes it back when they do worse. What is decided is
// in core/upgrade.
package upgrades

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/fleet"
	"nightjar/control/journal"
	"nightjar/control/problem"
	"nightjar/core/rules"
	"nightjar/core/upgrade"
	"nightjar/identity"
	"nightjar/store"
	"nightjar/wire"
)

const (
	// StepEvery is how often Step is to be called.
	StepEvery = 500 * time.Millisecond

	comeTime = 90 * time.Second // for all proxies of a wave to have the program
	goneTime = 30 * time.Second // without a connection, after which a proxy counts as gone
	// maxAtOnce is how many proxies are at it at a time: many may run on one machine, and each
	// start takes a processor for a while. One that needs longer than atItTime gives its place up.
	maxAtOnce = 32
	atItTime  = 20 * time.Second
	usualEach = 10 * time.Second // for which a wave is looked at
	maxEach   = 24 * time.Hour
	maxWaves  = 20
	maxName   = 256
	shown     = 20 // upgrades that are listed
)

// Records is what upgrades need of the store.
type Records interface {
	Apply(ctx context.Context, changes ...store.Change) error
	Upgrades(ctx context.Context, limit int) ([]store.Upgrade, error)
}

// Fleet is the proxies.
type Fleet interface {
	Running() []fleet.Running
}

// Config is what Upgrades are made of.
type Config struct {
	Records Records
	Fleet   Fleet
	Node    *identity.Credentials // that sign programs
	Dir     string                // where programs are kept
	Journal *journal.Journal
	Now     func() time.Time
}

// Upgrades are those that run or ran. It is safe for concurrent use.
type Upgrades struct {
	Config
	programs programs

	changing sync.Mutex // held while an upgrade begins, or changes its state

	mu     sync.Mutex
	now    *store.Upgrade // the newest; nil: there was none
	offer  *wire.ProgramOffer
	atIt   map[string]time.Time // proxies that were offered the program, and do not have it yet
	counts counts
}

// Open reads the newest upgrade.
func Open(ctx context.Context, c Config) (*Upgrades, error) {
	u := &Upgrades{Config: c, programs: programs{dir: c.Dir, sending: make(chan struct{}, maxSending)}, counts: counts{}}
	list, err := c.Records.Upgrades(ctx, 1)
	if err != nil || len(list) == 0 {
		return u, err
	}
	u.now = &list[0]
	return u, nil
}

// Start begins an upgrade to a program that was uploaded.
func (u *Upgrades) Start(ctx context.Context, q model.UpgradeRequest) (model.Upgrade, error) {
	one, err := u.read(q)
	if err != nil {
		return model.Upgrade{}, err
	}
	u.changing.Lock()
	defer u.changing.Unlock()
	if now := u.newest(); now != nil {
		if now.Ended.IsZero() {
			return model.Upgrade{}, problem.Running("upgrade %d is under way: wait for its end, or take it back (nightjar fleet take-back)", now.Number)
		}
		one.Number = now.Number
	}
	one.Number++
	one.By, one.Began = actor.Name(ctx), u.Now().UTC()
	var ids, others []string
	for _, p := range u.Fleet.Running() {
		switch {
		case one.Site != "" && p.Site != one.Site, !p.IsConnected, p.Build == one.Hash:
		case !p.TakesPrograms || p.Build == "":
			others = append(others, p.ID)
		default:
			ids = append(ids, p.ID)
			m := store.UpgradeMember{Before: p.Build, Memory: p.Memory}
			for _, one := range p.Problems {
				m.Problems = append(m.Problems, one.Kind)
			}
			one.Members[p.ID] = m
		}
	}
	if len(ids) == 0 {
		why := ""
		if len(others) > 0 {
			why = fmt.Sprintf(": %s (of %d) takes none, since it has no --state, or --own-program", others[0], len(others))
		}
		return model.Upgrade{}, problem.Invalid("no proxy takes this program%s, or all have it", why)
	}
	u.mu.Lock()
	for _, c := range u.counts { // what the upgrade before left
		c.hasIt = false
	}
	u.mu.Unlock()
	one.Waves = upgrade.Waves(ids, one.Shares, uint64(one.Number))
	one.Since = one.Began
	if err := u.put(ctx, one); err != nil {
		return model.Upgrade{}, err
	}
	u.log(ctx, one, "upgrade-started", fmt.Sprintf("program %s to %d proxies in %d waves", called(one), len(ids), len(one.Waves)))
	return view(one), nil
}

// read checks a request for an upgrade by itself.
func (u *Upgrades) read(q model.UpgradeRequest) (*store.Upgrade, error) {
	size, err := u.programs.size(q.Hash)
	if err != nil {
		return nil, problem.Missing("program %q was not uploaded, or is not kept any more: upload it again", q.Hash)
	}
	one := &store.Upgrade{Hash: q.Hash, Size: size, Name: q.Name, Site: q.Site, Each: usualEach, State: model.UpgradeRunning, Members: map[string]store.UpgradeMember{}}
	if q.Each != "" {
		if one.Each, err = time.ParseDuration(q.Each); err != nil || one.Each < time.Second || one.Each > maxEach {
			return nil, problem.Invalid("each: %q is not a time from 1s to 24h, such as 30s", q.Each)
		}
	}
	if len(q.Name) > maxName || !utf8.ValidString(q.Name) {
		return nil, problem.Invalid("name: at most %d bytes of text", maxName)
	}
	if len(q.Waves) == 0 {
		q.Waves = []string{"5%", "25%", "100%"}
	}
	if len(q.Waves) > maxWaves {
		return nil, problem.Invalid("waves: at most %d", maxWaves)
	}
	last := 0.0
	for _, text := range q.Waves {
		p, err := rules.ParsePercent(text)
		if err != nil || p.Share() <= last || p.Share() > 1 {
			return nil, problem.Invalid("waves: %q is not a share above the one before, such as 5%%, 25%%, 100%%", text)
		}
		last = p.Share()
		one.Shares = append(one.Shares, last)
	}
	if last != 1 {
		return nil, problem.Invalid("waves: the last wave is 100%%")
	}
	return one, nil
}

func (u *Upgrades) newest() *store.Upgrade {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.now
}

// put stores an upgrade, and shows it.
func (u *Upgrades) put(ctx context.Context, one *store.Upgrade) error {
	if err := u.Records.Apply(ctx, store.SaveUpgrade{Upgrade: *one}); err != nil {
		return fmt.Errorf("the upgrade could not be stored: %w", err)
	}
	u.mu.Lock()
	if u.now == nil || u.now.Number != one.Number || u.now.State != one.State {
		u.atIt = map[string]time.Time{}
	}
	u.now, u.offer = one, nil
	u.mu.Unlock()
	return nil
}

func (u *Upgrades) log(ctx context.Context, one *store.Upgrade, kind, detail string) {
	who := actor.Name(ctx)
	if who == actor.Unknown {
		who = fleet.ServiceCaller
	}
	u.Journal.Add(ctx, store.Activity{At: u.Now().UTC(), Who: who, Kind: kind, Detail: fmt.Sprintf("upgrade %d: %s", one.Number, detail)})
}

func called(one *store.Upgrade) string {
	return strings.TrimSpace(one.Name + " " + one.Hash[:12])
}

// TakeBack has all proxies that took the program run the one before again.
func (u *Upgrades) TakeBack(ctx context.Context, number uint) (model.Upgrade, error) {
	u.changing.Lock()
	defer u.changing.Unlock()
	now := u.newest()
	switch {
	case now == nil || now.Number != number:
		return model.Upgrade{}, problem.Missing("upgrade %d is not the newest: only that one can be taken back", number)
	case now.State == model.UpgradeTakingBack || now.State == model.UpgradeTakenBack:
		return view(now), nil
	}
	one := copied(now)
	if err := u.takeBack(ctx, one, "by "+actor.Name(ctx)); err != nil {
		return model.Upgrade{}, err
	}
	return view(one), nil
}

func (u *Upgrades) takeBack(ctx context.Context, one *store.Upgrade, why string) error {
	one.State, one.Why, one.Since, one.Ended = model.UpgradeTakingBack, why, u.Now().UTC(), time.Time{}
	if err := u.put(ctx, one); err != nil {
		return err
	}
	u.log(ctx, one, "upgrade-taken-back", why)
	return nil
}

func copied(one *store.Upgrade) *store.Upgrade {
	out := *one
	out.Members = map[string]store.UpgradeMember{}
	for id, m := range one.Members {
		out.Members[id] = m
	}
	return &out
}

// Offer is the program that a proxy is to run; nil: what it runs.
func (u *Upgrades) Offer(id, build string) *wire.ProgramOffer {
	u.mu.Lock()
	defer u.mu.Unlock()
	one := u.now
	if one == nil || !one.Ended.IsZero() {
		return nil
	}
	isIn := false
	for _, wave := range one.Waves[:min(one.Wave+1, len(one.Waves))] {
		isIn = isIn || slices.Contains(wave, id)
	}
	isBack := one.State == model.UpgradeTakingBack
	if !isIn || (build == one.Hash) != isBack || !u.mayBeAtIt(id) {
		return nil
	}
	if u.offer == nil {
		o := &wire.ProgramOffer{Upgrade: one.Number, Hash: one.Hash, Size: one.Size, Back: isBack}
		var err error
		o.Signature, o.Chain, err = identity.SignProgram(identity.Program{Hash: o.Hash, Size: o.Size}, u.Node.Own())
		if err != nil {
			return nil // it has no certificate for the moment
		}
		u.offer = o
	}
	return u.offer
}

// mayBeAtIt tells whether it is the turn of a proxy to take the program. The caller holds mu.
func (u *Upgrades) mayBeAtIt(id string) bool {
	if _, is := u.atIt[id]; is {
		return true
	}
	now, n := u.Now(), 0
	for _, since := range u.atIt {
		if now.Sub(since) < atItTime {
			n++
		}
	}
	if n >= maxAtOnce {
		return false
	}
	if u.atIt == nil {
		u.atIt = map[string]time.Time{}
	}
	u.atIt[id] = now
	return true
}

// Step takes the upgrade further.
func (u *Upgrades) Step(ctx context.Context) error {
	running := map[string]fleet.Running{}
	for _, p := range u.Fleet.Running() {
		running[p.ID] = p
	}
	u.mu.Lock()
	u.counts.sample(running, u.Now())
	if one := u.now; one != nil {
		for id := range u.atIt { // those that are through make room
			if (running[id].Build == one.Hash) == (one.State == model.UpgradeRunning) {
				delete(u.atIt, id)
			}
		}
	}
	u.mu.Unlock()
	u.changing.Lock()
	defer u.changing.Unlock()
	now := u.newest()
	if now == nil || !now.Ended.IsZero() {
		return nil
	}
	one := copied(now)
	if one.State == model.UpgradeTakingBack {
		return u.stepBack(ctx, one, running)
	}
	return u.stepOn(ctx, one, running)
}

// stepOn looks at the waves that have begun.
func (u *Upgrades) stepOn(ctx context.Context, one *store.Upgrade, running map[string]fleet.Running) error {
	now := u.Now().UTC()
	var judged []upgrade.Proxy
	late, hasNews, isAway := "", false, false
	for w, wave := range one.Waves[:one.Wave+1] {
		for _, id := range wave {
			m, p := one.Members[id], running[id]
			if r := p.Upgrade; r != nil && r.Upgrade == one.Number && r.Failed != "" {
				m.Failed = r.Failed
				one.Members[id] = m
				return u.takeBack(ctx, one, fmt.Sprintf("start: %s: %s", id, r.Failed))
			}
			if m.Nonce == "" && p.Build == one.Hash && p.IsConnected {
				m.Nonce, m.Since = p.Nonce, now
				one.Members[id], hasNews = m, true
				u.mu.Lock()
				u.counts.begin(id, now)
				u.mu.Unlock()
			}
			isAway = isAway || !p.IsConnected
			switch {
			case m.Nonce != "":
				judged = append(judged, u.proxy(id, m, p, now))
			case w == one.Wave:
				late = id
			}
		}
	}
	if why := upgrade.Judge(judged); why != "" {
		return u.takeBack(ctx, one, fmt.Sprintf("wave %d: %s", one.Wave+1, why))
	}
	if late != "" {
		if now.Sub(one.Since) > comeTime {
			return u.takeBack(ctx, one, fmt.Sprintf("wave %d: %s does not have the program after %s", one.Wave+1, late, comeTime))
		}
		if hasNews {
			return u.put(ctx, one)
		}
		return nil
	}
	newest := one.Since
	for _, id := range one.Waves[one.Wave] {
		if at := one.Members[id].Since; at.After(newest) {
			newest = at
		}
	}
	switch {
	case now.Sub(newest) < one.Each, isAway: // one that is away may be gone
		if hasNews {
			return u.put(ctx, one)
		}
		return nil
	case one.Wave+1 < len(one.Waves):
		one.Wave, one.Since = one.Wave+1, now
		u.log(ctx, one, "upgrade-wave", fmt.Sprintf("wave %d of %d: %d proxies", one.Wave+1, len(one.Waves), len(one.Waves[one.Wave])))
		return u.put(ctx, one)
	}
	one.State, one.Ended = model.UpgradeCompleted, now
	u.log(ctx, one, "upgrade-completed", fmt.Sprintf("program %s in %d proxies", called(one), len(one.Members)))
	return u.put(ctx, one)
}

// proxy is what is known of a proxy that has the program.
func (u *Upgrades) proxy(id string, m store.UpgradeMember, p fleet.Running, now time.Time) upgrade.Proxy {
	out := upgrade.Proxy{
		ID:           id,
		MemoryBefore: m.Memory,
		Memory:       p.Memory,
		For:          now.Sub(m.Since),
		IsGone:       !p.IsConnected && now.Sub(p.LastSeen) > goneTime,
		HasRestarted: p.Nonce != "" && p.Nonce != m.Nonce,
	}
	for _, one := range p.Problems {
		if !slices.Contains(m.Problems, one.Kind) {
			out.NewProblems = append(out.NewProblems, one.Kind+": "+one.Detail)
		}
	}
	u.mu.Lock()
	out.Before, out.Now = u.counts.of(id)
	u.mu.Unlock()
	return out
}

// stepBack waits until all have the program before again.
func (u *Upgrades) stepBack(ctx context.Context, one *store.Upgrade, running map[string]fleet.Running) error {
	var still []string
	for id := range one.Members {
		if p := running[id]; p.IsConnected && p.Build == one.Hash {
			still = append(still, id)
		}
	}
	slices.Sort(still)
	now := u.Now().UTC()
	if len(still) > 0 && now.Sub(one.Since) < comeTime {
		return nil
	}
	one.State, one.Ended = model.UpgradeTakenBack, now
	if len(still) > 0 {
		one.Why += fmt.Sprintf("; %d still have it after %s, such as %s: start them again", len(still), comeTime, still[0])
	}
	return u.put(ctx, one)
}

// List lists upgrades, newest first.
func (u *Upgrades) List(ctx context.Context) (model.UpgradeList, error) {
	list, err := u.Records.Upgrades(ctx, shown)
	out := model.UpgradeList{Upgrades: make([]model.Upgrade, 0, len(list))}
	for i := range list {
		out.Upgrades = append(out.Upgrades, view(&list[i]))
	}
	return out, err
}

// Newest is the newest upgrade; nil: there was none.
func (u *Upgrades) Newest() *model.Upgrade {
	now := u.newest()
	if now == nil {
		return nil
	}
	v := view(now)
	return &v
}

// Compare adds the newest upgrade to the fleet, and the proxies that are out of step with it.
func Compare(f *model.Fleet, newest *model.Upgrade) {
	f.Upgrade = newest
	if newest == nil || newest.State != model.UpgradeCompleted {
		return
	}
	for i := range f.Proxies {
		p := &f.Proxies[i]
		isMeant := newest.Site == "" || p.Site == newest.Site
		if isMeant && p.Build != "" && p.Build != newest.Hash { // the service's own proxy has none
			f.OutOfStep = append(f.OutOfStep, p.ID)
		}
	}
}

func view(one *store.Upgrade) model.Upgrade {
	out := model.Upgrade{
		Number:  one.Number,
		By:      one.By,
		Began:   one.Began,
		Program: one.Name,
		Hash:    one.Hash,
		Size:    one.Size,
		Site:    one.Site,
		Each:    one.Each.String(),
		State:   one.State,
		Why:     one.Why,
		Waves:   []model.UpgradeWave{},
	}
	if !one.Ended.IsZero() {
		out.Ended = &one.Ended
	}
	for i, ids := range one.Waves {
		w := model.UpgradeWave{Proxies: slices.Sorted(slices.Values(ids)), HasBegun: i <= one.Wave}
		for _, id := range ids {
			if one.Members[id].Nonce != "" {
				w.Took++
			}
			if f := one.Members[id].Failed; f != "" {
				w.Failed = append(w.Failed, id+": "+f)
			}
		}
		out.Waves = append(out.Waves, w)
	}
	return out
}

// Count counts the requests of a proxy: those that it sent, and those that others sent to
// the instance beside it.
func (u *Upgrades) Count(id string, d *wire.Delta) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for i := range d.Series {
		s := &d.Series[i]
		if s.App || s.Copy {
			continue
		}
		one := upgrade.Count{Requests: s.Counts.Requests(), OK: s.Counts.OK}
		u.counts.add(id, one)
		if s.Instance != "" && s.Instance != id {
			u.counts.add(s.Instance, one)
		}
	}
}

// counts are requests by proxy.
type counts map[string]*counted

type counted struct {
	all     upgrade.Count
	samples []sample      // of the last minute, the oldest first
	before  upgrade.Count // in the minute before it took the program
	from    upgrade.Count // all when it took the program
	hasIt   bool
}

type sample struct {
	at  time.Time
	all upgrade.Count
}

const (
	sampleEvery = 2 * time.Second
	sampleFor   = time.Minute
	maxCounted  = 20_000 // proxies and instances
)

func (c counts) add(id string, n upgrade.Count) {
	one := c[id]
	if one == nil {
		if len(c) >= maxCounted {
			return
		}
		one = &counted{}
		c[strings.Clone(id)] = one
	}
	one.all.Add(n)
}

// sample remembers where the counts stand, and forgets those of proxies that are gone.
func (c counts) sample(running map[string]fleet.Running, now time.Time) {
	for id, one := range c {
		if _, is := running[id]; !is && !one.hasIt {
			delete(c, id)
			continue
		}
		if n := len(one.samples); n > 0 && now.Sub(one.samples[n-1].at) < sampleEvery {
			continue
		}
		one.samples = append(one.samples, sample{now, one.all})
		for now.Sub(one.samples[0].at) > sampleFor {
			one.samples = one.samples[1:]
		}
	}
}

// begin notes that a proxy has the program.
func (c counts) begin(id string, now time.Time) {
	c.add(id, upgrade.Count{})
	one := c[id]
	if one == nil {
		return
	}
	one.hasIt, one.from = true, one.all
	if len(one.samples) > 0 {
		one.before = one.all.Minus(one.samples[0].all)
	}
}

// of is the requests of a proxy in the minute before it took the program, and since.
func (c counts) of(id string) (before, now upgrade.Count) {
	one := c[id]
	if one == nil {
		return before, now
	}
	if !one.hasIt { // the service was started meanwhile
		one.hasIt, one.from = true, one.all
	}
	return one.before, one.all.Minus(one.from)
}
