package engine

import "time"

// SegmentKind says what a request did in a part of its time.
type SegmentKind uint8

// The kinds.
const (
	SegmentAttempt SegmentKind = iota // it was at an instance
	SegmentQueue                      // it waited in line for a place at a version
	SegmentBackOff                    // it waited before it was sent once more
	SegmentDelay                      // a route held it back on purpose
)

// String is the kind in a word.
func (k SegmentKind) String() string {
	return [...]string{"attempt", "queue", "backoff", "delay"}[k]
}

// Segment is a part of a request's time: an attempt, or a wait before one.
// Between segments nothing is waited for.
type Segment struct {
	Kind     SegmentKind
	Instance *Instance     // of an attempt
	Began    time.Duration // since the driver's epoch
	Ended    time.Duration // of an attempt: when the answer's head was there; 0: it is still under way
	Status   int           // of an attempt: the answer's; 0 without one
	Reason   Reason        // of an attempt without an answer
}

// maxSegments bounds what is remembered of one request; later segments are not.
const maxSegments = 32

// Segments is what the request did so far, in order. It holds until the next Begin.
func (x *Exchange) Segments() []Segment { return x.segments }

func (x *Exchange) beginSegment(kind SegmentKind, in *Instance, now time.Duration) {
	if len(x.segments) < maxSegments {
		x.segments = append(x.segments, Segment{Kind: kind, Instance: in, Began: now})
	}
}

// endSegment ends the segment that is under way, if one is.
func (x *Exchange) endSegment(o *Outcome, now time.Duration) {
	if n := len(x.segments); n > 0 && x.segments[n-1].Ended == 0 {
		s := &x.segments[n-1]
		s.Ended, s.Reason = max(now, 1), o.Reason
		if s.Status = o.Status; s.Status == 0 {
			s.Status = o.Means
		}
	}
}
