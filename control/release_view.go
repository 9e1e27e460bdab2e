package control

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"nightjar/core/release"
	"nightjar/store"
)

// Release is a release that runs, or ran.
type Release struct {
	Number    uint               `json:"number"`
	Name      string             `json:"name"`
	Service   string             `json:"service"`
	Route     string             `json:"route,omitempty" doc:"absent: every route that sends to the old version"`
	From      string             `json:"from" doc:"old version"`
	To        string             `json:"to" doc:"new version"`
	State     release.State      `json:"state" doc:"ready, dark, cohort, shifting, judging, held, completed or withdrawn"`
	Why       string             `json:"why,omitempty" doc:"why it is held or over"`
	By        string             `json:"by,omitempty" doc:"who holds or ended it: judge, publish, plan, gate, rules or a person"`
	Starter   string             `json:"starter,omitempty"`
	Began     time.Time          `json:"began"`
	Ended     *time.Time         `json:"ended,omitempty"`
	Since     time.Time          `json:"since" doc:"when the step began"`
	Steps     []ReleaseStep      `json:"steps"`
	Step      int                `json:"step" doc:"that is in force, from 0; -1: none yet"`
	Asking    bool               `json:"asking" doc:"receivers are asked whether the next step may begin"`
	Share     float64            `json:"share" doc:"of what went to the old version, for the new one, 0 to 1"`
	Revision  uint               `json:"revision" doc:"that put the step in force"`
	Spent     float64            `json:"spent" doc:"seconds that the step was judged"`
	Left      float64            `json:"left" doc:"seconds until it can be over"`
	Waited    float64            `json:"waited" doc:"seconds beyond that, waiting for requests or for clearer figures"`
	NextLook  float64            `json:"nextLook" doc:"seconds until the next judgement"`
	Looks     int                `json:"looks" doc:"judgements so far"`
	Last      *release.Judgement `json:"last,omitempty" doc:"newest judgement of the step"`
	Requests  uint64             `json:"requests" doc:"that the new version was sent by its weight or cohort"`
	Bad       uint64             `json:"bad" doc:"of them, failed or refused"`
	More      float64            `json:"more" doc:"about how many of these the old version would have answered well"`
	Places    []release.Place    `json:"places" doc:"routes that it changes"`
	Expect    []string           `json:"expect"`
	Least     int                `json:"least"`
	Every     float64            `json:"every" doc:"seconds"`
	Misses    int                `json:"misses" doc:"missed judgements in a row that are borne"`
	Patience  float64            `json:"patience" doc:"seconds"`
	OnSuccess string             `json:"onSuccess" doc:"make-default or leave"`
	Can       []string           `json:"can" doc:"what a person can do now"`

	Judgements []release.Judgement `json:"judgements,omitempty" doc:"in order of time; not in lists"`
	Events     []release.Event     `json:"events,omitempty" doc:"in order of time; not in lists"`
	Notices    []Notice            `json:"notices,omitempty" doc:"newest first; not in lists"`
}

// ReleaseStep is one step of a release.
type ReleaseStep struct {
	Kind  release.Kind `json:"kind" doc:"dark, cohort, weight or watch"`
	Name  string       `json:"name" doc:"as people call it, such as 15%"`
	Share float64      `json:"share" doc:"that the new version gets, or in the dark is copied to it, 0 to 1"`
	Each  float64      `json:"each" doc:"seconds that it is judged at least"`
	Hold  bool         `json:"hold" doc:"it waits for a person at its end"`
}

func stepsOf(steps []release.Step) []ReleaseStep {
	out := make([]ReleaseStep, len(steps))
	for i, s := range steps {
		out[i] = ReleaseStep{s.Kind, s.Name, s.Share.Share(), s.Each.Seconds(), s.Hold}
	}
	return out
}

// ReleaseBrief is what every page says of a release that runs.
type ReleaseBrief struct {
	Number  uint          `json:"number"`
	Name    string        `json:"name"`
	Service string        `json:"service"`
	From    string        `json:"from"`
	To      string        `json:"to"`
	State   release.State `json:"state"`
	Step    string        `json:"step" doc:"that is in force; empty before the first"`
	Left    float64       `json:"left" doc:"seconds until the step can be over"`
	Why     string        `json:"why,omitempty"`

	Places  []release.Place `json:"places" doc:"routes that it changes"`
	Cohorts []release.Place `json:"cohorts" doc:"routes that it puts before those, for its cohort"`
}

