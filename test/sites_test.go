package test

import (
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"encoding/json"

	"nightjar/api/model"
)

// threeSites is examples/three-sites, running.
type threeSites struct {
	t   *testing.T
	dir string
}

func startThreeSites(t *testing.T) *threeSites {
	t.Helper()
	if os.Getuid() != 0 || exec.Command("ip", "netns", "add", "nightjar-try").Run() != nil {
		t.Skip("network namespaces need root and iproute2")
	}
	exec.Command("ip", "netns", "del", "nightjar-try").Run()
	s := &threeSites{t, t.TempDir() + "/sites"}
	t.Cleanup(func() { s.command("down").Run() })
	s.run("up")
	return s
}

func (s *threeSites) command(args ...string) *exec.Cmd {
	c := exec.Command("../examples/three-sites/run.sh", args...)
	c.Env = append(os.Environ(), "NIGHTJAR="+binary, "DIR="+s.dir)
	return c
}

func (s *threeSites) run(args ...string) string {
	s.t.Helper()
	c := s.command(args...)
	timer := time.AfterFunc(time.Minute, func() { c.Process.Kill() })
	defer timer.Stop()
	out, err := c.CombinedOutput()
	if err != nil {
		s.t.Fatalf("%s: %v:\n%s", args, err, out)
	}
	return string(out)
}

// given is what callers got.
type given struct {
	by      map[string]int // VERSION at SITE, or failed
	failed  int
	slowest float64 // seconds
	text    string
}

var (
	answerLine  = regexp.MustCompile(`(?m)^ +(\d+) +[\d.]+% +(.*)$`)
	slowestLine = regexp.MustCompile(`slowest request took ([\d.]+) s`)
)

// load is what eight callers get in so many seconds, while something is done after two.
func (s *threeSites) load(seconds int, do ...[]string) (a given) {
	s.t.Helper()
	done := make(chan string)
	go func() {
		out, err := s.command("load", strconv.Itoa(seconds)).CombinedOutput()
		if err != nil {
			out = append(out, err.Error()...)
		}
		done <- string(out)
	}()
	if len(do) > 0 {
		time.Sleep(2 * time.Second)
	}
	for _, args := range do {
		if args[0] == "wait" {
			time.Sleep(2 * time.Second)
			continue
		}
		s.run(args...)
	}
	a.text, a.by = <-done, map[string]int{}
	for _, m := range answerLine.FindAllStringSubmatch(a.text, -1) {
		n, _ := strconv.Atoi(m[1])
		if strings.HasPrefix(m[2], "failed") {
			a.failed += n
		} else {
			a.by[m[2]] += n
		}
	}
	if m := slowestLine.FindStringSubmatch(a.text); m != nil {
		a.slowest, _ = strconv.ParseFloat(m[1], 64)
	} else {
		s.t.Fatalf("no answers:\n%s", a.text)
	}
	return a
}

// settle waits until all proxies follow the newest revision and what was lost is found again.
func (s *threeSites) settle() {
	s.t.Helper()
	for end := time.Now().Add(40 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		out := s.run("nightjar", "fleet", "-o", "csv")
		if strings.Count(out, ",current,") == 8 {
			break
		}
		if time.Now().After(end) {
			s.t.Fatalf("not all are back:\n%s", out)
		}
	}
	for end := time.Now().Add(20 * time.Second); s.load(1).by["v1 at north-quay"] == 0; {
		if time.Now().After(end) {
			s.t.Fatal("north-quay gets no requests again")
		}
	}
}

// TestThreeSites: splits and failover across sites, with crossings, a network and sites that
// fail. What fails is at most what was under way.
func TestThreeSites(t *testing.T) { // alone: it measures how long others need
	const callers = 8
	s := startThreeSites(t)
	share := func(what string, a given, by string, want float64) {
		all := a.failed
		for _, n := range a.by {
			all += n
		}
		got := float64(a.by[by]) / float64(max(all, 1))
		if a.failed > 0 || got < want-0.02 || got > want+0.02 {
			t.Errorf("%s: %s got %.3f instead of %.2f:\n%s", what, by, got, want, a.text)
		}
	}
	a := s.load(3)
	share("inside a site", a, "v1 at south-quay", 0.8)
	share("inside a site", a, "v2 at south-quay", 0.2)
	s.run("rules", "[same, north-quay]", "{v1@south-quay: 50, v1@north-quay: 50}")
	a = s.load(3)
	share("across sites", a, "v1 at north-quay", 0.5)
	share("across sites", a, "v1 at south-quay", 0.5)

	var l model.Sites
	if err := json.Unmarshal([]byte(s.run("nightjar", "sites", "--window", "10", "-o", "json")), &l); err != nil {
		t.Fatal(err)
	}
	between := map[string]model.SiteTraffic{}
	for _, tr := range l.Traffic {
		between[tr.From+" to "+tr.To] = tr
	}
	across, own := between["south-quay to north-quay"].Figures, between["south-quay to south-quay"].Figures
	if len(l.Sites) != 3 || across.Requests < 50 || own.Requests < across.Requests || across.ResponseBytes == 0 {
		t.Errorf("%d sites, %d requests across, %d inside", len(l.Sites), across.Requests, own.Requests)
	}
	if x := l.Sites[1]; len(x.Crossings) != 1 || x.Crossings[0].Carried.BytesOut < across.ResponseBytes || x.Crossing != "192.0.2.2:7443" {
		t.Errorf("north-quay: %+v", x)
	}

	s.run("rules", "[north-quay, south-quay]", "{v1: 100}")
	s.settle()
	for _, c := range []struct {
		name    string
		do      [][]string
		failed  int     // at most
		slowest float64 // seconds
	}{
		{"instances killed", [][]string{{"kill", "north-quay"}, {"wait"}, {"start", "north-quay"}}, callers, 1.5},
		{"crossing killed", [][]string{{"kill-crossing", "north-quay"}, {"wait"}, {"start-crossing", "north-quay"}}, callers, 1.5},
		// What was sent before it showed that nobody acknowledges it.
		{"network cut", [][]string{{"cut", "north-quay"}, {"wait"}, {"heal", "north-quay"}}, 2 * callers, 2.5},
	} {
		a := s.load(8, c.do...)
		if a.failed > c.failed || a.slowest > c.slowest || a.by["v1 at north-quay"] == 0 || a.by["v1 at south-quay"] < a.failed {
			t.Errorf("%s: %d failed, the slowest took %.2f s:\n%s", c.name, a.failed, a.slowest, a.text)
		}
		s.settle()
	}
	// A site is emptied for maintenance, its instances are killed, and it gets its requests back.
	a = s.load(
		10,
		[]string{"nightjar", "sites", "drain", "north-quay", "--over", "2s", "--wait"},
		[]string{"kill", "north-quay"},
		[]string{"start", "north-quay"},
		[]string{"nightjar", "sites", "resume", "north-quay"},
	)
	if a.failed > 0 || a.by["v1 at north-quay"] == 0 || a.by["v1 at south-quay"] == 0 {
		t.Errorf("a drain:\n%s", a.text)
	}
	s.settle()
	a = s.load(6, []string{"cut", "harbour"})
	if a.failed > 0 || a.by["v1 at north-quay"] == 0 {
		t.Errorf("without the service:\n%s", a.text)
	}
	s.run("heal", "harbour")
	s.settle()
}
