package release

import (
	"cmp"
	"fmt"
	"time"
)

// Unwritable holds a release whose end cannot be written into the text of the
// rules: what it wanted holds as an overlay until a person publishes the targets.
func (r *Run) Unwritable(now time.Time, why string) {
	r.Retreat = r.State == Withdrawn
	if r.Retreat {
		why = r.Why + "; everything is with " + r.Plan.From + ", but " + why
	}
	r.Ended, r.Shift, r.Done = time.Time{}, true, true
	r.hold(now, ByRules, why+"; publish the targets that you want")
}

// Undo withdraws a release that is completed.
func (r *Run) Undo(now time.Time, by, why string) error {
	if r.State != Completed {
		return Refused{fmt.Sprintf("release %s is %s: only a completed one can be taken back", r.Plan.Name, r.State)}
	}
	r.withdraw(now, by, cmp.Or(why, "a person took it back"))
	return nil
}

// Refused says why a person's wish cannot be met now.
type Refused struct{ Why string }

func (e Refused) Error() string { return e.Why }

func (r *Run) running(what string) error {
	switch {
	case r.State.Over():
		return Refused{fmt.Sprintf("release %s is %s: there is nothing to %s", r.Plan.Name, r.State, what)}
	case r.Retreat:
		return Refused{
			fmt.Sprintf(
				"release %s was withdrawn, and its end cannot be written: publish the targets that you want",
				r.Plan.Name,
			),
		}
	}
	return nil
}

// Hold stops a release at the weights that it has. It is judged all the same.
func (r *Run) Hold(now time.Time, by, why string) error {
	if err := r.running("hold"); err != nil {
		return err
	}
	if r.State == Held {
		return Refused{fmt.Sprintf("release %s is held already, by %s", r.Plan.Name, r.By)}
	}
	if r.Shift {
		return Refused{"proxies are getting new weights: try again in a moment"}
	}
	r.Asking, r.Arriving = false, false
	r.hold(now, by, cmp.Or(why, "no reason given"))
	return nil
}

// Resume lets a held release go on: to the next step when this one has shown
// what it had to, or when the judge could not tell and a person does.
func (r *Run) Resume(now time.Time, by, why string) error {
	if err := r.running("resume"); err != nil {
		return err
	}
	if r.State != Held {
		return Refused{fmt.Sprintf("release %s is %s, not held", r.Plan.Name, r.State)}
	}
	held := r.By
	r.event(now, "resumed", by, why)
	switch {
	case held == ByGate && r.Step+1 < len(r.Steps()):
		r.shift(now) // a person has answered for the receivers
	case r.Done || held == ByJudge || r.Step < 0:
		r.next(now)
	default:
		r.Why, r.By = "", ""
		r.State = stateOf(r.Now().Kind)
	}
	return nil
}

// Skip leaves the rest of the step out, and the receivers who want to be asked.
func (r *Run) Skip(now time.Time, by, why string) error {
	if err := r.running("skip"); err != nil {
		return err
	}
	if r.Shift {
		return Refused{"proxies are getting new weights: try again in a moment"}
	}
	text := fmt.Sprintf("after %s of %s", brief(r.Spent), r.Now().Each)
	if why != "" {
		text += ": " + why
	}
	r.event(now, "skipped", by, text)
	if r.Step+1 >= len(r.Steps()) {
		r.complete(now, by, "the rest was skipped")
		return nil
	}
	r.shift(now)
	return nil
}

// Withdraw takes everything back.
func (r *Run) Withdraw(now time.Time, by, why string) error {
	if err := r.running("withdraw"); err != nil && !r.Retreat { // then it is tried once more
		return err
	}
	r.Retreat = false
	r.withdraw(now, by, cmp.Or(why, "no reason given"))
	return nil
}

// WithdrawForPublish withdraws a release whose route a newer publish has changed: what was
// published holds. It withdraws a completed one too while it is ending.
func (r *Run) WithdrawForPublish(now time.Time, revision uint, author, what string) {
	if !r.State.Over() || r.IsEnding() {
		r.withdraw(
			now,
			ByPublish,
			fmt.Sprintf("revision %d of %s changed %s, and is in force now", revision, author, what),
		)
		r.Shift, r.Revision = false, revision
	}
}

// Finish goes to the end at once, without judging what is left.
func (r *Run) Finish(now time.Time, by, why string) error {
	if err := r.running("finish"); err != nil {
		return err
	}
	for i, s := range r.Steps() {
		if s.Kind == Weight {
			r.Step = i
		}
	}
	r.complete(now, by, cmp.Or(why, "no reason given"))
	return nil
}
