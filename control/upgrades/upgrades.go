// Package upgrades has the fleet take a new program, wave by wave: it signs and offers it,
// watches the proxies that have it, and takes it back when they do worse. What is decided is
// in core/upgrade.
package upgrades

import (
	"context"
	"fmt"
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
	u := &Upgrades{
		Config:   c,
		programs: programs{dir: c.Dir, sending: make(chan struct{}, maxSending)},
		counts:   counts{},
	}
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
			return model.Upgrade{}, problem.Running(
				"upgrade %d is under way: wait for its end, or take it back (nightjar fleet take-back)", now.Number)
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
	u.log(ctx, one, "upgrade-started",
		fmt.Sprintf("program %s to %d proxies in %d waves", called(one), len(ids), len(one.Waves)))
	return view(one), nil
}

// read checks a request for an upgrade by itself.
func (u *Upgrades) read(q model.UpgradeRequest) (*store.Upgrade, error) {
	size, err := u.programs.size(q.Hash)
	if err != nil {
		return nil, problem.Missing("program %q was not uploaded, or is not kept any more: upload it again", q.Hash)
	}
	one := &store.Upgrade{
		Hash:    q.Hash,
		Size:    size,
		Name:    q.Name,
		Site:    q.Site,
		Each:    usualEach,
		State:   model.UpgradeRunning,
		Members: map[string]store.UpgradeMember{},
	}
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
	detail = fmt.Sprintf("upgrade %d: %s", one.Number, detail)
	u.Journal.Add(ctx, store.Activity{At: u.Now().UTC(), Who: who, Kind: kind, Site: one.Site, Detail: detail})
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
