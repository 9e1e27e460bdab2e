package model

import "fmt"

// ForecastRequest asks what would happen to requests.
type ForecastRequest struct {
	Rules     []File       `json:"rules,omitempty" doc:"draft of a bundle; without one, the forecast for the rules in force is compared with what was measured"`
	Bundle    string       `json:"bundle,omitempty" doc:"bundle that the draft replaces; main when absent"`
	Split     *SplitChange `json:"split,omitempty" doc:"instead of a draft: other weights of one route"`
	Guard     *GuardChange `json:"guard,omitempty" doc:"instead of a draft: another queue for each version of a service"`
	Trial     string       `json:"trial,omitempty" doc:"a trial whose load is added; its expectations are checked"`
	File      []File       `json:"file,omitempty" doc:"files that hold the trial"`
	Alone     bool         `json:"alone,omitempty" doc:"only the load of the trial, without the requests that enter the mesh now"`
	Expect    []string     `json:"expect,omitempty" doc:"expectations, such as success >= 98.5%; of all requests that enter the mesh, or of the trial"`
	Window    int64        `json:"window,omitempty" doc:"seconds of measurements to use; 300 when 0, at most 840"`
	Requests  uint64       `json:"requests,omitempty" doc:"requests that enter the mesh; 50000 when 0, at most 2000000"`
	Seed      uint64       `json:"seed,omitempty" doc:"1 when 0; the same seed and measurements give the same result"`
	Behaviour string       `json:"behaviour,omitempty" doc:"text of a behaviour file: what to assume of some versions"`
	Rate      float64      `json:"rate,omitempty" doc:"traffic multiplier; 1 when 0"`
	Sweep     bool         `json:"sweep,omitempty" doc:"also at other rates, from a quarter to eight times"`
	Down      []string     `json:"down,omitempty" doc:"outage to simulate: sites, services or SERVICE/VERSION"`
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
	InFlight int    `json:"inFlight" doc:"requests at once for each calling proxy"`
	Waiting  int    `json:"waiting" doc:"requests that may wait; more are refused"`
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
	Revision     uint                `json:"revision" doc:"in force"`
	Before       string              `json:"before" doc:"what the side before is: measured, or in force"`
	After        string              `json:"after" doc:"what the side after is: forecast (of the rules in force), or draft"`
	Draft        []Change            `json:"draft" doc:"what the draft changes"`
	Requests     uint64              `json:"requests" doc:"simulated on each side, that enter the mesh"`
	Simulated    float64             `json:"simulated" doc:"seconds simulated on each side"`
	TookMS       float64             `json:"tookMS" doc:"time to compute it"`
	Seed         uint64              `json:"seed"`
	Rows         []EffectRow         `json:"rows" doc:"as in an effect"`
	Expected     []ExpectationResult `json:"expected" doc:"of the side after"`
	Now          []ExpectationResult `json:"now,omitempty" doc:"with a draft: the same for the rules in force"`
	Calibration  []string            `json:"calibration" doc:"the forecast for the rules in force beside what was measured"`
	Assumptions  []string            `json:"assumptions"`
	Behaviour    []VersionBehaviour  `json:"behaviour" doc:"what it assumes of each version"`
	Sweep        []SweepPoint        `json:"sweep,omitempty" doc:"by rate, rising"`
	RefusalStart []RefusalStart      `json:"refusalStart,omitempty" doc:"rate at which the mesh starts to refuse requests"`
	Worse        string              `json:"worse,omitempty" doc:"a caller or service whose success drops by more than one point"`
}

// SweepPoint is what happens to requests at one rate.
type SweepPoint struct {
	RPS    float64   `json:"rps" doc:"requests that enter the mesh"`
	Before SweepSide `json:"before" doc:"with the rules in force"`
	After  SweepSide `json:"after" doc:"with the draft; the same without one"`
}

// SweepSide is one set of rules at one rate.
type SweepSide struct {
	Success            float64 `json:"success" doc:"of the requests that enter the mesh"`
	Refused            float64 `json:"refused" doc:"refusals by guards and limits, anywhere in the mesh, for each request that enters it; at most 1"`
	P95MS              float64 `json:"p95MS"`
	AttemptsPerRequest float64 `json:"attemptsPerRequest" doc:"attempts between services for each request that enters the mesh"`
	Reason             string  `json:"reason,omitempty" doc:"of most refusals"`
	Where              string  `json:"where,omitempty" doc:"link with most refusals"`
}

// RefusalStart is the rate at which guards and limits start to refuse requests.
type RefusalStart struct {
	Rules  string  `json:"rules" doc:"in force, or draft"`
	RPS    float64 `json:"rps" doc:"requests that enter the mesh; 0: they refuse none at these rates"`
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
		return fmt.Sprintf("With the rules %s, guards and limits refuse no request at these rates.", name)
	}
	return fmt.Sprintf("With the rules %s, the mesh starts to refuse requests at %.0f per second: %s on %s.",
		name, s.RPS, s.Reason, s.Where)
}

// VersionBehaviour is what a forecast assumes of a version.
type VersionBehaviour struct {
	Target      string  `json:"target" doc:"SERVICE/VERSION"`
	Requests    uint64  `json:"requests" doc:"that it was measured by"`
	P50MS       float64 `json:"p50MS" doc:"of its own time, without its calls"`
	P95MS       float64 `json:"p95MS"`
	HopMS       float64 `json:"hopMS" doc:"time on the way to it and back"`
	Errors      float64 `json:"errors" doc:"share of requests that fail by its own fault"`
	Concurrency int     `json:"concurrency" doc:"requests that it works on at once; 0: any number"`
	Calls       string  `json:"calls,omitempty" doc:"its calls for each request, in words"`
}
