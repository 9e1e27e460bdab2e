package releases

import (
	"context"
	"errors"
	"fmt"

	"nightjar/control/outbox"
	"nightjar/control/revisions"
	"nightjar/core/release"
	"nightjar/core/rules"
)

// maxAsking bounds the releases whose receivers are asked at the same time.
const maxAsking = 64

// errStale means that the answer of a receiver is not of interest any more.
var errStale = errors.New("the release has continued without the answer")

// ask asks the receivers that a release has to ask before its next step, in the
// background; their answer comes back as a step of its own. When the release does
// not wait for an answer any more, it stops asking. The caller holds the lock of
// changes.
func (r *Releases) ask(x *running) {
	run := x.run
	if x.asking != nil && !run.Asking {
		x.asking()
		x.asking = nil
	}
	if x.asking != nil || !run.Asking || r.isClosing() {
		return
	}
	asking := 0
	for _, other := range r.all() {
		if other.asking != nil {
			asking++
		}
	}
	if asking >= maxAsking {
		return // a later step asks
	}
	step := run.Steps()[run.Step+1].Name
	e := release.Event{At: r.Now().UTC(), Kind: "gate", Step: step, Text: fmt.Sprintf("may stage %s begin?", step)}
	text, err := eventOf(x.number, run, e, 0)
	ctx, stop := context.WithTimeout(context.Background(), outbox.SendTime)
	x.asking = stop
	var gates []rules.Receiver
	for _, to := range run.Plan.Notify {
		if to.Gate {
			gates = append(gates, to)
		}
	}
	r.asking.Go(func() {
		defer stop()
		why := ""
		for _, to := range gates {
			if err == nil {
				_, err = r.Outbox.Send(ctx, to.URL, to.Binary, text)
			}
			if err != nil {
				why = fmt.Sprintf("%s does not allow stage %s: %v", to.URL, step, err)
				break
			}
		}
		r.answer(ctx, x, why)
	})
}

// answer continues a release with the answer of its receivers; why is empty when all
// agree.
func (r *Releases) answer(ctx context.Context, x *running, why string) {
	err := r.Revisions.Change(context.WithoutCancel(ctx), func(now revisions.Current) (revisions.Decision, error) {
		if x.asking == nil || ctx.Err() == context.Canceled { // a person decided meanwhile, or the service ends
			return revisions.Decision{}, errStale
		}
		x.asking = nil
		next := x.run.Copy()
		next.Gate(r.Now().UTC(), why)
		return r.decide(ctx, now, []change{{x, next}})
	})
	if err != nil && !errors.Is(err, errStale) {
		r.Log.Error("the answer of a receiver could not be stored; it is asked again", "error", err)
	}
}
