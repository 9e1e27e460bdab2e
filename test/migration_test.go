package test

import (
	"os/exec"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
)

// TestMigration: the harbour office moves from outside into the mesh by examples/migration,
// step by step with the effect of each, back, and by a release that a failing program sends
// back. No request fails but those of the drill.
func TestMigration(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	c := m.signedIn(exec.Command("../examples/migration/migrate.sh"))
	c.Env = append(c.Env, "NIGHTJAR="+binary, "NIGHTJAR_SERVER="+m.addr, "PAUSE=6")
	timer := time.AfterFunc(4*time.Minute, func() { c.Process.Kill() })
	defer timer.Stop()
	out, err := c.CombinedOutput()
	text := string(out)
	if err != nil {
		t.Fatalf("%v:\n%s", err, text)
	}
	at := 0
	for _, want := range []string{
		"by hand: legacy 90%", "by hand: legacy 50%", "version harbour-office/v1", "by hand: legacy 0%", "version harbour-office/v1", "back, at once",
		"withdrawn by judge: success", "exit code 1", "the same release", "50% met", "completed by plan: every stage has passed", "harbour-office-v1-b",
	} {
		i := strings.Index(text[at:], want)
		if i < 0 {
			t.Fatalf("%q does not follow:\n%s", want, text)
		}
		at += i
	}
	if worse := strings.Count(text, "  worse  "); worse > 0 {
		t.Errorf("a step by hand made something worse:\n%s", text)
	}
	for _, v := range asJSON[model.Service](m, 0, "services", "harbour-office").Versions {
		if v.Intended == nil || *v.Intended != map[string]float64{"legacy": 0, "v1": 1}[v.Name] {
			t.Errorf("%s is to get %v", v.Name, v.Intended)
		}
	}
}
