package engine

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/core/rules"
)

// ask is a View made by hand.
type ask struct {
	method, host, path  string
	header              http.Header
	query, caller, site string
	Known
}

func (a *ask) Method() string             { return a.method }
func (a *ask) Host() string               { return a.host }
func (a *ask) Path() string               { return a.path }
func (a *ask) Header(key string) []string { return a.header[key] }
func (a *ask) Query() string              { return a.query }
func (a *ask) Caller() string             { return a.caller }
func (a *ask) Site() string               { return a.site }

func get(host, path string, headers ...string) *ask {
	path, query, _ := strings.Cut(path, "?")
	a := &ask{method: "GET", host: host, path: path, query: query, header: http.Header{}}
	for _, h := range headers {
		k, v, _ := strings.Cut(h, ": ")
		a.header.Add(k, v)
	}
	return a
}

const ferry = `
services:
  sailings:
    versions: [v1, v2, v3]
    timeout: 3s
    routes:
      - name: crew-first
        when: {headers: {x-crew: "yes"}}
        send: v3
      - name: timetable
        when:
          - {path: /sailings/**, method: [GET, HEAD]}
          - {path: /timetable}
        send: {v1: 85, v2: 15}
        timeout: 2s
      - name: night
        when: {cookies: {berth: {prefix: night}}, path: /berth/*}
        rewrite: {path: /sleep}
        send: v2
      - name: moved
        when: {path: /old/times/**}
        rewrite: {path: /new/**}
        send: v1
      - name: writes
        when: {method: POST}
        send: berths/v1
  berths: {versions: [v1, v2], routes: [{name: even, send: {v1: 50, v2: 50}}]}
  kiosk: {}
gateways:
  front-door:
    listen: ":8080"
    hosts: ["*.ferry.example"]
    routes:
      - {name: home, when: {path: /}, rewrite: {path: /sailings/today}, send: sailings, timeout: 1s}
      - {name: kiosk, when: {path: /kiosk/**}, send: kiosk}
      - {name: straight, when: {path: /straight}, send: sailings/v2}
`

func compile(t testing.TB, text string, prev *Table, instances ...Instance) *Table {
	t.Helper()
	rs, found := rules.Check([]rules.File{{Name: "ferry.yaml", Text: text}}, rules.Live{})
	if n := rules.Mistakes(found); n > 0 {
		t.Fatalf("%d mistakes, the first: %s", n, found[0].Text())
	}
	table, err := Compile(rs, instances, Options{Previous: prev, Seed: 7})
	if err != nil {
		t.Fatal(err)
	}
	return table
}

// crowd makes instances from service/version words; a word twice is two instances.
func crowd(words ...string) []Instance {
	var out []Instance
	for i, w := range words {
		s, v, _ := strings.Cut(w, "/")
		out = append(out, Instance{ID: fmt.Sprintf("%s-%s-%d", s, v, i), Service: s, Version: v, Address: fmt.Sprintf("127.0.0.1:%d", 9000+i)})
	}
	return out
}

func ferryTable(t testing.TB) *Table {
	return compile(t, ferry, nil, crowd("sailings/v1", "sailings/v2", "sailings/v3", "berths/v1", "berths/v1", "berths/v2", "kiosk/v1", "kiosk/v2")...)
}

