package release

import (
	"fmt"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
)

// State is where a release is.
type State string

// The states of a release. The last two are its end.
const (
	Ready     State = "ready"     // nothing is changed yet
	InDark    State = "dark"      // the new version gets copies, and is judged on them
	InCohort  State = "cohort"    // the cohort goes to the new version, and it is judged
	Shifting  State = "shifting"  // receivers are asked, or proxies are getting new weights
	Judging   State = "judging"   // a stage is judged
	Held      State = "held"      // it waits for a person, at the weights that it has
	Completed State = "completed" // the new version took over
	Withdrawn State = "withdrawn" // everything is as it was
)

// Over tells whether the release has ended.
func (s State) Over() bool { return s == Completed || s == Withdrawn }

// Who ended or holds a release, besides persons.
const (
	ByJudge   = "judge"
	ByPublish = "publish"
	ByPlan    = "plan"
	ByGate    = "gate"
	ByRules   = "rules"
)

// Event is something that happened to a release.
type Event struct {
	At time.Time `json:"at"`
	// started, asked, shifted, in-force, judged, held, resumed, skipped, withdrawn, completed
	// or away
	Kind string `json:"kind"`
	Step string `json:"step,omitempty"`
	By   string `json:"by,omitempty"`
	Text string `json:"text"`
}

// Run is a release that is running or is over. It holds everything that it needs to
// continue: its driver stores it, and calls its methods one at a time.
type Run struct {
	Plan    rules.Release `json:"plan"`
	Places  []Place       `json:"places"`
	Starter string        `json:"starter"`
	State   State         `json:"state"`
	Step    int           `json:"step"`             // in force, index into Steps(); -1: none yet
	Asking  bool          `json:"asking,omitempty"` // receivers are asked for permission before the next step

	// Shift: the driver has to put weights in force, those of Step or those of the end.
	Shift    bool          `json:"shift,omitempty"`
	Arriving bool          `json:"arriving,omitempty"` // proxies do not all have the step yet
	Began    time.Time     `json:"began"`
	Since    time.Time     `json:"since"` // when the step was put in force
	Ended    time.Time     `json:"ended,omitzero"`
	Revision uint          `json:"revision"` // that put the step in force
	Spent    time.Duration `json:"spent"`    // time of the step; pauses without a tick do not count
	LookAt   time.Duration `json:"lookAt"`   // value of Spent at the next judgement
	Looks    int           `json:"looks"`    // judgements in the step
	Misses   int           `json:"misses"`   // missed judgements in a row
	Done     bool          `json:"done"`     // the step has passed
	Why      string        `json:"why,omitempty"`
	By       string        `json:"by,omitempty"`   // who ended or holds it
	Stage    Sample        `json:"stage"`          // requests of the step so far
	Base     *stats.Counts `json:"base,omitempty"` // counts of From in the last step that had enough requests
	Total    Sample        `json:"total"`          // requests of all steps but the dark one
	Last     *Judgement    `json:"last,omitempty"` // newest

	// Kept is when a judgement was last given to the driver. While a stage waits and the
	// verdict stays the same, fewer and fewer of them are given.
	Kept time.Time `json:"kept,omitzero"`

	// Back: the release was withdrawn, and routes whose text sends requests to To are
	// changed to send them to From.
	Back bool `json:"back,omitempty"`

	// Retreat: the release was withdrawn and the rules could not be written, so an
	// overlay gives From all requests.
	Retreat bool `json:"retreat,omitempty"`

	Events     []Event     `json:"-"` // since the driver last took them
	Judgements []Judgement `json:"-"` // since the driver last took them

	steps []Step // of the plan; nil: not computed yet
	clock time.Time
}

// arrival is how long a step waits for all proxies to have it. Then its time begins
// without the others.
const arrival = 5 * time.Second

// lapse is the longest time between two ticks that counts as time of the step. What is
// longer is a pause: nobody looked.
const lapse = 10 * time.Second

