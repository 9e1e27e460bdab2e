package people

import (
	"fmt"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

const (
	window       = time.Minute
	mostFailures = 10   // of an address, or with a token's id, in a window
	maxTried     = 4096 // addresses and ids that are told apart; the others share one place

	// log entries about attempts: so many at once, and then so many a minute
	noteBurst, notesEach = 30, 6
)

// attempts counts what failed, by address and by the id of a token. A credential that is
// good is never refused for what others tried: its secret has 256 random bits, so that
// guessing is hopeless at any rate, and nobody can lock somebody else out. What is limited
// is what a flood costs: log entries, and answers.
type attempts struct {
	now   func() time.Time
	notes *rate.Limiter

	mu     sync.Mutex
	by     map[string]*tried
	silent int // notes that there was no room for
}

func newAttempts(now func() time.Time) attempts {
	every := rate.Every(window / notesEach)
	return attempts{now: now, notes: rate.NewLimiter(every, noteBurst), by: map[string]*tried{}}
}

// placeOf is what an address is counted as: of IPv6 the network, which one machine may
// have all addresses of.
func placeOf(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil || ip.Is4() || ip.Is4In6() {
		return address
	}
	p, _ := ip.WithZone("").Prefix(64) // every IPv6 address has one
	return p.String()
}

// tried is what failed from one place since a time.
type tried struct {
	since  time.Time
	count  int
	isOver bool // it was said that there are too many
}

// Keys of attempts: an address, or an id.
const (
	ofID    = "token "
	ofOther = "others"
)

// failed counts an attempt. note is what to log of it, empty: nothing more in this
// window. isOver tells whether there were too many.
func (a *attempts) failed(address, id string) (note string, isOver bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	t := a.count(placeOf(address))
	if id != "" {
		if of := a.count(ofID + id); of.count > t.count {
			t = of
		}
	}
	with := ""
	if id != "" {
		with = " with the id of token " + id
	}
	switch {
	case t.count == 1:
		note = "an attempt to sign in" + with
	case t.count == mostFailures+1 && !t.isOver:
		t.isOver = true
		note = fmt.Sprintf("more than %d attempts within a minute%s: others are answered 429", mostFailures, with)
	}
	if note != "" {
		note = a.room(note)
	}
	return note, t.count > mostFailures
}

// room is a note when the log has room for it, with how many had none before.
func (a *attempts) room(note string) string {
	if !a.notes.AllowN(a.now(), 1) {
		a.silent++
		return ""
	}
	if a.silent > 0 {
		note += fmt.Sprintf(" (and %d others before)", a.silent)
		a.silent = 0
	}
	return note
}

// count counts one attempt at a place.
func (a *attempts) count(key string) *tried {
	now := a.now()
	t := a.by[key]
	if t == nil && len(a.by) >= maxTried {
		key = ofOther
		t = a.by[key]
	}
	if t == nil || now.Sub(t.since) >= window {
		t = &tried{since: now}
		a.by[key] = t
	}
	t.count++
	return t
}

// summary is what a flood came to.
type summary struct{ address, text string }

// tidy forgets what is over, and sums up the floods among it.
func (a *attempts) tidy() (out []summary) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for key, t := range a.by {
		if a.now().Sub(t.since) < window {
			continue
		}
		delete(a.by, key)
		if !t.isOver {
			continue
		}
		if note := a.room(fmt.Sprintf("%d attempts within a minute", t.count)); note != "" {
			out = append(out, summary{address: key, text: note})
		}
	}
	return out
}
