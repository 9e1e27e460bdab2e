package releases

import (
	"context"
	"encoding/json"
	"slices"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/core/release"
	"nightjar/store"
)

const (
	maxDetails = 2000 // judgements and events of a release that are shown
	maxNotices = 200
)

// view is a run as the API shows it.
func view(number uint, run *release.Run) model.Release {
	p, step := &run.Plan, run.Now()
	out := model.Release{
		Number:          number,
		Name:            p.Name,
		Service:         p.Service,
		Route:           p.Route,
		From:            p.From,
		To:              p.To,
		State:           string(run.State),
		Why:             run.Why,
		By:              run.By,
		StartedBy:       run.Starter,
		Began:           run.Began.UTC(),
		Since:           run.Since.UTC(),
		Steps:           steps(run.Steps()),
		Step:            run.Step,
		IsAsking:        run.Asking,
		Revision:        run.Revision,
		JudgementCount:  run.Looks,
		Places:          from.Routes(run.Places),
		Expect:          []string{},
		Least:           p.Judge.Least,
		EverySeconds:    p.Judge.Every.Seconds(),
		Misses:          p.Judge.Misses,
		PatienceSeconds: p.Judge.Patience.Seconds(),
		OnSuccess:       p.OnSuccess,
		Can:             acts(run),
		JudgedSeconds:   run.Spent.Seconds(),
		Requests:        run.Total.To.Requests(),
	}
	for i := range p.Judge.Expect {
		out.Expect = append(out.Expect, p.Judge.Expect[i].Text)
	}
	if run.Last != nil {
		last := from.StageJudgement(*run.Last)
		out.Last = &last
	}
	if !run.Ended.IsZero() {
		ended := run.Ended.UTC()
		out.Ended = &ended
	}
	if hasShare := step.Kind == release.Weight || step.Kind == release.Watch; hasShare &&
		run.State != release.Withdrawn &&
		!run.Retreat {
		out.Share = step.Share.Share()
	}
	out.Bad, out.Excess = run.Cost()
	if !run.State.Over() {
		out.LeftSeconds = max(0, (step.Each - run.Spent).Seconds())
		out.WaitedSeconds = max(0, (run.Spent - step.Each).Seconds())
		out.NextJudgementSeconds = max(0, (run.LookAt - run.Spent).Seconds())
	}
	return out
}

// acts is what a person can do to a run.
func acts(run *release.Run) []string {
	switch {
	case run.State == release.Completed, run.Retreat && !run.State.Over():
		return []string{model.ActWithdraw}
	case run.State.Over():
		return []string{}
	case run.State == release.Held:
		return []string{model.ActResume, model.ActSkip, model.ActFinish, model.ActWithdraw}
	}
	return []string{model.ActHold, model.ActSkip, model.ActFinish, model.ActWithdraw}
}

func steps(in []release.Step) []model.ReleaseStep {
	out := make([]model.ReleaseStep, len(in))
	for i, s := range in {
		out[i] = model.ReleaseStep{
			Kind:            string(s.Kind),
			Name:            s.Name,
			Share:           s.Share.Share(),
			DurationSeconds: s.Each.Seconds(),
			Holds:           s.Hold,
		}
	}
	return out
}

// Get is the release of a name (its newest run) or number, with its judgements,
// events and notifications.
func (r *Releases) Get(ctx context.Context, name string) (model.Release, error) {
	now := r.Revisions.Current()
	x, err := r.find(ctx, &now, name)
	if err != nil {
		return model.Release{}, err
	}
	out := view(x.number, r.current(x))
	out.Judgements, out.Events = []model.StageJudgement{}, []model.ReleaseEvent{}
	out.Notifications = []model.Notification{}
	err = r.Records.Judgements(ctx, out.Number, maxDetails, func(read func(any) error) error {
		var j release.Judgement
		err := read(&j)
		out.Judgements = append(out.Judgements, from.StageJudgement(j))
		return err
	})
	if err != nil {
		return out, err
	}
	err = r.Records.ReleaseEvents(ctx, out.Number, maxDetails, func(read func(any) error) error {
		var e release.Event
		err := read(&e)
		out.Events = append(out.Events, model.ReleaseEvent(e))
		return err
	})
	if err != nil {
		return out, err
	}
	list, err := r.Records.NoticesOf(ctx, out.Number, maxNotices)
	for _, n := range list {
		out.Notifications = append(out.Notifications, notification(n))
	}
	return out, err
}

func notification(n store.Notice) model.Notification {
	var event struct{ Type string }
	json.Unmarshal([]byte(n.Event), &event) // that of a record is there
	out := model.Notification{
		URL:      n.URL,
		Type:     event.Type,
		State:    n.State,
		Attempts: n.Attempts,
		Response: n.Response,
	}
	if n.State == store.NoticeWaiting {
		out.Due = &n.Due
	}
	return out
}

// List lists releases below the number before (0: from the newest), newest first,
// and those that the rules in force declare and that are not running.
func (r *Releases) List(ctx context.Context, before uint, limit int) (model.ReleasePage, error) {
	out := model.ReleasePage{Releases: []model.Release{}, Declared: []model.DeclaredRelease{}}
	now := r.Revisions.Current()
	runs := map[uint]*release.Run{}
	for _, x := range r.all() {
		runs[x.number] = r.current(x)
	}
	err := r.Records.Releases(
		ctx,
		store.ReleaseQuery{Before: before, Limit: limit},
		func(head store.Release, read func(any) error) error {
			run := runs[head.Number]
			if run == nil {
				run = &release.Run{}
				if err := read(run); err != nil {
					return err
				}
			}
			out.Releases = append(out.Releases, view(head.Number, run))
			return nil
		},
	)
	if err != nil {
		return out, err
	}
	for _, p := range now.Written.Releases {
		isRunning := func(one model.Release) bool { return one.Name == p.Name && !one.IsOver() }
		if slices.ContainsFunc(out.Releases, isRunning) {
			continue
		}
		d := model.DeclaredRelease{
			Name:    p.Name,
			Service: p.Service,
			Route:   p.Route,
			From:    p.From,
			To:      p.To,
			Steps:   steps(release.Steps(p)),
			At:      p.At.String(),
		}
		if places, err := release.Places(now.Written, p); err != nil {
			d.Blocked = err.Error()
		} else if err := r.startable(&now, p, places); err != nil {
			d.Blocked = err.Error()
		}
		out.Declared = append(out.Declared, d)
	}
	return out, nil
}