func TestBegin(t *testing.T) {
	post := get("sailings", "/book")
	post.method = "POST"
	for _, c := range []struct {
		name    string
		gateway string
		ask     *ask
		want    string // route version path, or reason
	}{
		{"cohort by header", "", get("sailings", "/x", "X-Crew: yes"), "crew-first v3 /x"},
		{"second value of a header counts", "", get("sailings", "/x", "X-Crew: no", "X-Crew: yes"), "crew-first v3 /x"},
		{"host with suffix, port and capitals", "", get("Sailings.internal:80", "/timetable", "X-Crew: yes"), "crew-first v3 /timetable"},
		{"cookie and one segment", "", get("sailings", "/berth/4", "Cookie: a=b; berth=night-7"), "night v2 /sleep"},
		{"two segments are not one", "", get("sailings", "/berth/4/5", "Cookie: berth=night-7"), "no-route"},
		{"an empty segment is none", "", get("sailings", "/berth/", "Cookie: berth=night-7"), "no-route"},
		{"remainder kept", "", get("sailings", "/old/times/a/b"), "moved v1 /new/a/b"},
		{"remainder empty", "", get("sailings", "/old/times"), "moved v1 /new"},
		{"encoded prefix, remainder as it came", "", get("sailings", "/old/t%69mes/a%2Fb"), "moved v1 /new/a%2Fb"},
		{"an encoded slash that changes the route", "", get("sailings", "/old%2Ftimes/a"), "bad-request"},
		{"an empty segment that changes the route", "", get("sailings", "//old/times"), "bad-request"},
		{"an empty segment that changes nothing", "", get("sailings", "/old/times//a"), "moved v1 /new//a"},
		{"a parameter that changes the route", "", get("sailings", "/old;x=1/times"), "bad-request"},
		{"dots with a parameter refused", "", get("sailings", "/old/times/..;x/y"), "bad-request"},
		{"a backslash that changes the route", "", get("sailings", "/old%5Ctimes"), "bad-request"},
		{"dots refused", "", get("sailings", "/old/times/../x"), "bad-request"},
		{"encoded dots refused", "", get("sailings", "/old/times/%2e%2E/x"), "bad-request"},
		{"dots behind an encoded slash refused", "", get("sailings", "/old/times/a%2f..%2fx"), "bad-request"},
		{"another service's version", "", post, "writes v1 /book"},
		{"unknown service", "", get("ghost", "/"), "no-route"},
		{"plain balancing", "", get("kiosk", "/"), " v1 /"},
		{"gateway hands on", "front-door", get("tickets.ferry.example:7680", "/", "X-Crew: yes"), "crew-first v3 /sailings/today"},
		{"gateway: host of nobody", "front-door", get("ferry.example", "/"), "no-route"},
		{"gateway: path of nobody", "front-door", get("a.ferry.example", "/nowhere"), "no-route"},
		{"gateway not declared", "side-door", get("a.ferry.example", "/"), "no-route"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var x Exchange
			s := x.Begin(ferryTable(t), Entry{Gateway: c.gateway}, c.ask, 0)
			got := string(s.Reason)
			if s.Kind == Attempt {
				got = fmt.Sprintf("%s %s %s", x.route.Name(), s.Instance.Version, x.Path())
			}
			if got != c.want && !strings.HasPrefix(got, c.want+" ") {
				t.Errorf("got %q, want %q (%s)", got, c.want, s.Detail)
			}
		})
	}
}

func TestTimeouts(t *testing.T) {
	table := ferryTable(t)
	const now = 5 * time.Second
	for _, c := range []struct {
		name  string
		entry Entry
		ask   *ask
		want  time.Duration
	}{
		{"the route comes before its service's", Entry{}, get("sailings", "/timetable"), 2 * time.Second},
		{"service where the route has none", Entry{}, get("sailings", "/", "X-Crew: yes"), 3 * time.Second},
		{"built in", Entry{}, get("berths", "/"), 15 * time.Second},
		{"the gateway's is shorter", Entry{Gateway: "front-door"}, get("a.ferry.example", "/"), time.Second},
		{"the service's where the gateway names a version", Entry{Gateway: "front-door"}, get("a.ferry.example", "/straight"), 3 * time.Second},
		{"the caller waits for less", Entry{Limit: 40 * time.Millisecond}, get("sailings", "/timetable"), 40 * time.Millisecond},
		{"the caller waits for more", Entry{Limit: time.Hour}, get("sailings", "/timetable"), 2 * time.Second},
	} {
		var x Exchange
		if s := x.Begin(table, c.entry, c.ask, now); s.Deadline != now+c.want {
			t.Errorf("%s: deadline %v after the start, want %v", c.name, s.Deadline-now, c.want)
		}
	}
}

func TestNext(t *testing.T) {
	for _, c := range []struct {
		o      Outcome
		kind   Kind
		status int
	}{
		{Outcome{Status: 200}, Done, 200}, {Outcome{Status: 503}, Done, 503},
		{Outcome{Reason: Unreachable}, Reply, 502}, {Outcome{Reason: Reset}, Reply, 502}, {Outcome{Reason: TimedOut}, Reply, 504},
	} {
		var x Exchange
		x.Begin(ferryTable(t), Entry{}, get("kiosk", "/"), 0)
		if s := x.Next(c.o, time.Second); s.Kind != c.kind || s.Status != c.status || s.Reason != c.o.Reason {
			t.Errorf("%+v: got %+v", c.o, s)
		}
	}
	var x Exchange
	empty := compile(t, ferry, nil)
	if s := x.Begin(empty, Entry{}, get("berths", "/"), 0); s.Kind != Reply || s.Reason != NoInstance || s.Status != 503 || !strings.Contains(s.Detail, "berths/v") {
		t.Errorf("without instances: %+v", s)
	}
}