// Start begins a release. base is what From did before; nil: not known.
func Start(p *rules.Release, places []Place, base *stats.Counts, by string, now time.Time) *Run {
	r := &Run{
		Plan:    *p,
		Places:  places,
		Starter: by,
		State:   Ready,
		Step:    -1,
		Began:   now,
		Since:   now,
		Base:    base,
		clock:   now,
		steps:   Steps(p),
	}
	r.event(now, "started", by, fmt.Sprintf("from %s to %s of %s", p.From, p.To, p.Service))
	return r
}

// Copy is a run that can change while r stays as it is: whoever drives a release
// decides on a copy, stores it, and only then continues with it.
func (r *Run) Copy() *Run {
	c := *r // no method changes what the fields point to
	return &c
}

// Steps are the steps of its plan. Readers may ask at once, so that nothing is kept here.
func (r *Run) Steps() []Step {
	if r.steps != nil {
		return r.steps
	}
	return Steps(&r.Plan)
}

// IsEnding tells whether the release is over, and the weights of its end are not in
// force yet.
func (r *Run) IsEnding() bool { return r.State.Over() && r.Shift }

// Now is the step that is in force; the zero Step before the first.
func (r *Run) Now() Step {
	if r.Step < 0 || r.Step >= len(r.Steps()) {
		return Step{}
	}
	return r.Steps()[r.Step]
}

// Overlay is what the release is to change now; false: nothing.
func (r *Run) Overlay() (Overlay, bool) {
	if r.State.Over() || r.Step < 0 {
		return Overlay{
			Release: r.Plan.Name,
			Places:  r.Places,
			Service: r.Plan.Service,
			From:    r.Plan.From,
			To:      r.Plan.To,
			At:      r.Plan.At,
		}, false
	}
	step := r.Now()
	if r.Retreat {
		step = Step{}
	}
	return OverlayAt(&r.Plan, r.Places, step), true
}

func (r *Run) event(now time.Time, kind, by, text string) {
	r.Events = append(r.Events, Event{
		At:   now,
		Kind: kind,
		Step: r.Now().Name,
		By:   by,
		Text: text,
	})
}

// Wake tells that nobody looked until now: that time does not count.
func (r *Run) Wake(now time.Time) {
	if !r.State.Over() {
		r.event(now, "away", "", "the service was not running; the time until now is not judged")
	}
	r.clock = now
	r.steps = Steps(&r.Plan)
}

// Tick lets time pass, and goes on where that is all that is needed. everywhere
// tells whether all proxies have the rules in force. It returns true after a break
// in which whoever drives it was stopped, or the machine slept: what was counted
// since the last look is to be forgotten.
func (r *Run) Tick(now time.Time, everywhere bool) (broke bool) {
	passed := max(now.Sub(r.clock), 0)
	if broke = passed > lapse; broke {
		r.Wake(now)
		passed = 0
	}
	r.clock = now
	switch r.State {
	case Ready:
		r.next(now)
	case Shifting:
		if r.Arriving && (everywhere || now.Sub(r.Since) >= arrival) {
			r.Arriving = false
			r.State = stateOf(r.Now().Kind)
			text := "in force in every proxy"
			if !everywhere {
				text = fmt.Sprintf(
					"not every proxy has it in force after %s; only requests that follow it are judged",
					arrival,
				)
			}
			r.event(now, "in-force", "", text)
		}
	case InDark, InCohort, Judging, Held:
		if r.Step >= 0 {
			r.Spent += passed
		}
	}
	return broke
}

// Due tells whether it is time for a judgement.
func (r *Run) Due() bool {
	switch r.State {
	case InDark, InCohort, Judging, Held:
		return r.Step >= 0 && r.Spent >= r.LookAt && !r.Retreat
	}
	return false
}

// Glance looks, once a second between two judgements, whether what was counted
// since the last one is so bad that it is to be judged now.
func (r *Run) Glance(now time.Time, fresh *Sample) {
	if r.Step < 0 || r.Misses > 0 || r.Due() || r.Retreat {
		return // nothing is changed yet, or what is borne is borne until the next judgement
	}
	if f, sure, bad := glance(&r.Plan, &r.Stage, fresh, r.Base, r.Looks+1); bad {
		r.look(now, fresh, &f, sure)
	}
}

// Look judges, by what was counted since the last look, and does what follows
// from it.
func (r *Run) Look(now time.Time, fresh *Sample) { r.look(now, fresh, nil, 0) }