// maxBriefs bounds what every page is told.
const maxBriefs = 100

// brief notes what every page says of the releases that run. The caller holds
// publishing.
func (c *Control) brief() {
	list := []ReleaseBrief{}
	for _, n := range slices.Sorted(maps.Keys(c.releases)) {
		r := c.releases[n].run
		if r.State.Over() || len(list) >= maxBriefs {
			continue
		}
		b := ReleaseBrief{Number: n, Name: r.Plan.Name, Service: r.Plan.Service, From: r.Plan.From, To: r.Plan.To, State: r.State, Step: r.Now().Name,
			Left: max(0, (r.Now().Each - r.Spent).Seconds()), Why: r.Why, Places: r.Places, Cohorts: []release.Place{}}
		if o, on := r.Overlay(); on && o.FirstTo != nil {
			for _, at := range r.Places {
				b.Cohorts = append(b.Cohorts, release.Place{Ladder: at.Ladder, Route: o.CohortRoute(at.Route)})
			}
		}
		list = append(list, b)
	}
	c.briefs.Store(&list)
}

// Notice is something that a receiver was, or is to be, told.
type Notice struct {
	URL    string     `json:"url"`
	Type   string     `json:"type" doc:"of the CloudEvent"`
	State  string     `json:"state" doc:"waiting, delivered or given up"`
	Tries  int        `json:"tries"`
	Due    *time.Time `json:"due,omitempty" doc:"of the next try"`
	Answer string     `json:"answer,omitempty" doc:"what came of the last one"`
}

// Declared is a release that the rules in force declare.
type Declared struct {
	Name    string        `json:"name"`
	Service string        `json:"service"`
	Route   string        `json:"route,omitempty"`
	From    string        `json:"from"`
	To      string        `json:"to"`
	Steps   []ReleaseStep `json:"steps"`
	At      string        `json:"at" doc:"where it is written"`
	Blocked string        `json:"blocked,omitempty" doc:"why it cannot begin now"`
}

// ReleaseList is what is declared, runs and ran.
type ReleaseList struct {
	Releases []Release  `json:"releases" doc:"newest first"`
	Declared []Declared `json:"declared" doc:"in the rules in force, and not running"`
}

// releaseView is how a run reads now.
func (c *Control) releaseView(number uint, r *release.Run) Release {
	p, step := &r.Plan, r.Now()
	out := Release{Number: number, Name: p.Name, Service: p.Service, Route: p.Route, From: p.From, To: p.To, State: r.State, Why: r.Why, By: r.By, Starter: r.Starter,
		Began: r.Began.UTC(), Since: r.Since.UTC(), Steps: stepsOf(r.Steps()), Step: r.Step, Asking: r.Asking, Revision: r.Revision, Looks: r.Looks, Last: r.Last, Places: r.Places,
		Expect: []string{}, Least: p.Judge.Least, Every: p.Judge.Every.Seconds(), Misses: p.Judge.Misses, Patience: p.Judge.Patience.Seconds(), OnSuccess: p.OnSuccess, Can: []string{}}
	for i := range p.Judge.Expect {
		out.Expect = append(out.Expect, p.Judge.Expect[i].Text)
	}
	if !r.Ended.IsZero() {
		ended := r.Ended.UTC()
		out.Ended = &ended
	}
	if step.Kind == release.Weight || step.Kind == release.Watch {
		out.Share = step.Share.Share()
	}
	if r.State == release.Withdrawn || r.Retreat {
		out.Share = 0
	}
	out.Spent = r.Spent.Seconds()
	out.Requests = r.Total.To.Requests()
	out.Bad, out.More = r.Cost()
	if r.State.Over() {
		if r.State == release.Completed {
			out.Can = []string{ActWithdraw}
		}
		return out
	}
	out.Left, out.Waited = max(0, (step.Each-r.Spent).Seconds()), max(0, (r.Spent-step.Each).Seconds())
	out.NextLook = max(0, (r.LookAt - r.Spent).Seconds())
	if out.Can = append(out.Can, ActHold); r.State == release.Held {
		out.Can[0] = ActResume
	}
	if out.Can = append(out.Can, ActSkip, ActFinish, ActWithdraw); r.Retreat {
		out.Can = []string{ActWithdraw}
	}
	return out
}

