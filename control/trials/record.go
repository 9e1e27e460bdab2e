package trials

import (
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/core/effect"
	"nightjar/core/rules"
	"nightjar/core/stats"
	"nightjar/core/trial"
	"nightjar/store"
)

// record is a trial as it is stored. The names of its fields in JSON do not
// change: earlier records have them.
type record struct {
	Number      uint               `json:"number"`
	Name        string             `json:"name"`
	By          string             `json:"by"`
	State       string             `json:"state"`
	Began       time.Time          `json:"began"`
	Ended       *time.Time         `json:"ended,omitempty"`
	Revision    uint               `json:"revision"`
	Draft       []rules.Change     `json:"draft,omitempty"`
	IsRehearsal bool               `json:"rehearse"`
	Seconds     float64            `json:"seconds"`
	For         float64            `json:"for"`
	WarmUp      float64            `json:"warmUp"`
	Planned     uint64             `json:"planned"`
	Loads       []string           `json:"loads"`
	Figures     figuresRecord      `json:"figures"`
	Expected    []trial.Judgement  `json:"expected"`
	Versions    []model.TrialShare `json:"versions"`
	Status      map[string]int     `json:"status"`
	Pace        model.TrialPace    `json:"pace"`
	Why         string             `json:"why,omitempty"`
	Notes       []string           `json:"notes"`
	Curve       []model.CurvePoint `json:"curve,omitempty"`
	Points      []pointRecord      `json:"points,omitempty"`

	Parts []partRecord
}

// figuresRecord is model.Figures as far as a trial has them.
type figuresRecord struct {
	Requests           uint64            `json:"requests"`
	RPS                float64           `json:"rps"`
	OK                 uint64            `json:"ok"`
	Failed             uint64            `json:"failed"`
	Refused            uint64            `json:"refused"`
	Success            *float64          `json:"success"`
	SuccessLow         float64           `json:"successLow"`
	SuccessHigh        float64           `json:"successHigh"`
	FirstAttempt       *float64          `json:"firstTry"`
	Attempts           uint64            `json:"tries,omitempty"`
	AttemptsPerRequest *float64          `json:"loadFactor"`
	P50MS              float64           `json:"p50MS"`
	P95MS              float64           `json:"p95MS"`
	P99MS              float64           `json:"p99MS"`
	Status             map[string]uint64 `json:"status,omitempty"`
	Reasons            map[string]uint64 `json:"reasons,omitempty"`
}

// pointRecord is model.Point as far as a trial has it.
type pointRecord struct {
	At      int64    `json:"at"`
	OK      uint64   `json:"ok"`
	Failed  uint64   `json:"failed"`
	Refused uint64   `json:"refused"`
	Success *float64 `json:"success"`
	P50MS   float64  `json:"p50MS"`
	P95MS   float64  `json:"p95MS"`
	P99MS   float64  `json:"p99MS"`
}

// partRecord is the counts of one group of requests.
type partRecord struct {
	Names  effect.Names
	Counts []byte // see stats.Counts.AppendBinary
}

func figuresOf(f model.Figures) figuresRecord {
	return figuresRecord{
		Requests:           f.Requests,
		RPS:                f.RPS,
		OK:                 f.OK,
		Failed:             f.Failed,
		Refused:            f.Refused,
		Success:            f.Success,
		SuccessLow:         f.SuccessLow,
		SuccessHigh:        f.SuccessHigh,
		FirstAttempt:       f.FirstAttempt,
		Attempts:           f.Attempts,
		AttemptsPerRequest: f.AttemptsPerRequest,
		P50MS:              f.P50MS,
		P95MS:              f.P95MS,
		P99MS:              f.P99MS,
		Status:             f.Status,
		Reasons:            f.Reasons,
	}
}

func (f *figuresRecord) view() model.Figures {
	return model.Figures{
		Requests:           f.Requests,
		RPS:                f.RPS,
		OK:                 f.OK,
		Failed:             f.Failed,
		Refused:            f.Refused,
		Success:            f.Success,
		SuccessLow:         f.SuccessLow,
		SuccessHigh:        f.SuccessHigh,
		FirstAttempt:       f.FirstAttempt,
		Attempts:           f.Attempts,
		AttemptsPerRequest: f.AttemptsPerRequest,
		P50MS:              f.P50MS,
		P95MS:              f.P95MS,
		P99MS:              f.P99MS,
		Status:             f.Status,
		Reasons:            f.Reasons,
	}
}

// view is the record as the API shows it.
func (k record) view() model.Trial {
	out := model.Trial{
		Number:      k.Number,
		Name:        k.Name,
		By:          k.By,
		State:       k.State,
		Began:       k.Began,
		Ended:       k.Ended,
		Revision:    k.Revision,
		IsRehearsal: k.IsRehearsal,
		Seconds:     k.Seconds,
		For:         k.For,
		WarmUp:      k.WarmUp,
		Planned:     k.Planned,
		Loads:       k.Loads,
		Figures:     k.Figures.view(),
		Expected:    from.Expectations(k.Expected),
		Versions:    k.Versions,
		Status:      k.Status,
		Pace:        k.Pace,
		Why:         k.Why,
		Notes:       k.Notes,
		Curve:       k.Curve,
	}
	if k.Draft != nil {
		out.Draft = from.Changes(k.Draft)
	}
	for _, p := range k.Points {
		out.Points = append(out.Points, model.Point{
			At:      p.At,
			OK:      p.OK,
			Failed:  p.Failed,
			Refused: p.Refused,
			Success: p.Success,
			P50MS:   p.P50MS,
			P95MS:   p.P95MS,
			P99MS:   p.P99MS,
		})
	}
	return out
}

// summary is the record as lists have it.
func (k record) summary() record {
	k.Curve, k.Points, k.Draft, k.Parts = nil, nil, nil, nil
	return k
}

// fill sets what the list of trials knows for certain, and what a trial without an
// end lacks.
func (k *record) fill(t store.Trial) {
	k.Number, k.Name, k.State, k.Began = t.Number, t.Name, t.State, t.Began
	if t.State == model.TrialInterrupted {
		k.Why = interrupted
	}
	for _, list := range []*[]string{&k.Loads, &k.Notes} {
		if *list == nil {
			*list = []string{}
		}
	}
	if k.Versions == nil {
		k.Versions = []model.TrialShare{}
	}
	if k.Status == nil {
		k.Status = map[string]int{}
	}
}

// tally is the parts as one side of a comparison.
func (k *record) tally() (*effect.Tally, error) {
	t := &effect.Tally{Seconds: k.Seconds}
	for _, p := range k.Parts {
		var c stats.Counts
		if _, err := c.Decode(p.Counts); err != nil {
			return nil, err
		}
		t.Add(p.Names, &c)
	}
	return t, nil
}