func (r *Run) look(now time.Time, fresh *Sample, glanced *Finding, sure float64) {
	step := r.Now()
	r.Stage = r.Stage.plus(fresh)
	if step.Kind != Dark {
		r.Total = r.Total.plus(fresh)
	}
	r.Looks++
	j := judge(&r.Plan, &r.Stage, fresh, r.Base, r.Looks)
	if glanced != nil {
		j.Findings, j.Verdict, j.Sure = append([]Finding{*glanced}, j.Findings...), Missed, sure
	}
	if step.Kind == Dark && j.NewFrom.Requests > 0 { // copies come besides
		j.Share = float64(j.NewTo.Requests) / float64(j.NewFrom.Requests)
	}
	j.At, j.Step, j.StepName = now, r.Step, step.Name
	r.LookAt = r.Spent + r.Plan.Judge.Every
	if r.Spent < step.Each {
		r.LookAt = min(r.LookAt, step.Each)
	}
	if r.Misses++; j.Verdict != Missed {
		r.Misses = 0
	}
	j.Misses = r.Misses
	if r.Misses > 0 {
		r.event(now, "judged", "", missedText(&j))
	}
	over := r.Spent - step.Each
	if said := r.Last; said == nil || said.Verdict != j.Verdict || r.Misses > 0 || now.Sub(r.Kept) >= over/20 {
		r.Judgements, r.Kept = append(r.Judgements, j), now
	}
	r.Last = &j
	switch {
	case r.Misses > r.Plan.Judge.Misses:
		r.withdraw(now, ByJudge, missedText(&j))
	case over < 0:
	case r.State == Held && r.By == ByJudge && j.Verdict == Met:
		r.event(now, "resumed", ByJudge, "the figures are clear now")
		r.State, r.Done, r.Why, r.By = stateOf(step.Kind), true, "", ""
		r.onward(now)
	case r.State == Held:
		r.Done = r.Done || j.Verdict == Met
	case step.Kind == Watch && j.Verdict != Missed:
		r.complete(now, ByPlan, fmt.Sprintf("%s was watched for %s", r.Plan.To, step.Each))
	case j.Verdict == Met:
		r.Done = true
		r.onward(now)
	case over < r.Plan.Judge.Patience:
	case j.Verdict == Few:
		r.withdraw(
			now,
			ByJudge,
			fmt.Sprintf(
				"too few requests: %s, %s after the planned end of stage %s; no problem is known",
				j.Worst().Measured,
				brief(over),
				step.Name,
			),
		)
	default:
		r.hold(
			now,
			ByJudge,
			fmt.Sprintf(
				"the figures are inconclusive on %s: %s; the release continues when they are conclusive",
				j.Worst().Expectation,
				j.Worst().Measured,
			),
		)
	}
}

// onward goes on from a step that has passed, or holds for a person.
func (r *Run) onward(now time.Time) {
	if step := r.Now(); step.Hold {
		r.hold(now, ByPlan, fmt.Sprintf("stage %s has passed, and the plan holds here for a person", step.Name))
		return
	}
	r.next(now)
}

// brief is a time to the second.
func brief(d time.Duration) string { return d.Round(time.Second).String() }

// missedText says which expectation was missed, with its numbers.
func missedText(j *Judgement) string {
	f := j.Worst()
	if f == nil {
		return ""
	}
	return fmt.Sprintf("%s missed in stage %s: %s, %s", f.Expectation, j.StepName, f.Measured, f.Over)
}

// next asks the receivers who want to be asked, or else goes on to the next step.
func (r *Run) next(now time.Time) {
	if r.Step+1 >= len(r.Steps()) {
		r.complete(now, ByPlan, "every stage has passed")
		return
	}
	if n := r.gates(); n > 0 && r.Steps()[r.Step+1].Kind != Watch {
		r.State, r.Asking = Shifting, true
		r.event(now, "asked", "", fmt.Sprintf("whether stage %s may begin", r.Steps()[r.Step+1].Name))
		return
	}
	r.shift(now)
}

