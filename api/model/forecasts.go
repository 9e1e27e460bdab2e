package model

import "fmt"

// ForecastRequest asks what would happen to requests.
type ForecastRequest struct {
	// draft of a bundle; without one, the forecast for the rules in force is compared with what
	// was measured
	Rules  []File       `json:"rules,omitempty"`
	Bundle string       `json:"bundle,omitempty"` // bundle that the draft replaces; main when absent
	Split  *SplitChange `json:"split,omitempty"`  // instead of a draft: other weights of one route
	// instead of a draft: another queue for each version of a service
	Guard *GuardChange `json:"guard,omitempty"`
	Trial string       `json:"trial,omitempty"` // a trial whose load is added; its expectations are checked
	File  []File       `json:"file,omitempty"`  // files that hold the trial
	// only the load of the trial, without the requests that enter the mesh now
	Alone bool `json:"alone,omitempty"`
	// expectations, such as success >= 98.5%; of all requests that enter the mesh, or of the trial
	Expect []string `json:"expect,omitempty"`
	Window int64    `json:"window,omitempty"` // seconds of measurements to use; 300 when 0, at most 840
	// requests that enter the mesh; 50000 when 0, at most 2000000
	Requests uint64 `json:"requests,omitempty"`
	// 1 when 0; the same seed and measurements give the same result
	Seed uint64 `json:"seed,omitempty"`
	// text of a behaviour file: what to assume of some versions
	Behaviour string   `json:"behaviour,omitempty"`
	Rate      float64  `json:"rate,omitempty"`  // traffic multiplier; 1 when 0
	Sweep     bool     `json:"sweep,omitempty"` // also at other rates, from a quarter to eight times
	Down      []string `json:"down,omitempty"`  // outage to simulate: sites, services or SERVICE/VERSION
}

// SplitChange is other weights of one route.
type SplitChange struct {
	Service string   `json:"service"`
	Route   string   `json:"route,omitempty"`
	Weights []Weight `json:"weights"`
}

// GuardChange is another queue for each version of a service.
type GuardChange struct {
	Service  string `json:"service"`
	InFlight int    `json:"inFlight"` // requests at once for each calling proxy
	Waiting  int    `json:"waiting"`  // requests that may wait; more are refused
}

// The sides of a Forecast.
const (
	SideMeasured = "measured"
	SideForecast = "forecast" // of the rules in force, without a draft
	SideInForce  = "in force"
	SideDraft    = "draft"
)

// Forecast is what would happen to requests.
type Forecast struct {
	Revision uint   `json:"revision"` // in force
	Before   string `json:"before"`   // what the side before is: measured, or in force
	// what the side after is: forecast (of the rules in force), or draft
	After     string              `json:"after"`
	Draft     []Change            `json:"draft"`     // what the draft changes
	Requests  uint64              `json:"requests"`  // simulated on each side, that enter the mesh
	Simulated float64             `json:"simulated"` // seconds simulated on each side
	TookMS    float64             `json:"tookMS"`    // time to compute it
	Seed      uint64              `json:"seed"`
	Rows      []EffectRow         `json:"rows"`          // as in an effect
	Expected  []ExpectationResult `json:"expected"`      // of the side after
	Now       []ExpectationResult `json:"now,omitempty"` // with a draft: the same for the rules in force
	// the forecast for the rules in force beside what was measured
	Calibration []string           `json:"calibration"`
	Assumptions []string           `json:"assumptions"`
	Behaviour   []VersionBehaviour `json:"behaviour"`       // what it assumes of each version
	Sweep       []SweepPoint       `json:"sweep,omitempty"` // by rate, rising
	// rate at which the mesh starts to refuse requests
	RefusalStart []RefusalStart `json:"refusalStart,omitempty"`
	// a caller or service whose success drops by more than one point
	Worse string `json:"worse,omitempty"`
}

// SweepPoint is what happens to requests at one rate.
type SweepPoint struct {
	RPS    float64   `json:"rps"`    // requests that enter the mesh
	Before SweepSide `json:"before"` // with the rules in force
	After  SweepSide `json:"after"`  // with the draft; the same without one
}

// SweepSide is one set of rules at one rate.
type SweepSide struct {
	Success float64 `json:"success"` // of the requests that enter the mesh
	// refusals by guards and limits, anywhere in the mesh, for each request that enters it; at
	// most 1
	Refused float64 `json:"refused"`
	P95MS   float64 `json:"p95MS"`
	// attempts between services for each request that enters the mesh
	AttemptsPerRequest float64 `json:"attemptsPerRequest"`
	Reason             string  `json:"reason,omitempty"` // of most refusals
	Where              string  `json:"where,omitempty"`  // link with most refusals
}

// RefusalStart is the rate at which guards and limits start to refuse requests.
type RefusalStart struct {
	Rules  string  `json:"rules"` // in force, or draft
	RPS    float64 `json:"rps"`   // requests that enter the mesh; 0: they refuse < 0.1% at these rates
	Reason string  `json:"reason,omitempty"`
	Where  string  `json:"where,omitempty"`
}

// Words is the same as a sentence.
func (s RefusalStart) Words() string {
	name := s.Rules
	if name == SideDraft {
		name = "of the draft"
	}
	if s.RPS == 0 {
		return fmt.Sprintf(
			"With the rules %s, guards and limits refuse less than 0.1%% of the requests at these rates.",
			name,
		)
	}
	return fmt.Sprintf("With the rules %s, the mesh starts to refuse requests at %.0f per second: %s on %s.",
		name, s.RPS, s.Reason, s.Where)
}

// VersionBehaviour is what a forecast assumes of a version.
type VersionBehaviour struct {
	Target      string  `json:"target"`   // SERVICE/VERSION
	Requests    uint64  `json:"requests"` // that it was measured by
	P50MS       float64 `json:"p50MS"`    // of its own time, without its calls
	P95MS       float64 `json:"p95MS"`
	HopMS       float64 `json:"hopMS"`           // time on the way to it and back
	Errors      float64 `json:"errors"`          // share of requests that fail by its own fault
	Concurrency int     `json:"concurrency"`     // requests that it works on at once; 0: any number
	Calls       string  `json:"calls,omitempty"` // its calls for each request, in words
}
