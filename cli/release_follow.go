package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

// followRelease shows a release until it is over: in place on a terminal, one
// line for everything that happens into a pipe.
func (a *app) followRelease(cmd *cobra.Command, c *client.Client, name string) error {
	w := cmd.OutOrStdout()
	f := out.File(w)
	inPlace := f != nil && out.Terminal(f) && a.format != "json"
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	var shown followed
	for first := true; ; first = false {
		r, err := c.Release(cmd.Context(), name)
		switch {
		case cmd.Context().Err() != nil:
			return nil
		case err != nil && first:
			return err
		case err != nil:
			fmt.Fprintf(cmd.ErrOrStderr(), "nightjar: %v; retrying\n", err)
		case inPlace:
			name = fmt.Sprint(r.Number) // a newer run of the name is another release
			var page bytes.Buffer
			p := &out.Printer{W: &page, Format: a.format, Colour: true, Width: pageWidth(f)}
			if err := p.Show(r, func(s *out.Sheet) { releaseSheet(s, &r, 8) }); err != nil {
				return err
			}
			if redraw(out.Screen(w), out.Escape(page.Bytes()), first) != nil {
				return nil
			}
		default:
			name = fmt.Sprint(r.Number)
			if a.releaseLines(w, &r, &shown) != nil {
				return nil // the reader is gone
			}
		}
		if err == nil && r.IsOver() {
			if r.State == model.ReleaseWithdrawn {
				return finding
			}
			return nil
		}
		select {
		case <-cmd.Context().Done():
			return nil
		case <-t.C:
		}
	}
}

// followed is what was shown last of a release. The service returns the newest of many.
type followed struct {
	judgement *model.StageJudgement
	event     *model.ReleaseEvent
}

// since is what follows the last element that was shown, which may have left the list.
func since[T any](list []T, last *T, at func(*T) time.Time) []T {
	if last == nil {
		return list
	}
	for i := range slices.Backward(list) {
		if reflect.DeepEqual(&list[i], last) {
			return list[i+1:]
		}
		if at(&list[i]).Before(at(last)) {
			return list[i+1:]
		}
	}
	return list
}

// releaseLines writes what is new, one line each.
func (a *app) releaseLines(w io.Writer, r *model.Release, shown *followed) error {
	type line struct {
		at    time.Time
		text  string
		value any
	}
	var lines []line
	judgements := since(r.Judgements, shown.judgement, func(j *model.StageJudgement) time.Time { return j.At })
	for i := range judgements {
		j := &judgements[i]
		lines = append(lines, line{j.At, judgementText(r, j), j})
	}
	events := since(r.Events, shown.event, func(e *model.ReleaseEvent) time.Time { return e.At })
	for _, e := range events {
		if e.Kind != "judged" || a.format == "json" { // its judgement says the same
			lines = append(lines, line{e.At, eventText(&e), e})
		}
	}
	if n := len(judgements); n > 0 {
		shown.judgement = &judgements[n-1]
	}
	if n := len(events); n > 0 {
		shown.event = &events[n-1]
	}
	slices.SortStableFunc(lines, func(a, b line) int { return a.at.Compare(b.at) })
	for _, l := range lines {
		if a.format == "json" {
			b, err := json.Marshal(l.value)
			if err != nil {
				return err
			}
			l.text = string(b)
		} else {
			l.text = l.at.Local().Format(time.TimeOnly) + "  " + l.text
		}
		if _, err := fmt.Fprintln(w, l.text); err != nil {
			return err
		}
	}
	return nil
}

func eventText(e *model.ReleaseEvent) string {
	text := strings.TrimPrefix(fmt.Sprintf("%s %s", e.Step, e.Kind), " ")
	if e.By != "" {
		text += " by " + e.By
	}
	if e.Text != "" {
		text += ": " + e.Text
	}
	return text
}

func judgementText(r *model.Release, j *model.StageJudgement) string {
	text := fmt.Sprintf("%s %s: %s %s, %s %s", j.StepName, j.Verdict, r.To, sideText(&j.To), r.From, sideText(&j.From))
	if f := j.Worst(); f != nil {
		text += "; " + f.Expectation + ": " + f.Measured
	}
	return text
}

func sideText(s *model.JudgementSide) string {
	if s.Requests == 0 {
		return "no requests"
	}
	return fmt.Sprintf("%.2f%% of %d", 100**s.Success, s.Requests)
}