// keptRun reads the newest run of a name, or the one of a number.
func (c *Control) keptRun(ctx context.Context, name string) (number uint, run *release.Run, err error) {
	take := func(h store.ReleaseHead, read func(any) error) error {
		number, run = h.Number, &release.Run{}
		return read(run)
	}
	if n, perr := strconv.ParseUint(name, 10, 32); perr == nil && n > 0 {
		err = c.store.Releases(ctx, "", uint(n)+1, 1, false, take)
		if number != uint(n) {
			run = nil
		}
	} else {
		err = c.store.Releases(ctx, name, 0, 1, false, take)
	}
	if err != nil || run != nil {
		return number, run, err
	}
	for _, p := range c.InForce().Written.Releases {
		if p.Name == name {
			return 0, nil, Missing{fmt.Sprintf("release %s is declared, and was never started: nightjar release start %s", name, name)}
		}
	}
	return 0, nil, Missing{fmt.Sprintf("there is no release %s: nightjar release list shows those that there are", name)}
}

// newestDetails bounds what is shown of one release.
const newestDetails = 2000

// ReleaseDetail is one release with its judgements, events and notices.
func (c *Control) ReleaseDetail(ctx context.Context, name string) (Release, error) {
	c.publishing.Lock()
	x, err := c.findRun(ctx, name)
	if err != nil {
		c.publishing.Unlock()
		return Release{}, err
	}
	out := c.releaseView(x.number, x.run)
	c.publishing.Unlock()
	out.Judgements, out.Events, out.Notices = []release.Judgement{}, []release.Event{}, []Notice{}
	err = c.store.Judgements(ctx, out.Number, newestDetails, func(read func(any) error) error {
		out.Judgements = append(out.Judgements, release.Judgement{})
		return read(&out.Judgements[len(out.Judgements)-1])
	})
	if err != nil {
		return out, err
	}
	err = c.store.ReleaseEvents(ctx, out.Number, newestDetails, func(read func(any) error) error {
		out.Events = append(out.Events, release.Event{})
		return read(&out.Events[len(out.Events)-1])
	})
	if err != nil {
		return out, err
	}
	notices, err := c.store.NoticesOf(ctx, out.Number, 200)
	for _, n := range notices {
		var event struct{ Type string }
		json.Unmarshal([]byte(n.Event), &event)
		shown := Notice{URL: n.URL, Type: event.Type, State: n.State, Tries: n.Tries, Answer: n.Answer}
		if n.State == store.NoticeWaiting {
			shown.Due = &n.Due
		}
		out.Notices = append(out.Notices, shown)
	}
	return out, err
}

// Releases lists releases below the number before (0: from the newest), newest
// first, and what the rules declare besides.
func (c *Control) Releases(ctx context.Context, before uint, limit int) (ReleaseList, error) {
	out := ReleaseList{Releases: []Release{}, Declared: []Declared{}}
	c.publishing.Lock()
	defer c.publishing.Unlock()
	err := c.store.Releases(ctx, "", before, limit, false, func(h store.ReleaseHead, read func(any) error) error {
		if x := c.releases[h.Number]; x != nil {
			out.Releases = append(out.Releases, c.releaseView(h.Number, x.run))
			return nil
		}
		var r release.Run
		if err := read(&r); err != nil {
			return err
		}
		out.Releases = append(out.Releases, c.releaseView(h.Number, &r))
		return nil
	})
	if err != nil {
		return out, err
	}
	force := c.InForce()
	for _, p := range force.Written.Releases {
		if slices.ContainsFunc(out.Releases, func(r Release) bool { return r.Name == p.Name && !r.State.Over() }) {
			continue
		}
		d := Declared{Name: p.Name, Service: p.Service, Route: p.Route, From: p.From, To: p.To, Steps: stepsOf(release.Steps(p)), At: p.At.String()}
		if places, err := release.Places(force.Written, p); err != nil {
			d.Blocked = err.Error()
		} else if err := c.startable(&force, p, places); err != nil {
			d.Blocked = err.Error()
		}
		out.Declared = append(out.Declared, d)
	}
	return out, nil
}
