package engine

import (
	"fmt"
	"strings"
	"testing"

	"nightjar/core/rules"
)

const permitted = `
sites: [north, south]
services:
  kiosk: {versions: [v1], labels: {tier: edge}}
  desk: {versions: [v1], labels: {tier: edge}}
  sailings: {versions: [v1], labels: {tier: core}}
  berths: {versions: [v1], labels: {tier: core}}
gateways:
  door: {listen: ":80", hosts: ["*"], routes: [{name: all, when: {path: /**}, rewrite: {path: /sailings/**}, send: sailings}]}
access:
  default: deny
  rules:
    - {name: no-old, to: [sailings], deny: {path: /old/**}}
    - {name: door-reads, from: [gateway/door], to: [sailings], allow: {method: [GET, HEAD], path: /sailings/**}}
    - {name: edge, from: [{labels: {tier: edge}}], to: [{labels: {tier: core}}], allow: {path: /public/**}}
    - {name: north, from: ["@north"], to: [berths], allow: {headers: {x-crew: "yes"}}}
    - {name: admin, from: [desk], to: [berths], allow: {port: 9001}}
    - {name: well, from: [anyone], to: [kiosk], allow: {path: /well}}
    - {name: soon, mode: watch, from: [desk], to: [kiosk], deny: all}
    - {name: desk, from: [desk], to: [kiosk], allow: all}
`

func table(t testing.TB, text string, opt Options) *Table {
	t.Helper()
	rs, found := rules.Check([]rules.File{{Name: "a.yaml", Text: text}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found)
	}
	var list []Instance
	for _, s := range rs.Services {
		list = append(list, Instance{ID: s.Name, Service: s.Name, Version: "v1", Address: "127.0.0.1:1", Member: true})
	}
	tab, err := Compile(rs, list, opt)
	if err != nil {
		t.Fatal(err)
	}
	return tab
}

func TestAdmit(t *testing.T) {
	tab := table(t, permitted, Options{})
	door, kiosk, desk, nobody := NewParty("door", true, "north"), NewParty("kiosk", false, "south"), NewParty("desk", false, ""), Party{}
	for _, c := range []struct {
		from Party
		to   string
		port int
		v    *ask
		want string
	}{
		{door, "sailings", 0, get("", "/sailings/today"), "allowed by door-reads"},
		{door, "sailings", 0, &ask{method: "POST", path: "/sailings/today"}, "denied by default"},
		{NewParty("door", false, ""), "sailings", 0, get("", "/sailings/today"), "denied by default"},
		{door, "sailings", 0, get("", "/old/x"), "denied by no-old"},
		{kiosk, "sailings", 0, get("", "/public/x"), "allowed by edge"},
		{kiosk, "sailings", 0, get("", "/old/x"), "denied by no-old"},
		{kiosk, "sailings", 0, get("", "/private"), "denied by default"},
		{kiosk, "kiosk", 0, get("", "/public/x"), "allowed by default"}, // itself
		{NewParty("kiosk", true, ""), "kiosk", 0, get("", "/public/x"), "denied by default"},
		{nobody, "sailings", 0, get("", "/public/x"), "denied by default"},
		{nobody, "kiosk", 0, get("", "/well"), "allowed by well"},
		{door, "berths", 0, get("", "/", "X-Crew: yes"), "allowed by north"},
		{door, "berths", 0, get("", "/"), "denied by default"},
		{kiosk, "berths", 0, get("", "/", "X-Crew: yes"), "denied by default"},
		{desk, "berths", 9001, get("", "/"), "allowed by admin"},
		{desk, "berths", 9002, get("", "/"), "denied by default"},
		{desk, "berths", 0, get("", "/"), "allowed by default"}, // the port is not known: the other end decides
		{desk, "kiosk", 0, get("", "/"), "allowed but watched by soon"},
		{desk, "kiosk", 0, get("", "/well"), "allowed by well"},
		{Party{IsNode: true}, "berths", 0, get("", "/"), "allowed by default"},
		// A path that can be read in two ways is let in when it is by both.
		{kiosk, "sailings", 0, get("", "/public/x%2Fy"), "allowed by edge"},
		{kiosk, "sailings", 0, get("", "/public;a/x"), "denied by default"},
		{door, "sailings", 0, get("", "/sailings//x"), "allowed by door-reads"},
	} {
		var v View
		if c.v != nil {
			v = c.v
		}
		d := tab.Admit(c.from, c.to, c.port, v)
		got := "allowed"
		if d.Denied {
			got = "denied"
		}
		if d.Watched {
			got += " but watched"
		}
		if got += " by default"; d.Rule != nil {
			got = strings.TrimSuffix(got, "default") + d.Rule.Name
		}
		if got != c.want {
			t.Errorf("%q to %s at %d, %s %s: %s, want %s", c.from, c.to, c.port, c.v.method, c.v.path, got, c.want)
		}
	}
	if d := tab.Admit(desk, "berths", 9001, nil); d.Denied {
		t.Error("a connection of TCP is decided by caller and port")
	}
	if d := tab.Admit(kiosk, "sailings", 1, nil); !d.Denied {
		t.Error("a rule about paths lets no connection of TCP in")
	}
}