// TestWeightsAreBetweenVersions: v1 has two instances and v2 one, and 50/50 is
// still 50/50; v1's two share their half evenly.
func TestWeightsAreBetweenVersions(t *testing.T) {
	table, tally := ferryTable(t), map[string]int{}
	for range 1000 {
		var x Exchange
		tally[x.Begin(table, Entry{}, get("berths", "/"), 0).Instance.ID]++
	}
	if tally["berths-v1-3"] != 250 || tally["berths-v1-4"] != 250 || tally["berths-v2-5"] != 500 {
		t.Errorf("tally %v", tally)
	}
}

// TestStateOutlivesTheTable: a split goes on in the middle of its block when
// nothing about it changed, and begins anew when its weights did.
func TestStateOutlivesTheTable(t *testing.T) {
	one := ferryTable(t)
	var x Exchange
	for range 7 {
		x.Begin(one, Entry{}, get("berths", "/"), 0)
	}
	two := compile(t, ferry, one, crowd("berths/v1")...)
	if n := two.route("berths", "even").split.next.Load(); n != 7 {
		t.Errorf("an unchanged split went on at %d, want 7", n)
	}
	if two.services["berths"].versions["v1"].turn != one.services["berths"].versions["v1"].turn {
		t.Error("the turn of a pool did not go on")
	}
	three := compile(t, strings.Replace(ferry, "{v1: 50, v2: 50}", "{v1: 60, v2: 40}", 1), one)
	if n := three.route("berths", "even").split.next.Load(); n != 0 {
		t.Errorf("a changed split went on at %d", n)
	}
}

func TestExplain(t *testing.T) {
	e := Explain(ferryTable(t), Entry{Gateway: "front-door"}, get("a.ferry.example", "/"), 0)
	var lines []string
	for _, l := range e.Ladders {
		for _, r := range l.Rungs {
			lines = append(lines, fmt.Sprintf("%s %s %s: %s", l.Name, r.Route, r.Result, r.Why))
		}
	}
	want := []string{
		"front-door home taken: path /",
		"front-door kiosk not reached: an earlier route took the request",
		"front-door straight not reached: an earlier route took the request",
		`sailings crew-first skipped: expected header x-crew is "yes", found none`,
		"sailings timetable taken: path /sailings/**, method GET|HEAD",
		"sailings night not reached: an earlier route took the request",
		"sailings moved not reached: an earlier route took the request",
		"sailings writes not reached: an earlier route took the request",
	}
	if !slices.Equal(lines, want) {
		t.Errorf("got\n%s", strings.Join(lines, "\n"))
	}
	if len(e.Odds) != 2 || e.Odds[0].Share != 0.85 || e.Odds[1].Version != "v2" || e.Path != "/sailings/today" {
		t.Errorf("odds %+v, path %s", e.Odds, e.Path)
	}
	if s := e.Settings[0]; s.Value != "1s" || s.Origin.Line == 0 {
		t.Errorf("setting %+v", s)
	}
	plain := Explain(ferryTable(t), Entry{}, get("berths", "/"), 0)
	if plain.Refusal != nil || len(plain.Odds) != 2 || plain.Odds[0].Instances != 2 {
		t.Errorf("berths: %+v", plain)
	}
}

func TestMatchDoesNotAllocate(t *testing.T) {
	table := ferryTable(t)
	a := get("sailings", "/berth/4", "Cookie: a=b; berth=night-7")
	var x Exchange
	if n := testing.AllocsPerRun(100, func() {
		x.Begin(table, Entry{}, a, 0)
		x.Next(Outcome{Status: 200}, 1)
	}); n != 0 {
		t.Errorf("a request that succeeds allocates %v times", n)
	}
}

// ladders are shapes of rules with one service: the routes by number, and a
// request that a route takes.
var ladders = []struct {
	name  string
	route func(i int) string
	ask   func(i int) *ask
}{
	{"path", func(i int) string {
		return fmt.Sprintf("when: {path: /quay%d/ferry/line%d/**, method: [GET, HEAD]}", i%50, i)
	}, func(i int) *ask { return get("s", fmt.Sprintf("/quay%d/ferry/line%d/berths/7", i%50, i)) }},
	{"star", func(i int) string { return fmt.Sprintf("when: {path: /quay/*/line%d/*}", i) }, func(i int) *ask { return get("s", fmt.Sprintf("/quay/north/line%d/7", i)) }},
	{"header", func(i int) string { return fmt.Sprintf("when: {path: /board/**, headers: {x-terminal: t%d}}", i) },
		func(i int) *ask { return get("s", "/board/today", fmt.Sprintf("X-Terminal: t%d", i)) }},
	{"host", func(i int) string { return fmt.Sprintf("when: {host: quay%d.ferry.example}", i) }, func(i int) *ask { return get(fmt.Sprintf("quay%d.ferry.example", i), "/") }},
	{"regex", func(i int) string { return fmt.Sprintf("when: {path: {regex: \"/line%d/[0-9]+\"}}", i) }, func(i int) *ask { return get("s", fmt.Sprintf("/line%d/7", i)) }},
}

