package model

import (
	"fmt"
	"time"
)

// EffectQuery asks what a change did: a revision, or what happened at a moment.
type EffectQuery struct {
	Revision uint   // 0: the moment At, or else the newest revision
	At       int64  // seconds since 1970
	Window   int64  // seconds on each side, at most; 0: 300
	Settle   int64  // seconds left out after the change; negative: 5
	Site     string // only requests made or answered at this site; empty: all
}

// Window is one side of an effect.
type Window struct {
	From    int64 `json:"from"` // seconds since 1970
	To      int64 `json:"to"`
	Seconds int64 `json:"seconds"`
	// revision in force then; requests that followed another one are left out; 0: none
	Revision uint `json:"revision"`
}

// Effect is what a change did to the success of requests.
type Effect struct {
	Revision   uint        `json:"revision,omitempty"` // the change; absent: any moment
	At         time.Time   `json:"at"`                 // time of the change
	Kind       string      `json:"kind,omitempty"`     // publish, split, restore or release
	Author     string      `json:"author,omitempty"`
	Message    string      `json:"message,omitempty"`
	Site       string      `json:"site,omitempty"` // only requests made or answered there; absent: all
	Before     Window      `json:"before"`
	After      Window      `json:"after"`
	Settle     int64       `json:"settle"`        // seconds left out after the change
	IsComplete bool        `json:"isComplete"`    // the window after the change is full
	Due        *time.Time  `json:"due,omitempty"` // when it will be full
	IsRecorded bool        `json:"isRecorded"`    // it was computed when its window was full, and is kept
	Rows       []EffectRow `json:"rows"`          // the whole mesh, then the worst first
	Notes      []string    `json:"notes"`         // what to know about the windows
}

// Whole is the row of the whole mesh; nil when there were no requests.
func (e *Effect) Whole() *EffectRow {
	if len(e.Rows) > 0 && e.Rows[0].Kind == RowMesh {
		return &e.Rows[0]
	}
	return nil
}

// Of is what the whole effect is of, in words.
func (e *Effect) Of() string {
	if e.Site == "" {
		return "requests between services"
	}
	return "requests at site " + e.Site
}

// Name is the change in words, such as "revision 7".
func (e *Effect) Name() string {
	if e.Revision > 0 {
		return fmt.Sprintf("revision %d", e.Revision)
	}
	return "what happened at " + e.At.Format("2006-01-02 15:04:05 UTC")
}

// Windows is the times that the effect compares, in words.
func (e *Effect) Windows() string {
	text := fmt.Sprintf("Compared: %d s before with %d s after; the first %d s after the change are left out.",
		e.Before.Seconds, e.After.Seconds, e.Settle)
	if !e.IsComplete {
		text += " The window after is not full yet."
	}
	if e.Site != "" {
		text += fmt.Sprintf(" Only requests made or answered at site %s.", e.Site)
	}
	return text
}

// EffectSummary is an effect in a list.
type EffectSummary struct {
	Revision   uint          `json:"revision"`
	At         time.Time     `json:"at"`
	Kind       string        `json:"kind"`
	Author     string        `json:"author"`
	Message    string        `json:"message"`
	IsComplete bool          `json:"isComplete"`        // false: its window is not full yet, and nothing is recorded
	Due        *time.Time    `json:"due,omitempty"`     // when it will be full
	Verdict    string        `json:"verdict,omitempty"` // of success in the whole mesh
	Success    *EffectFigure `json:"success,omitempty"`
	Worse      int           `json:"worse"` // rows whose success became worse
	Better     int           `json:"better"`
	Worst      string        `json:"worst,omitempty"` // the row that became worse most
}

// EffectPage is one page of effects.
type EffectPage struct {
	Effects []EffectSummary `json:"effects"`
	Next    uint            `json:"next,omitempty"` // pass as before for the next page; absent on the last
}

