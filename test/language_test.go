package test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"nightjar/standin"
)

// nightShift is the example that has most of the language, with the addresses
// of a mesh and with longer timeouts, as startDemo gives them to the sample.
func nightShift(t *testing.T, m *mesh) string {
	t.Helper()
	text, err := os.ReadFile("../examples/night-shift/rules.yaml")
	if err != nil {
		t.Fatal(err)
	}
	gateway, outside, err := standin.Ports(m.addr)
	if err != nil {
		t.Fatal(err)
	}
	out := strings.NewReplacer("127.0.0.1:7680", gateway, "127.0.0.1:7690", outside, "rate: 30/m", "rate: 5/h").Replace(string(text))
	return write(t, t.TempDir(), "rules.yaml", regexp.MustCompile(`timeout: \w+`).ReplaceAllString(out, "timeout: 25s"))
}

// TestLanguage sends real requests by rules that have most of what the language
// can say, and compares what happens with what explain says.
func TestLanguage(t *testing.T) {
	t.Parallel()
	m := startDemo(t, "--no-traffic")
	file := nightShift(t, m)
	if out := m.must(0, "rules", "check", file); !strings.Contains(out, "0 mistakes") {
		t.Fatalf("check:\n%s", out)
	}
	m.must(0, "rules", "publish", file)
	gateway, _, _ := standin.Ports(m.addr)

	for _, c := range []struct {
		name, url string
		args      []string
		n         int
		want      string // versions
		status    string // status of every answer; empty: not looked at
		explain   string // words of the explanation
	}{
		{"a gateway's host and header lead the service's own routes", "http://" + gateway + "/any", []string{"-H", "Host: crew.tickets.ferry.example"}, 20, "v3=20", "", "any of (header x-crew"},
		{"a query", "http://sailings/x?berth=c2", nil, 20, "v3=20", "", `query berth in "c1", "c2"`},
		{"another value of it", "http://sailings/x?berth=c3", nil, 20, "v1=20", "", "everything-else"},
		{"only some callers", "http://sailings/sailings/today", []string{"--from", "kiosk"}, 100, "v1=85 v2=15", "", "policy core-reads"},
		{"not the others", "http://sailings/sailings/today", []string{"--from", "tides"}, 20, "v1=20", "", "expected from kiosk|front-door, found tides"},
		{"a visitor keeps the version", "http://sailings/timetable", []string{"-H", "Cookie: berth=D4"}, 30, "v2=30", "", "stick"},
		{"another visitor", "http://sailings/timetable", []string{"-H", "Cookie: berth=A1"}, 30, "v1=30", "", "cookie:berth"},
		{"an expression, rewritten", "http://sailings/lines/petrel/today", nil, 10, "v1=10", "", "/sailings/today"},
		{"a segment that may be anything, at a site", "http://sailings/berths/7/picture", nil, 10, "v3=10", "", "set x-picture: small"},
		{"a redirect", "http://sailings/old/a%2Fb?c=d", nil, 5, "", "308", "308 to /sailings/a%2Fb?c=d"},
		{"a fixed reply", "http://tickets.ferry.example/x", []string{"--method", "DELETE"}, 5, "", "405", "Please ask at the quay."},
		{"the caller's site", "http://fares/fares/adult", []string{"--from", "tides"}, 20, "v2=20", "", "site south-quay"},
		{"another site", "http://fares/fares/adult", []string{"--from", "kiosk"}, 100, "v1=90 v2=10", "", "expected site south-quay, found north-quay"},
		{"one version at two sites", "http://berths/berths/free", nil, 100, "v1=50 v2=50", "", "berths/v1@north-quay"},
		{"two services behind one route", "http://tickets.ferry.example/tides/next", nil, 100, "legacy=1 v1=99", "", "harbour-office: timeout"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := m.call(c.n, append([]string{c.url}, c.args...)...)
			if answers(got) != c.want || c.status != "" && got.Status[c.status] != c.n {
				t.Errorf("got %s, status %v, reasons %v; want %s", answers(got), got.Status, got.Reasons, c.want)
			}
			method := "GET"
			args := c.args
			if len(args) > 1 && args[0] == "--method" {
				method, args = args[1], nil
			}
			if out := m.must(0, append([]string{"explain", method, c.url}, args...)...); !strings.Contains(out, c.explain) {
				t.Errorf("explain lacks %q:\n%s", c.explain, out)
			}
		})
	}
	t.Run("the instances at the two sites have an equal share", func(t *testing.T) {
		if got := m.call(100, "http://berths/berths/free"); got.Instances["berths-v1-a"] != 25 || got.Instances["berths-v1-b"] != 25 {
			t.Errorf("instances %v", got.Instances)
		}
	})
	t.Run("harm on purpose, for one cohort, exactly", func(t *testing.T) {
		if got := m.call(50, "http://sailings/x", "-H", "x-terminal: test-3"); got.Reasons["fault"] != 10 || got.P95MS < 300 {
			t.Errorf("reasons %v, status %v, p95 %.0f ms", got.Reasons, got.Status, got.P95MS)
		}
	})
	t.Run("a limit for each terminal and fare", func(t *testing.T) {
		adult := []string{"http://tickets.ferry.example/fares/adult", "-H", "x-terminal: q1", "-H", "x-fare: adult"}
		got := m.call(8, adult...)
		if got.Status["429"] != 3 || got.Reasons["limited"] != 3 || got.Sample.Headers["Retry-After"] == "" || !strings.Contains(got.Sample.Headers["Proxy-Status"], "per header:x-terminal and header:x-fare") {
			t.Errorf("status %v, reasons %v, sample %v", got.Status, got.Reasons, got.Sample)
		}
		adult[4] = "x-fare: dog"
		if got := m.call(5, adult...); got.Status["429"] != 0 {
			t.Errorf("another fare: %v", got.Status)
		}
	})
	t.Run("what holds, with its origin", func(t *testing.T) {
		out := m.must(0, "rules", "show", "--effective", "sailings")
		for _, want := range []string{"policy core-reads", "stick             cookie:berth", "5% to v3", "built in", "rules.yaml:"} {
			if !strings.Contains(out, want) {
				t.Errorf("lacks %q:\n%s", want, out)
			}
		}
	})
}
