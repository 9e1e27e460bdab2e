package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
)

// TestFollowsForLong: a release of which the service lists the newest judgements alone is
// followed to its end, each judgement once.
func TestFollowsForLong(t *testing.T) {
	const listed, all = 20, 100
	var r model.Release
	var shown followed
	var b bytes.Buffer
	a := &app{format: "table"}
	begin := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for i := range all {
		at := begin.Add(time.Duration(i) * time.Second)
		r.Judgements = append(r.Judgements, model.StageJudgement{At: at, StepName: fmt.Sprintf("j%d.", i), Verdict: "met"})
		r.Events = append(r.Events, model.ReleaseEvent{At: at, Kind: fmt.Sprintf("e%d.", i)}, model.ReleaseEvent{At: at, Kind: fmt.Sprintf("f%d.", i)})
		r.Judgements, r.Events = r.Judgements[max(0, len(r.Judgements)-listed):], r.Events[max(0, len(r.Events)-listed):]
		if i%3 == 0 || i == all-1 {
			if err := a.releaseLines(&b, &r, &shown); err != nil {
				t.Fatal(err)
			}
		}
	}
	for i := range all {
		for _, kind := range []string{"j", "e", "f"} {
			if n := strings.Count(b.String(), fmt.Sprintf("  %s%d.", kind, i)); n != 1 {
				t.Fatalf("%s%d is shown %d times", kind, i, n)
			}
		}
	}
}