// TestWatchedAccess: what would be denied is let in, and said.
func TestWatchedAccess(t *testing.T) {
	tab := table(t, strings.Replace(permitted, "default: deny", "default: deny\n  mode: watch", 1), Options{})
	if d := tab.Admit(NewParty("kiosk", false, ""), "sailings", 0, get("", "/old/x")); d.Denied || !d.Watched || d.Rule.Name != "no-old" {
		t.Errorf("%+v", d)
	}
}

// TestDeniedEarly: the caller's own proxy refuses, and says which rule; an explanation
// says the same.
func TestDeniedEarly(t *testing.T) {
	tab := table(t, permitted, Options{})
	for _, c := range []struct {
		entry Entry
		v     *ask
		want  string
	}{
		{Entry{From: NewParty("kiosk", false, "")}, get("sailings", "/public/x"), ""},
		{Entry{From: NewParty("kiosk", false, "")}, get("sailings", "/old/x"), "kiosk may not call sailings like this: access rule no-old (a.yaml:13:7)"},
		{Entry{From: NewParty("kiosk", false, "")}, get("berths", "/"), "kiosk may not call berths like this: no access rule allows it (default: deny, a.yaml:11:3)"},
		{Entry{Gateway: "door", From: NewParty("door", true, "")}, get("x", "/today"), ""}, // as it is rewritten
		{Entry{Gateway: "door", From: NewParty("door", true, "")}, &ask{method: "PUT", host: "x", path: "/today"}, "gateway/door may not call sailings like this: no access rule allows it (default: deny, a.yaml:11:3)"},
	} {
		var x Exchange
		step := x.Begin(tab, c.entry, c.v, 0)
		e := Explain(tab, c.entry, c.v, 0)
		told := ""
		if e.Refusal != nil {
			told = e.Refusal.Detail
		}
		if step.Kind == Reply && (step.Reason != Denied || step.Status != 403 || x.Service() == "") {
			t.Errorf("%s: %+v", c.v.path, step)
		}
		if step.Detail != c.want || told != c.want || len(e.Access) != 1 || e.Access[0].Allowed != (c.want == "") {
			t.Errorf("%s %s:\n got %q\ntold %q, %+v\nwant %q", c.v.host, c.v.path, step.Detail, told, e.Access, c.want)
		}
		x.End(Left, 0)
	}
}

// TestDeniedRequestsCountAgainstNoVersion: which one they would have gone to says nothing
// of it.
func TestDeniedRequestsCountAgainstNoVersion(t *testing.T) {
	tab := table(t, "services: {s: {versions: [v1], routes: [{name: all, send: v1}]}}\naccess: {default: deny}", Options{})
	var x Exchange
	step := x.Begin(tab, Entry{From: NewParty("kiosk", false, "")}, get("s", "/"), 0)
	if rt, _ := x.Route(); step.Reason != Denied || x.Service() != "s" || x.Version() != "" || rt.Name() != "all" {
		t.Errorf("%+v: to %s/%q by %s", step, x.Service(), x.Version(), rt.Name())
	}
	x.End(Left, 0)
}

// BenchmarkAdmit is a request under a thousand rules.
func BenchmarkAdmit(b *testing.B) {
	text := strings.Builder{}
	text.WriteString("services:\n")
	for i := range 500 {
		fmt.Fprintf(&text, "  s%d: {versions: [v1]}\n", i)
	}
	text.WriteString("access:\n  default: deny\n  rules:\n")
	for i := range 1000 {
		fmt.Fprintf(&text, "    - {name: r%d, from: [s%d], to: [s%d], allow: {method: [GET], path: /a%d/**}}\n", i, i%500, (i+1)%500, i/500)
	}
	tab := table(b, text.String(), Options{})
	from, v := NewParty("s7", false, "north"), get("s8", "/a1/x/y")
	b.ReportAllocs()
	for b.Loop() {
		if d := tab.Admit(from, "s8", 0, v); d.Denied {
			b.Fatal(d)
		}
	}
}
