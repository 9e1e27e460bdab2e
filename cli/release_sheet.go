package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nightjar/api/model"
	"nightjar/cli/out"
)

// whyText is who holds or ended a release and why, shortened where there is no room.
func whyText(s *out.Sheet, r *model.Release) string {
	if s.Wide || s.CSV || r.Why == "" {
		return r.Why
	}
	why, _, _ := strings.Cut(r.Why, ": ")
	return r.By + ": " + why
}

func stepName(r *model.Release) string {
	if r.Step < 0 || r.Step >= len(r.Steps) {
		return "–"
	}
	return r.Steps[r.Step].Name
}

// rail is all steps in one line.
func rail(r *model.Release) string {
	var parts []string
	for i, st := range r.Steps {
		mark := " "
		switch {
		case i < r.Step || i == r.Step && r.State == model.ReleaseCompleted:
			mark = "✓"
		case i == r.Step && r.State == model.ReleaseWithdrawn:
			mark = "✗"
		case i == r.Step && r.State == model.ReleaseHeld:
			mark = "‖"
		case i == r.Step:
			mark = "▶"
		}
		name := st.Name
		if st.Holds {
			name += " (holds)"
		}
		parts = append(parts, "["+mark+" "+name+"]")
	}
	return strings.Join(parts, " ")
}

func releaseSheet(s *out.Sheet, r *model.Release, rows int) {
	table := func() {
		var list [][]string
		for i := range slices.Backward(r.Judgements) {
			j := &r.Judgements[i]
			if len(list) == rows && !s.CSV {
				break
			}
			why := ""
			if f := j.Worst(); f != nil {
				why = f.Expectation + ": " + f.Measured
			} else if n := len(j.Findings); n > 0 {
				why = j.Findings[n-1].Expectation + ": " + j.Findings[n-1].Measured
			}
			list = append(
				list,
				[]string{
					j.At.Local().Format(time.TimeOnly),
					j.StepName,
					j.Verdict,
					fmt.Sprintf("%.1f%%", 100*j.Share),
					sideText(&j.To),
					sideText(&j.From),
					p99Text(&j.To),
					p99Text(&j.From),
					why,
				},
			)
		}
		s.Table([]string{
			"TIME", "STAGE", "VERDICT", "SHARE>", r.To + " SUCCESS>", r.From + " SUCCESS>",
			r.To + " P99 (ms)>", r.From + " P99 (ms)>", "FIGURES",
		}, list)
	}
	if s.CSV {
		table()
		return
	}
	s.Line("Release %d: %s, %s of %s to %s, on %s", r.Number, r.Name, r.From, r.Service, r.To, placesText(r.Places))
	s.Line("%s", rail(r))
	s.Line("%s", stateText(r))
	if r.Requests > 0 {
		s.Line(
			"%s got %d requests; %d failed, about %.0f more than %s would have.",
			r.To,
			r.Requests,
			r.Bad,
			r.Excess,
			r.From,
		)
	}
	if len(r.Judgements) > 0 {
		s.Line("")
		table()
	}
	s.Line("")
	for i, e := range r.Events {
		if i >= len(r.Events)-rows {
			s.Line("%s  %s", e.At.Local().Format(time.TimeOnly), eventText(&e))
		}
	}
	for _, n := range r.Notifications {
		if n.State != "delivered" {
			s.Line(
				"Not delivered: %s to %s (%s after %s: %s)",
				n.Type,
				n.URL,
				n.State,
				count(n.Attempts, "attempt"),
				n.Response,
			)
		}
	}
}

func p99Text(s *model.JudgementSide) string {
	if s.P99MS == nil {
		return "–"
	}
	return fmt.Sprintf("%.1f", *s.P99MS)
}

func placesText(places []model.RouteRef) string {
	var parts []string
	for _, p := range places {
		parts = append(parts, p.String())
	}
	return strings.Join(parts, ", ")
}

// stateText is the state of a release, and what it waits for.
func stateText(r *model.Release) string {
	left := func(seconds float64) string { return (time.Duration(seconds) * time.Second).String() }
	switch r.State {
	case model.ReleaseCompleted, model.ReleaseWithdrawn:
		return fmt.Sprintf("%s by %s after %s: %s.", r.State, r.By, r.Ended.Sub(r.Began).Round(time.Second), r.Why)
	case model.ReleaseHeld:
		return fmt.Sprintf("held by %s: %s. Resume it: nightjar release resume %s", r.By, r.Why, r.Name)
	case model.ReleaseReady:
		return "ready"
	case model.ReleaseShifting:
		if r.IsAsking {
			return "shifting: asking receivers whether the next stage may begin"
		}
		return "shifting: sending the new weights to the proxies"
	}
	text := fmt.Sprintf(
		"%s: %s left, next judgement in %s",
		r.State,
		left(r.LeftSeconds+0.5),
		left(r.NextJudgementSeconds+0.5),
	)
	if r.LeftSeconds == 0 && r.Last != nil {
		text = fmt.Sprintf(
			"%s: %s over its time, because the last judgement is %s; withdrawn or held after %s",
			r.State,
			left(r.WaitedSeconds),
			r.Last.Verdict,
			left(r.PatienceSeconds),
		)
	}
	return text
}