// The verdicts on a difference. Success is better or worse, latency faster or
// slower, each only when the 95% interval of the difference excludes 0.
const (
	Better        = "better"
	Worse         = "worse"
	Faster        = "faster"
	Slower        = "slower"
	NoClearChange = "no clear change"
	TooFew        = "too few requests" // under LeastRequests on a side
)

// LeastRequests is how many requests each side needs for a verdict.
const LeastRequests = 30

// The kinds of an EffectRow.
const (
	RowMesh    = "mesh"    // all requests between services
	RowCaller  = "caller"  // of one calling service or gateway
	RowService = "service" // to one service
	RowVersion = "version" // to one SERVICE/VERSION
	RowRoute   = "route"   // that took one route, PARENT/ROUTE
	RowLink    = "link"    // CALLER > SERVICE
)

// RowKinds are all kinds of rows, from the whole to the parts.
var RowKinds = []string{RowMesh, RowCaller, RowService, RowRoute, RowVersion, RowLink}

// EffectRow is one group of requests on both sides.
type EffectRow struct {
	Kind string `json:"kind"` // mesh, caller, service, route, version or link
	// NAME, SERVICE/VERSION, PARENT/ROUTE or CALLER > SERVICE; empty of the mesh
	Name string `json:"name"`
	// a group of the same kind, whose requests before are compared with those after: this one
	// is new, and took its requests from that one. Absent: it is compared with itself
	Against            string         `json:"against,omitempty"`
	Before             EffectSide     `json:"before"`
	After              EffectSide     `json:"after"`
	Verdict            string         `json:"verdict"`      // on success
	Success            EffectFigure   `json:"success"`      // 0 to 1
	FirstAttempt       EffectFigure   `json:"firstAttempt"` // success of first attempts, 0 to 1
	P50MS              EffectFigure   `json:"p50MS"`
	P95MS              EffectFigure   `json:"p95MS"`
	P99MS              EffectFigure   `json:"p99MS"`
	AttemptsPerRequest EffectFigure   `json:"attemptsPerRequest"`
	Reasons            []ReasonChange `json:"reasons,omitempty"` // failures and refusals by reason
	// of a route with several targets: what each got against its weight, on the side after
	Shares []ShareCheck `json:"shares,omitempty"`
	// probability that chance alone deviates so far from the weights (chi-square); absent where
	// there are too few requests
	ShareP *float64 `json:"shareP,omitempty"`
}

// SharesDiffer tells whether what the targets of a route got differs from their
// weights by more than chance.
func (r *EffectRow) SharesDiffer() bool { return r.ShareP != nil && *r.ShareP < shareAlpha }

// shareAlpha is the probability below which chance is not taken for the cause.
const shareAlpha = 0.01

// EffectSide is the requests of a row on one side.
type EffectSide struct {
	Requests uint64  `json:"requests"`
	RPS      float64 `json:"rps"`
	Failed   uint64  `json:"failed"`
	Refused  uint64  `json:"refused"`
}

// EffectFigure is one measurement on both sides.
type EffectFigure struct {
	Before *float64 `json:"before"` // null without requests
	After  *float64 `json:"after"`
	Change *float64 `json:"change"` // after minus before
	// 95% interval of the change; null where there are too few requests, and of attempts per
	// request
	Low     *float64 `json:"low"`
	High    *float64 `json:"high"`
	Verdict string   `json:"verdict"` // better or worse, faster or slower, no clear change, or too few requests
}

// ReasonChange is how often a reason occurred on both sides.
type ReasonChange struct {
	Reason string       `json:"reason"`
	Before uint64       `json:"before"` // requests
	After  uint64       `json:"after"`  // requests
	Share  EffectFigure `json:"share"`  // of the requests; worse is more often
}

// ShareCheck is what one target of a route got against its weight.
type ShareCheck struct {
	Target   string  `json:"target"`   // SERVICE/VERSION
	Intended float64 `json:"intended"` // share by the weights
	Observed float64 `json:"observed"` // share
	Low      float64 `json:"low"`      // 95% interval of the observed share (Wilson)
	High     float64 `json:"high"`
	Requests uint64  `json:"requests"`
}
