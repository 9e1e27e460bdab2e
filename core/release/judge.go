package release

import (
	"fmt"
	"math"
	"time"

	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
)

// Verdict is what a judgement comes to.
type Verdict string

// The verdicts, from the best to the worst.
const (
	Met    Verdict = "met"
	Few    Verdict = "too few requests"
	Unsure Verdict = "unsure" // a figure misses its bound, and that could be chance
	Missed Verdict = "missed" // a figure misses its bound, and that is no chance
)

var worse = map[Verdict]int{Met: 0, Few: 1, Unsure: 2, Missed: 3}

// Sample is what was counted of both versions in one time.
type Sample struct {
	To, From stats.Counts
	Versions map[string]uint64 // answers by SERVICE/VERSION, of all versions of the service
	Seconds  float64
}

// Add adds another sample of the same release.
func (s *Sample) Add(o *Sample) {
	s.To.Add(&o.To)
	s.From.Add(&o.From)
	if len(o.Versions) > 0 && s.Versions == nil {
		s.Versions = map[string]uint64{}
	}
	for v, n := range o.Versions {
		s.Versions[v] += n
	}
	s.Seconds += o.Seconds
}

// plus is the sum of two samples, which stay as they are.
func (s *Sample) plus(o *Sample) (sum Sample) {
	sum.Add(s)
	sum.Add(o)
	return sum
}

// Side is one version in a judgement.
type Side struct {
	Requests uint64   `json:"requests"`
	Bad      uint64   `json:"bad"`     // failed or refused
	Success  *float64 `json:"success"` // 0 to 1; null without requests
	P99MS    *float64 `json:"p99MS"`
}

func sideOf(c *stats.Counts) Side {
	s := Side{Requests: c.Requests(), Bad: c.Failed + c.Refused}
	if s.Requests > 0 {
		success := float64(c.OK) / float64(s.Requests)
		p99 := float64(c.Quantile(0.99)/time.Microsecond) / 1000
		s.Success, s.P99MS = &success, &p99
	}
	return s
}

// Finding is what became of one expectation.
type Finding struct {
	Expectation string  `json:"expectation"`
	Verdict     Verdict `json:"verdict"`
	// shares and differences of shares 0 to 1, times in seconds, counts as they are
	Value    *float64 `json:"value"`
	Low      *float64 `json:"low,omitempty"` // limits of the value, as sure as the judgement is
	High     *float64 `json:"high,omitempty"`
	Measured string   `json:"measured"` // the same in words
	// of which time it is: in the stage so far, or since the last judgement
	Over string `json:"over"`
}

// Judgement is one look at a step.
type Judgement struct {
	At       time.Time `json:"at"`
	Step     int       `json:"step"` // of the plan, from 0
	StepName string    `json:"stepName"`
	Verdict  Verdict   `json:"verdict"` // met, too few requests, unsure or missed
	Findings []Finding `json:"findings"`
	To       Side      `json:"to"`    // the new version, in the stage so far
	From     Side      `json:"from"`  // the old one
	NewTo    Side      `json:"newTo"` // the new version, since the last judgement
	NewFrom  Side      `json:"newFrom"`
	// what the new version got of the requests of both since the last judgement, 0 to 1; in
	// the dark copies for each request of the old one
	Share  float64 `json:"share"`
	Sure   float64 `json:"sure"`   // how sure it is where it says missed, 0 to 1
	Misses int     `json:"misses"` // missed in a row, with this one
}

// Worst is the finding that decided, and nil when all is well.
func (j *Judgement) Worst() *Finding {
	var out *Finding
	for i := range j.Findings {
		if f := &j.Findings[i]; f.Verdict != Met && (out == nil || worse[f.Verdict] > worse[out.Verdict]) {
			out = f
		}
	}
	return out
}

// Budget is the probability that a whole release is withdrawn although the new
// version is just as good as the judge asks for. Every judgement takes its part.
const Budget = 0.01

// level is the part of the budget that the look of that number, from 1, may take:
// half of it goes to the planned looks in equal parts, the other half to all that
// come after them, ever less (after the alpha spending of K. K. G. Lan and D. L.
// DeMets, "Discrete sequential boundaries for clinical trials", Biometrika 70,
// 1983; added up as by Bonferroni, so it holds however the looks depend on each
// other). Of its part, a look takes two fifths for the whole step and as much for
// what is new, and leaves a fifth for the glances before it; every one of them is
// spread over the expectations.
func level(p *rules.Release, look int) (looks, glances float64) {
	n := float64(planned(p))
	part := Budget / 2 / n
	if k := float64(look); k > n {
		part = Budget / 2 * n / (k * (k - 1))
	}
	part /= float64(len(p.Judge.Expect))
	return part * 2 / 5, part / 5 / max(1, p.Judge.Every.Seconds())
}

const (
	overStage = "in the stage so far"
	overNew   = "since the last judgement"
)

