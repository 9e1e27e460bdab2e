package model

import "time"

// The states of a release. The last two are its end.
const (
	ReleaseReady     = "ready"     // nothing has changed yet
	ReleaseDark      = "dark"      // the new version gets copies of requests, and is judged by them
	ReleaseCohort    = "cohort"    // the cohort goes to the new version, which is judged
	ReleaseShifting  = "shifting"  // receivers are asked, or proxies are getting new weights
	ReleaseJudging   = "judging"   // a stage is judged
	ReleaseHeld      = "held"      // it waits for a person; the weights stay
	ReleaseCompleted = "completed" // the new version took over
	ReleaseWithdrawn = "withdrawn" // the old version has everything again
)

// What a person can do to a release.
const (
	ActHold     = "hold"
	ActResume   = "resume"
	ActSkip     = "skip"
	ActWithdraw = "withdraw"
	ActFinish   = "finish"
)

// Release is a release that is running or has run.
type Release struct {
	Number  uint   `json:"number"`
	Name    string `json:"name"`
	Service string `json:"service"`
	// absent: every route that sends to the old version
	Route string `json:"route,omitempty"`
	From  string `json:"from"` // old version
	To    string `json:"to"`   // new version
	// ready, dark, cohort, shifting, judging, held, completed or withdrawn
	State string `json:"state"`
	Why   string `json:"why,omitempty"` // why it is held or has ended
	// who holds or ended it: judge, publish, plan, gate, rules or a person
	By        string        `json:"by,omitempty"`
	StartedBy string        `json:"startedBy,omitempty"`
	Began     time.Time     `json:"began"`
	Ended     *time.Time    `json:"ended,omitempty"`
	Since     time.Time     `json:"since"` // when the step began
	Steps     []ReleaseStep `json:"steps"`
	Step      int           `json:"step"` // step in force, from 0; -1: none yet
	// receivers are being asked whether the next step may begin
	IsAsking bool `json:"isAsking"`
	// share of the old version's requests that the new version gets
	Share         float64 `json:"share"`
	Revision      uint    `json:"revision"`      // that put the step in force
	JudgedSeconds float64 `json:"judgedSeconds"` // time that the step was judged
	LeftSeconds   float64 `json:"leftSeconds"`   // time until the step can end
	// time beyond that, waiting for requests or for conclusive figures
	WaitedSeconds float64 `json:"waitedSeconds"`
	// time until the next judgement
	NextJudgementSeconds float64         `json:"nextJudgementSeconds"`
	JudgementCount       int             `json:"judgementCount"` // judgements so far
	Last                 *StageJudgement `json:"last,omitempty"` // newest judgement of the step
	// that the new version got by its weight or cohort
	Requests uint64 `json:"requests"`
	Bad      uint64 `json:"bad"` // of them, failed or refused
	// of these, an estimate of those that the old version would have answered well
	Excess float64    `json:"excess"`
	Places []RouteRef `json:"places"` // routes that it changes
	Expect []string   `json:"expect"`
	// requests without which there is no judgement
	Least        int     `json:"least"`
	EverySeconds float64 `json:"everySeconds"` // time between judgements
	// missed judgements in a row that are tolerated
	Misses int `json:"misses"`
	// time to wait for enough requests
	PatienceSeconds float64 `json:"patienceSeconds"`
	OnSuccess       string  `json:"onSuccess"` // make-default or leave
	// what a person can do now: hold, resume, skip, withdraw or finish
	Can []string `json:"can"`

	Judgements    []StageJudgement `json:"judgements,omitempty"`    // in order of time; not in lists
	Events        []ReleaseEvent   `json:"events,omitempty"`        // in order of time; not in lists
	Notifications []Notification   `json:"notifications,omitempty"` // newest first; not in lists
}

// IsOver tells whether the release has ended.
func (r Release) IsOver() bool { return r.State == ReleaseCompleted || r.State == ReleaseWithdrawn }

// ReleaseStep is one step of a release.
type ReleaseStep struct {
	Kind            string  `json:"kind"`            // dark, cohort, weight or watch
	Name            string  `json:"name"`            // such as 15%
	Share           float64 `json:"share"`           // share that the new version gets, or gets copies of
	DurationSeconds float64 `json:"durationSeconds"` // how long it is judged at least
	Holds           bool    `json:"holds"`           // it waits for a person at its end
}

// ReleaseSummary is what every page shows of a release that is running.
type ReleaseSummary struct {
	Number      uint       `json:"number"`
	Name        string     `json:"name"`
	Service     string     `json:"service"`
	From        string     `json:"from"`
	To          string     `json:"to"`
	State       string     `json:"state"`
	Step        string     `json:"step"`        // step in force; empty before the first
	LeftSeconds float64    `json:"leftSeconds"` // time until the step can end
	Why         string     `json:"why,omitempty"`
	Places      []RouteRef `json:"places"`  // routes that it changes
	Cohorts     []RouteRef `json:"cohorts"` // routes that it adds before those, for its cohort
}