// gates is how many receivers want to be asked.
func (r *Run) gates() (n int) {
	for _, to := range r.Plan.Notify {
		if to.Gate {
			n++
		}
	}
	return n
}

// Gate tells what the receivers said; why is empty when all agreed.
func (r *Run) Gate(now time.Time, why string) {
	if !r.Asking {
		return
	}
	r.Asking = false
	if why != "" {
		r.Done = true
		r.hold(now, ByGate, why)
		return
	}
	r.shift(now)
}

// shift begins the next step.
func (r *Run) shift(now time.Time) {
	if r.Stage.From.Requests() >= uint64(r.Plan.Judge.Least) && r.Now().Kind != Dark {
		base := r.Stage.From
		r.Base = &base
	}
	r.Step++
	r.State, r.Asking, r.Why, r.By = Shifting, false, "", ""
	r.begin(now)
	if r.Now().Kind == Watch { // the weights stay
		r.State = Judging
		r.event(
			now,
			"shifted",
			"",
			fmt.Sprintf(
				"%s is watched for %s; %s can take over again in one step",
				r.Plan.To,
				r.Now().Each,
				r.Plan.From,
			),
		)
		return
	}
	r.Shift = true
}

// begin forgets the step before.
func (r *Run) begin(now time.Time) {
	r.Since, r.Spent, r.Misses, r.Done, r.Stage, r.Last = now, 0, 0, false, Sample{}, nil
	r.LookAt = min(r.Plan.Judge.Every, r.Now().Each)
}

// Shifted tells that what the release is to change now was put in force by a
// revision.
func (r *Run) Shifted(now time.Time, revision uint) {
	r.Shift, r.Revision = false, revision
	if r.State == Shifting {
		r.begin(now)
		r.Arriving = true
		r.event(now, "shifted", "", fmt.Sprintf("revision %d: %s", revision, r.Describe()))
	}
}

// Describe says what the step in force changes.
func (r *Run) Describe() string {
	switch p := &r.Plan; r.Now().Kind {
	case Dark:
		return fmt.Sprintf("%s gets copies of %s%% of the requests", p.To, r.Now().Share)
	case Cohort:
		return fmt.Sprintf("%s goes to %s", p.FirstTo.Describe(), p.To)
	default:
		return fmt.Sprintf("%s gets %s%% of what went to %s", p.To, r.Now().Share, p.From)
	}
}

func (r *Run) hold(now time.Time, by, why string) {
	r.State, r.By, r.Why = Held, by, why
	r.event(now, "held", by, why)
}

func (r *Run) withdraw(now time.Time, by, why string) {
	r.end(now, Withdrawn, by, why)
	r.Back, r.Shift = by != ByPublish, r.Step >= 0
	r.event(now, "withdrawn", by, why)
}

func (r *Run) complete(now time.Time, by, why string) {
	r.end(now, Completed, by, why)
	r.event(now, "completed", by, why)
}

func (r *Run) end(now time.Time, s State, by, why string) {
	r.State, r.By, r.Why, r.Ended = s, by, why, now
	r.Asking, r.Arriving, r.Shift = false, false, true
}

// stateOf is the state in which a step of a kind is judged.
func stateOf(k Kind) State {
	switch k {
	case Dark:
		return InDark
	case Cohort:
		return InCohort
	}
	return Judging
}

// Settle adds what was counted after the end: requests that were under way.
func (r *Run) Settle(rest *Sample) {
	if r.State.Over() && r.Now().Kind != Dark {
		r.Total = r.Total.plus(rest)
	}
}

// Cost is how many requests of the new version failed or were refused, and about
// how many more that is than the old one would have had.
func (r *Run) Cost() (bad uint64, more float64) {
	to, from := sideOf(&r.Total.To), sideOf(&r.Total.From)
	expected := 0.0
	if r.Total.From.Requests() == 0 && r.Base != nil {
		from = sideOf(r.Base)
	}
	if from.Requests > 0 {
		expected = float64(to.Requests) * float64(from.Bad) / float64(from.Requests)
	}
	return to.Bad, max(0, float64(to.Bad)-expected)
}

// Note adds an event of whoever drives the release.
func (r *Run) Note(now time.Time, kind, text string) { r.event(now, kind, "", text) }