// judge looks at a step: at all of it, and at what is new, in which a version
// that went bad midway stands out.
func judge(p *rules.Release, stage, fresh *Sample, base *stats.Counts, look int) Judgement {
	j := Judgement{
		Verdict:  Met,
		Findings: []Finding{},
		To:       sideOf(&stage.To),
		From:     sideOf(&stage.From),
		NewTo:    sideOf(&fresh.To),
		NewFrom:  sideOf(&fresh.From),
	}
	if n := j.NewTo.Requests + j.NewFrom.Requests; n > 0 {
		j.Share = float64(j.NewTo.Requests) / float64(n)
	}
	alpha, _ := level(p, look)
	j.Sure = 1 - alpha
	least := uint64(p.Judge.Least)
	for i := range p.Judge.Expect {
		e := &p.Judge.Expect[i]
		if j.To.Requests < least {
			j.Findings = append(j.Findings, Finding{Expectation: e.Text, Verdict: Few, Over: overStage,
				Measured: fmt.Sprintf("%d requests reached %s; at least %d are needed", j.To.Requests, p.To, least)})
			continue
		}
		f := find(e, p, stage, base, alpha)
		f.Over = overStage
		if f.Verdict != Missed && counted(e) && fresh.To.Requests() > 0 && fresh.To.Requests() < stage.To.Requests() {
			if now := find(e, p, fresh, base, alpha); now.Verdict == Missed {
				f = now
				f.Over = overNew
			}
		}
		j.Findings = append(j.Findings, f)
	}
	for _, f := range j.Findings {
		if worse[f.Verdict] > worse[j.Verdict] {
			j.Verdict = f.Verdict
		}
	}
	return j
}

// glance looks at what is new alone, for what is so bad that it need not wait for
// the next look.
func glance(p *rules.Release, stage, fresh *Sample, base *stats.Counts, look int) (f Finding, sure float64, bad bool) {
	_, alpha := level(p, look)
	if stage.To.Requests()+fresh.To.Requests() < uint64(p.Judge.Least) || fresh.To.Requests() == 0 {
		return f, 0, false
	}
	for i := range p.Judge.Expect {
		e := &p.Judge.Expect[i]
		if !counted(e) || fine(e, fresh, base) {
			continue
		}
		if f = find(e, p, fresh, base, alpha); f.Verdict == Missed {
			f.Over = overNew
			return f, 1 - alpha, true
		}
	}
	return f, 0, false
}

// fine tells, without the cost of an interval, that an expectation is met.
func fine(e *rules.Expectation, s *Sample, base *stats.Counts) bool {
	if e.Metric != rules.AgainstFrom {
		return trial.Judge(e, &trial.Tally{Counts: s.To, Versions: s.Versions}, s.Seconds, 0).Met
	}
	share := func(c *stats.Counts) float64 { return float64(c.OK) / float64(max(c.Requests(), 1)) }
	return bound(e, share(&s.To)-share(&s.From)) && (base == nil || bound(e, share(&s.To)-share(base)))
}

// counted tells whether chance has a part in a figure, so that a part of the
// requests can be judged by itself.
func counted(e *rules.Expectation) bool {
	switch e.Metric {
	case "requests", "rps", "failed", "refused", "load-factor", "share":
		return false
	}
	return true
}

// find judges one expectation.
func find(e *rules.Expectation, p *rules.Release, s *Sample, base *stats.Counts, alpha float64) Finding {
	if e.Metric == rules.AgainstFrom {
		return against(e, p, s, base, alpha)
	}
	t := trial.Tally{Counts: s.To, Versions: s.Versions}
	const more = math.MaxUint32 // requests to come: nobody knows how many
	j := trial.JudgeAt(e, &t, s.Seconds, more, alpha)
	f := Finding{
		Expectation: e.Text,
		Verdict:     Unsure,
		Value:       j.Value,
		Low:         j.Low,
		High:        j.High,
		Measured:    j.Measured,
	}
	switch chance := j.Low != nil; {
	case j.Value == nil:
		f.Verdict = Few
	case j.Met:
		f.Verdict = Met
	case j.Hopeless, chance && j.Sure, e.Metric == "load-factor":
		f.Verdict = Missed
	}
	return f
}

// against compares the success of both versions in the same time, or, when From
// gets too little, with what it did before.
func against(e *rules.Expectation, p *rules.Release, s *Sample, base *stats.Counts, alpha float64) Finding {
	f := Finding{Expectation: e.Text}
	from, when := &s.From, ""
	if from.Requests() < uint64(p.Judge.Least) && base != nil && base.Requests() >= uint64(p.Judge.Least) {
		from, when = base, " before the stage, as it gets too few requests now"
	}
	n, m := from.Requests(), s.To.Requests()
	if n < uint64(p.Judge.Least) && s.From.Requests() < s.To.Requests() || n == 0 {
		f.Verdict, f.Measured = Few, fmt.Sprintf("%s has %d requests to compare with", p.From, n)
		return f
	}
	diff, low, high := stats.ExactDifference(from.OK, n, s.To.OK, m, alpha)
	f.Value, f.Low, f.High = &diff, &low, &high
	f.Measured = fmt.Sprintf(
		"%+.2f points (%+.2f to %+.2f): %s %.2f%% of %d, %s%s %.2f%% of %d",
		100*diff,
		100*low,
		100*high,
		p.To,
		100*float64(s.To.OK)/float64(m),
		m,
		p.From,
		when,
		100*float64(from.OK)/float64(n),
		n,
	)
	met := func(v float64) bool { return bound(e, v) }
	switch {
	case met(diff):
		f.Verdict = Met
	case !met(low) && !met(high):
		f.Verdict = Missed
	default:
		f.Verdict = Unsure
	}
	return f
}

// bound tells whether a difference meets its bound.
func bound(e *rules.Expectation, v float64) bool {
	const hair = 1e-9
	switch e.Op {
	case ">=", ">":
		return v >= e.Value-hair
	case "<=", "<":
		return v <= e.Value+hair
	}
	return math.Abs(v-e.Value) <= e.Within+hair
}
