package simulate

import (
	"fmt"
	"testing"
	"time"

	"nightjar/core/release"
	"nightjar/core/rules"
)

func declared(t *testing.T, text string) *rules.Release {
	t.Helper()
	rs, found := rules.Check([]rules.File{{Name: "f", Text: "services: {s: {versions: [v1, v2], routes: [{name: all, send: v1}]}}\nreleases: {r: {service: s, from: v1, to: v2, stages: [2%, 15%, 50%, 100%], " + text + "}}\n"}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found)
	}
	return rs.Releases[0]
}

// TestTheJudgeIsRight: the default judge withdraws one identical version in a
// hundred at most, whatever the traffic, and catches a version that fails five in
// a hundred more before it has half of the requests.
func TestTheJudgeIsRight(t *testing.T) {
	const n = 1000
	p := declared(t, "each: 1m")
	for _, w := range []World{
		{Rate: 20, From: Version{Success: 0.99}}, {Rate: 100, From: Version{Success: 0.995}},
		{Rate: 100, From: Version{Success: 0.9}}, {Rate: 400, From: Version{Success: 1}},
	} {
		t.Run(fmt.Sprintf("%v of a second at %v", w.Rate, w.From.Success), func(t *testing.T) {
			t.Parallel()
			w.To = w.From
			same, worse := map[string]int{}, map[string]int{}
			for seed := range uint64(n) {
				same[ended(Run(p, w, seed))]++
			}
			if same["withdrawn"] > n/100 || same["withdrawn"]+same["completed"] < n*99/100 {
				t.Errorf("an identical version: %v of %d", same, n)
			}
			w.To.Success -= 0.05
			for seed := range uint64(n) {
				worse[ended(Run(p, w, seed))]++
			}
			if worse["withdrawn"] < n*99/100 {
				t.Errorf("a version 5 points worse: %v of %d", worse, n)
			}
		})
	}
}

// ended says how a release ended, and whether half of the requests had gone to
// the new version by then.
func ended(o Outcome) string {
	if o.State != release.Completed && o.Stage >= 50_000 {
		return "too late"
	}
	return string(o.State)
}

// TestOneThatTurnsBad is found within one judgement, however long it was good.
func TestOneThatTurnsBad(t *testing.T) {
	p := declared(t, "each: 10m")
	w := World{Rate: 40, From: Version{Success: 0.998}, To: Version{Success: 0.998}, Turn: 19 * time.Minute, Then: Version{Success: 0.6}}
	late := 0
	for seed := range uint64(200) {
		if o := Run(p, w, seed); o.State != release.Withdrawn || o.Took > w.Turn+p.Judge.Every+2*time.Second {
			late++
		}
	}
	if late > 4 {
		t.Errorf("%d of 200 were not withdrawn within an interval", late)
	}
}
