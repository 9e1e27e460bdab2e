package model

import "time"

// TrialRequest asks for a trial.
type TrialRequest struct {
	Name string `json:"name"`           // of a trial in the rules in force, in the draft or in the file
	File []File `json:"file,omitempty"` // files that hold the trial, when the rules in force do not
	// draft of a bundle to rehearse: only the requests of the trial follow it
	Rules  []File `json:"rules,omitempty"`
	Bundle string `json:"bundle,omitempty"` // bundle that the draft replaces; main when absent
	For    string `json:"for,omitempty"`    // how long, in place of what the trial says
	ToEnd  bool   `json:"toEnd,omitempty"`  // continue when an expectation cannot be met any more
}

// The states of a trial.
const (
	TrialRunning     = "running"
	TrialMet         = "met"         // every expectation was met
	TrialMissed      = "missed"      // an expectation was not met
	TrialStopped     = "stopped"     // by somebody, before its end
	TrialInterrupted = "interrupted" // the service ended while it was running
)

// Trial is a load with expectations that is running or has run.
type Trial struct {
	Number      uint                `json:"number"`
	Name        string              `json:"name"`
	By          string              `json:"by"`
	State       string              `json:"state"` // running, met, missed, stopped or interrupted
	Began       time.Time           `json:"began"`
	Ended       *time.Time          `json:"ended,omitempty"`
	Revision    uint                `json:"revision"`        // in force when it began
	Draft       []Change            `json:"draft,omitempty"` // of a rehearsal: what the draft would change
	IsRehearsal bool                `json:"isRehearsal"`     // its requests followed a draft; other traffic did not
	Seconds     float64             `json:"seconds"`         // measured so far, without the warm-up
	For         float64             `json:"for"`             // seconds to measure
	WarmUp      float64             `json:"warmUp"`          // seconds before that, which do not count
	Planned     uint64              `json:"planned"`         // requests that are due while it measures
	Loads       []string            `json:"loads"`           // what it sends, in words
	Figures     Figures             `json:"figures"`
	Expected    []ExpectationResult `json:"expected"`
	Versions    []TrialShare        `json:"versions"`
	Status      map[string]int      `json:"status"` // responses by status; none: no response
	Pace        TrialPace           `json:"pace"`
	Why         string              `json:"why,omitempty"` // why it ended before its time
	Notes       []string            `json:"notes"`
	Curve       []CurvePoint        `json:"curve,omitempty"`  // latency by share of the requests; not in lists
	Points      []Point             `json:"points,omitempty"` // one for each second, from 0; not in lists
}

// ExpectationResult is one expectation against what was measured or computed.
type ExpectationResult struct {
	Expectation  string `json:"expectation"` // as it is written
	IsMet        bool   `json:"isMet"`
	IsConclusive bool   `json:"isConclusive"` // the whole 95% interval says the same
	// shares 0 to 1, times in seconds, counts as they are; null without requests
	Value    *float64 `json:"value"`
	Low      *float64 `json:"low,omitempty"` // 95% interval of the value, where chance plays a part
	High     *float64 `json:"high,omitempty"`
	Measured string   `json:"measured"` // the same in words
	// while the trial runs: it cannot be met any more, whatever follows
	IsImpossible bool `json:"isImpossible,omitempty"`
}

// TrialShare is the responses of one version.
type TrialShare struct {
	Target   string  `json:"target"` // SERVICE/VERSION
	Requests uint64  `json:"requests"`
	Share    float64 `json:"share"` // of the responses of its service
	Low      float64 `json:"low"`   // 95% interval (Wilson)
	High     float64 `json:"high"`
}

// TrialPace is how well the requests were sent on time.
type TrialPace struct {
	Sent       uint64  `json:"sent"`     // with the warm-up
	Unsent     uint64  `json:"unsent"`   // not sent because too many were open
	Late50MS   float64 `json:"late50MS"` // median delay of sending
	Late99MS   float64 `json:"late99MS"`
	Bottleneck string  `json:"bottleneck,omitempty"` // why the figures show the limits of this machine too
}

// CurvePoint is the latency that a share of the requests did not exceed.
type CurvePoint struct {
	Share float64 `json:"share"` // 0 to 1
	MS    float64 `json:"ms"`
}

// TrialPage is one page of trials.
type TrialPage struct {
	Trials []Trial `json:"trials"`
	Next   uint    `json:"next,omitempty"` // pass as before for the next page; absent on the last
}

// TrialNames is the trials in the rules in force.
type TrialNames struct {
	Names []string `json:"names"`
}

// TrialComparison is two trials side by side.
type TrialComparison struct {
	Before Trial       `json:"before"`
	After  Trial       `json:"after"`
	Rows   []EffectRow `json:"rows"`
	Notes  []string    `json:"notes"`
}
