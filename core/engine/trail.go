package engine

import "time"

// StretchKind says what a request did in a part of its time.
type StretchKind uint8

// The kinds.
const (
	Tried     StretchKind = iota // it was at an instance
	Queued                       // it waited in line for a place at a version
	BackedOff                    // it waited before it was sent once more
	Delayed                      // a route held it back on purpose
)

// String is the kind in a word.
func (k StretchKind) String() string {
	return [...]string{"try", "queue", "back-off", "delay"}[k]
}

// Stretch is a part of a request's time: a try, or a wait before one. Between
// stretches nothing is waited for.
type Stretch struct {
	Kind     StretchKind
	Instance *Instance     // of a try
	Began    time.Duration // since the driver's epoch
	Ended    time.Duration // of a try: when the answer's head was there; 0: it is still under way
	Status   int           // of a try: the answer's; 0 without one
	Reason   Reason        // of a try without an answer
}

// maxTrail bounds what is remembered of one request; later stretches are not.
const maxTrail = 32

// Trail is what the request did so far, in order. It holds until the next Begin.
func (x *Exchange) Trail() []Stretch { return x.trail }

// embark begins a stretch.
func (x *Exchange) embark(kind StretchKind, in *Instance, now time.Duration) {
	if len(x.trail) < maxTrail {
		x.trail = append(x.trail, Stretch{Kind: kind, Instance: in, Began: now})
	}
}

// arrive ends the stretch that is under way.
func (x *Exchange) arrive(o *Outcome, now time.Duration) {
	if n := len(x.trail); n > 0 && x.trail[n-1].Ended == 0 {
		s := &x.trail[n-1]
		s.Ended, s.Reason = max(now, 1), o.Reason
		if s.Status = o.Status; s.Status == 0 {
			s.Status = o.Means
		}
	}
}