// RouteRef names a route.
type RouteRef struct {
	Parent string `json:"parent"` // service or gateway
	Route  string `json:"route"`
}

func (r RouteRef) String() string { return r.Parent + "/" + r.Route }

// Notification is an event that a receiver gets.
type Notification struct {
	URL      string     `json:"url"`
	Type     string     `json:"type"`  // of the CloudEvent
	State    string     `json:"state"` // waiting, delivered or given up
	Attempts int        `json:"attempts"`
	Due      *time.Time `json:"due,omitempty"`      // of the next attempt
	Response string     `json:"response,omitempty"` // result of the last attempt
}

// DeclaredRelease is a release that the rules in force declare.
type DeclaredRelease struct {
	Name    string        `json:"name"`
	Service string        `json:"service"`
	Route   string        `json:"route,omitempty"`
	From    string        `json:"from"`
	To      string        `json:"to"`
	Steps   []ReleaseStep `json:"steps"`
	At      string        `json:"at"`                // where it is written
	Blocked string        `json:"blocked,omitempty"` // why it cannot start now
}

// ReleasePage is one page of releases, and those that can be started.
type ReleasePage struct {
	Releases []Release         `json:"releases"` // newest first
	Declared []DeclaredRelease `json:"declared"` // in the rules in force, and not running
}

// StartReleaseRequest asks for a release that the rules in force declare.
type StartReleaseRequest struct {
	// of a release in the rules in force; may be empty when there is only one
	Name string `json:"name"`
}

// ReleaseAction is who does something to a release, and why.
type ReleaseAction struct {
	Why string `json:"why,omitempty"`
}

// The verdicts of a judgement, from the best to the worst.
const (
	JudgementMet          = "met"
	JudgementTooFew       = "too few requests"
	JudgementInconclusive = "inconclusive" // a figure misses its bound, and chance could be the cause
	JudgementMissed       = "missed"       // a figure misses its bound, and chance is not the cause
)

// StageJudgement is one judgement of a step.
type StageJudgement struct {
	At       time.Time          `json:"at"`
	Step     int                `json:"step"` // of the plan, from 0
	StepName string             `json:"stepName"`
	Verdict  string             `json:"verdict"` // met, too few requests, inconclusive or missed
	Findings []JudgementFinding `json:"findings"`
	To       JudgementSide      `json:"to"`    // the new version, in the stage so far
	From     JudgementSide      `json:"from"`  // the old version
	NewTo    JudgementSide      `json:"newTo"` // the new version, since the last judgement
	NewFrom  JudgementSide      `json:"newFrom"`
	// share of the new version in the requests of both since the last judgement; of a dark stage,
	// copies for each request of the old version
	Share      float64 `json:"share"`
	Confidence float64 `json:"confidence"` // of a verdict missed, 0 to 1
	Misses     int     `json:"misses"`     // missed in a row, with this one
}

// Worst is the finding that decided; nil when all expectations are met.
func (j *StageJudgement) Worst() *JudgementFinding {
	rank := map[string]int{JudgementTooFew: 1, JudgementInconclusive: 2, JudgementMissed: 3}
	var out *JudgementFinding
	for i := range j.Findings {
		if f := &j.Findings[i]; rank[f.Verdict] > 0 && (out == nil || rank[f.Verdict] > rank[out.Verdict]) {
			out = f
		}
	}
	return out
}

// JudgementFinding is one expectation in a judgement.
type JudgementFinding struct {
	Expectation string `json:"expectation"`
	Verdict     string `json:"verdict"`
	// shares and differences of shares 0 to 1, times in seconds, counts as they are
	Value *float64 `json:"value"`
	// interval of the value, at the confidence of the judgement
	Low      *float64 `json:"low,omitempty"`
	High     *float64 `json:"high,omitempty"`
	Measured string   `json:"measured"` // the same in words
	// time that it covers: in the stage so far, or since the last judgement
	Over string `json:"over"`
}

// JudgementSide is one version in a judgement.
type JudgementSide struct {
	Requests uint64   `json:"requests"`
	Bad      uint64   `json:"bad"`     // failed or refused
	Success  *float64 `json:"success"` // null without requests
	P99MS    *float64 `json:"p99MS"`
}

// ReleaseEvent is something that happened to a release.
type ReleaseEvent struct {
	At time.Time `json:"at"`
	// started, asked, shifted, in-force, judged, held, resumed, skipped, withdrawn, completed or
	// away
	Kind string `json:"kind"`
	Step string `json:"step,omitempty"`
	By   string `json:"by,omitempty"`
	Text string `json:"text"`
}

// SigningKey is the public key by which receivers check the signature of an
// event.
type SigningKey struct {
	ID        string `json:"id"` // keyid of the signatures
	Algorithm string `json:"algorithm"`
	PEM       string `json:"pem"` // SubjectPublicKeyInfo
}