func benchTable(b *testing.B, routes, shape int) (*Table, []*ask) {
	var doc strings.Builder
	doc.WriteString("services:\n  s:\n    versions: [v1, v2]\n    routes:\n")
	var asks []*ask
	for i := range routes {
		fmt.Fprintf(&doc, "    - {name: r%d, send: {v1: 85, v2: 15}, %s}\n", i, ladders[shape].route(i))
		if i%97 == 0 {
			asks = append(asks, ladders[shape].ask(i))
		}
	}
	return compile(b, doc.String(), nil, crowd("s/v1", "s/v2")...), asks
}

func BenchmarkMatch(b *testing.B) {
	for shape, l := range ladders {
		for _, n := range []int{100, 1_000, 10_000} {
			b.Run(fmt.Sprintf("%s-%d", l.name, n), func(b *testing.B) {
				table, asks := benchTable(b, n, shape)
				s := table.services["s"]
				b.ReportAllocs()
				for i := 0; b.Loop(); i++ {
					if rt, _ := s.ladder.match(asks[i%len(asks)], asks[i%len(asks)].path); rt == nil {
						b.Fatal("no match")
					}
				}
			})
		}
	}
}

func BenchmarkExchange(b *testing.B) {
	table, asks := benchTable(b, 1000, 0)
	var x Exchange
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		x.Begin(table, Entry{}, asks[i%len(asks)], 0)
		x.Next(Outcome{Status: 200}, 1)
	}
}

// mesh is rules of services with five routes each.
func meshText(services int) string {
	var doc strings.Builder
	doc.WriteString("services:\n")
	for i := range services {
		fmt.Fprintf(&doc, "  service-%d:\n    owner: team-%d\n    labels: {tier: t%d}\n    versions: [v1, v2]\n    timeout: 3s\n    routes:\n", i, i%40, i%5)
		fmt.Fprintf(&doc, "      - name: crew-first\n        when: {headers: {x-crew: \"yes\"}}\n        send: v2\n")
		fmt.Fprintf(&doc, "      - name: reads\n        labels: {kind: read}\n        when:\n          - {path: /things/**, method: [GET, HEAD]}\n          - {path: /list}\n        send: {v1: 85, v2: 15}\n        timeout: 2s\n")
		fmt.Fprintf(&doc, "      - name: old-links\n        when: {path: /old/**}\n        redirect: {path: /things/**, status: 308}\n")
		fmt.Fprintf(&doc, "      - name: neighbour\n        when: {path: /next/*/x, cookies: {berth: {prefix: a}}}\n        send: service-%d/v1\n        limit: {rate: 30/m, per: [\"header:x-terminal\"]}\n", (i+1)%services)
		fmt.Fprintf(&doc, "      - name: rest\n        send: v1\n")
	}
	doc.WriteString("policies:\n  patient:\n    for: {labels: {kind: read, tier: t1}}\n    retry: {times: 1, on: [unreachable, 503]}\n")
	return doc.String()
}

func BenchmarkCheck(b *testing.B) {
	files := []rules.File{{Name: "mesh.yaml", Text: meshText(2000)}}
	b.SetBytes(int64(len(files[0].Text)))
	b.ReportAllocs()
	for b.Loop() {
		if rs, found := rules.Check(files, rules.Live{}); rules.Mistakes(found) > 0 || len(rs.Services) != 2000 {
			b.Fatal(found[0].Text())
		}
	}
}

func BenchmarkCompile(b *testing.B) {
	rs, _ := rules.Check([]rules.File{{Name: "mesh.yaml", Text: meshText(2000)}}, rules.Live{})
	var words []string
	for i := range 2000 {
		words = append(words, fmt.Sprintf("service-%d/v1", i), fmt.Sprintf("service-%d/v2", i))
	}
	instances := crowd(words...)
	var table *Table
	b.ReportAllocs()
	for b.Loop() {
		var err error
		if table, err = Compile(rs, instances, Options{Previous: table}); err != nil {
			b.Fatal(err)
		}
	}
}
