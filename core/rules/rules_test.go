package rules

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

const sample = `# the timetable
services:
  sailings:
    owner: timetable-team
    versions: [v1, v2, v3]
    timeout: 3s
    routes:
      - name: crew-first
        when: {headers: {x-crew: "yes"}}
        send: v3
      - name: timetable # read by all
        when:
          - {path: /sailings/**, method: [GET, HEAD]}
          - {path: /timetable}
        send: {v1: 85, v2: 15}   # shifting
        timeout: 2s
      - name: rest
        send:
          v1: 99.5
          berths/v2: 0.5
  berths:
    versions: [v1, v2]
gateways:
  front-door:
    listen: ":8080"
    hosts: [Tickets.Ferry.Example., "*.ferry.example"]
    routes:
      - {name: home, when: {path: /old/**}, rewrite: {path: /board/**}, send: sailings}
`

// one checks a single file and returns its findings as line:col code words.
func one(text string) (*Rules, []string) {
	rs, found := Check([]File{{Name: "f", Text: text}}, Live{})
	var out []string
	for _, f := range found {
		out = append(out, fmt.Sprintf("%d:%d %s", f.At.Line, f.At.Col, f.Code))
	}
	return rs, out
}

func TestReadSample(t *testing.T) {
	rs, found := one(sample)
	if len(found) > 0 {
		t.Fatalf("findings: %v", found)
	}
	s := rs.Service("sailings")
	if got := SendText(s.Routes[2].Send, "sailings"); got != "v1 99.5, berths/v2 0.5" {
		t.Errorf("send: %s", got)
	}
	if c := s.Routes[0].When[0].Headers[0]; c.Name != "X-Crew" || c.Values[0] != "yes" {
		t.Errorf("header test: %+v", c)
	}
	g := rs.Gateway("front-door")
	if g.Hosts[0] != "tickets.ferry.example" || g.Routes[0].Send[0] != (Target{Service: "sailings", Weight: Whole, At: Origin{"f", 28, 79}}) {
		t.Errorf("gateway: %+v %+v", g.Hosts, g.Routes[0].Send)
	}
}

func TestMistakes(t *testing.T) {
	service := func(body string) string { return "services:\n  s:\n    versions: [v1, v2]\n    " + body + "\n" }
	route := func(body string) string { return service("routes:\n      - {name: a, " + body + "}") }
	gateway := func(body string) string {
		return service("owner: a") + "gateways: {g: {listen: ':80', hosts: ['*'], " + body + "}}\n"
	}
	deep := strings.Repeat("{a: ", 70) + "1" + strings.Repeat("}", 70)
	bomb := "x: &a [1,1,1,1,1,1,1,1,1,1]\n"
	for c := 'b'; c < 'k'; c++ {
		bomb += fmt.Sprintf("%c: &%c [%s*%c]\n", c, c, strings.Repeat(fmt.Sprintf("*%c,", c-1), 9), c-1)
	}
	for _, c := range []struct{ name, text, want string }{
		{"empty file", "", ""},
		{"only a comment", "# nothing\n", ""},
		{"BOM and CRLF", "\ufeffservices:\r\n  s:\r\n    versions: [v1]\r\n", ""},
		{"tab", "services:\n\ts: {}\n", "2:1 syntax"},
		{"two documents", "services: {}\n---\nservices: {}\n", "1:1 syntax"},
		{"not UTF-8", "services:\n  s: {owner: \"é\xe9\"}\n", "2:16 syntax"},
		{"UTF-16", "\xfe\xff\x000", "1:1 syntax"},
		{"control character", "services: \x01\n", "1:1 syntax"},
		{"unknown key", "servces: {}\n", "1:1 unknown-key"},
		{"doubled key", "services: {s: {}, s: {}}\n", "1:19 doubled-key"},
		{"list for mapping", "services: [s]\n", "1:11 wrong-type"},
		{"bad service name", "services: {Sail: {}}\n", "1:12 bad-name"},
		{"deep nesting", deep, "1:250 too-large"},
		{"aliases that multiply", bomb, "1:22 too-large"},
		{"an alias within itself", "services: &a [*a]\n", "1:11 too-large"},
		{"timeout without unit", service("timeout: 3"), "4:14 wrong-type"},
		{"timeout below zero", service("timeout: -3s"), "4:14 bad-value"},
		{"timeout over a day", service("timeout: 25h"), "4:14 bad-value"},
		{"weights 95", route("send: {v1: 80, v2: 15}"), "5:25 weights"},
		{"weights 33.333 three times", "services: {s: {versions: [a, b, c], routes: [{name: r, send: {a: 33.333, b: 33.333, c: 33.333}}]}}", "1:62 weights"},
		{"weights with a thousandth", "services: {s: {versions: [a, b, c], routes: [{name: r, send: {a: 33.333, b: 33.333, c: 33.334}}]}}", ""},
		{"weight 0", route("send: {v1: 100, v2: 0}"), ""},
		{"weight below zero", route("send: {v1: -1, v2: 101}"), "5:30 bad-value 5:38 bad-value"},
		{"weight not a number", route("send: {v1: .nan, v2: 100}"), "5:30 bad-value"},
		{"four decimals", route("send: {v1: 0.0001, v2: 99.9999}"), "5:30 bad-value 5:42 bad-value"},
		{"no target", route("send: {}"), "5:25 missing"},
		{"unknown version", route("send: v9"), "5:25 unknown-version"},
		{"another service by its bare name", route("send: s"), "5:25 unknown-version"},
		{"unknown service", route("send: t/v1"), "5:25 unknown-service"},
		{"the same target twice", route("send: {v1: 50, s/v1: 50}"), "5:34 declared-twice"},
		{"no send, no name", service("routes: [{timeout: 1s}]"), "4:14 missing 4:14 missing"},
		{"route name twice", service("routes: [{name: a, when: {path: /a}, send: v1}, {name: a, send: v1}]"), "4:53 declared-twice"},
		{"trusts too many", gateway("trust-forwarded: 17"), "5:62 bad-value"},
		{"trusts by another field", gateway("trust-forwarded: {proxies: 1, field: x-real-ip}"), "5:82 bad-value"},
		{"keeps what is counted", gateway("trust-forwarded: {proxies: 1, keep: x-forwarded-for}"), "5:81 bad-value"},
		{"a size without unit", gateway("limits: {body: 10}"), "5:60 wrong-type"},
		{"headers over what a hop takes", gateway("limits: {headers: 65KiB}"), "5:63 bad-value"},
		{"slower than built in", gateway("limits: {slow: 11s}"), "5:60 bad-value"},
		{"no audience", gateway("authenticate: {jwt: {issuer: a, keys: b}}"), "5:65 missing"},
		{"keys without TLS", gateway(`authenticate: {jwt: {issuer: a, audience: b, keys: "http://id.example/keys"}}`), "5:96 bad-value"},
		{"keys on this machine", gateway(`authenticate: {jwt: {issuer: a, audience: b, keys: "http://127.0.0.1:9/keys"}}`), ""},
		{"optional and required", gateway("authenticate: {jwt: {issuer: a, audience: b, keys: k, optional: true, require: {c: d}}}"), "5:115 bad-value"},
		{"a field of the mesh from a claim", gateway("authenticate: {jwt: {issuer: a, audience: b, keys: k, fields: {nightjar-caller: sub}}}"), "5:108 bad-value"},
		{"claims where nobody asks", gateway("routes: [{name: a, when: {claims: {g: crew}}, send: s}]"), "5:54 bad-value"},
		{"claims where somebody asks", gateway("authenticate: {jwt: {issuer: a, audience: b, keys: k}}, routes: [{name: a, when: {claims: {g: crew}}, send: s}]"), ""},
		{"TLS inside the mesh", service("tls: {name: a}"), "4:10 bad-value"},
		{"a certificate without its key", "services: {s: {versions: [v1], tls: {cert: a.pem}, instances: [{at: 'https://a', version: v1}]}}", "1:37 missing"},
		{"TLS outside the mesh", "services: {s: {versions: [v1], tls: {authority: a.pem}, instances: [{at: 'https://a', version: v1}]}}", ""},
		{"hosts that nothing declares", "defaults: {outside: deny}", ""},
		{"hosts that nothing declares are let through", "defaults: {outside: allow}", "1:21 bad-value"},
		{"a token inside", route("send: v1, authenticate: none"), "5:43 bad-value"},
		{"no network", route("send: v1, when: {address: ferry}"), "5:45 bad-value"},
		{"a network with bits beyond", route("send: v1, when: {address: 10.0.0.1/8}"), "5:45 bad-value"},
		{"IPv4 in the form of IPv6", route(`send: v1, when: {address: "::ffff:10.0.0.1"}`), "5:45 bad-value"},
		{"an address inside of another", service("routes: [{name: a, when: {address: 10.0.0.0/8}, send: v1}, {name: b, when: {address: [10.1.0.0/16, 10.0.0.7]}, send: v2}]"), "4:64 shadowed"},
		{"an address beside another", service("routes: [{name: a, when: {address: 10.0.0.0/16}, send: v1}, {name: b, when: {address: 10.0.0.0/8}, send: v2}]"), ""},
		{"access by claims", service("") + "access: {rules: [{name: a, to: [s], allow: {any: [{claims: {g: crew}}, {address: 10.0.0.1}]}}]}\n", "5:51 bad-value 5:72 bad-value"},
		{"access by a claim at once", service("") + "access: {rules: [{name: a, to: [s], allow: {claims: {g: crew}}}]}\n", "5:45 unknown-key"},
		{"shadowed", service("routes: [{name: a, send: v1}, {name: b, send: v2}]"), "4:35 shadowed"},
		{"star in the middle", route("send: v1, when: {path: /a/*/b}"), ""},
		{"star in a word", route("send: v1, when: {path: /a/b*/c}"), "5:42 bad-value"},
		{"dots in a path", route("send: v1, when: {path: /a/../b}"), "5:42 bad-value"},
		{"small method", route("send: v1, when: {method: get}"), "5:44 bad-value"},
		{"header with a space", route(`send: v1, when: {headers: {"x crew": a}}`), "5:46 bad-name"},
		{"bad regex", route(`send: v1, when: {headers: {k: {regex: "("}}}`), "5:57 bad-regex"},
		{"empty condition", route("send: v1, when: {}"), "5:35 missing"},
		{"remainder of nothing", route("send: v1, when: {path: /a}, rewrite: {path: /b/**}"), "5:56 bad-value"},
		{"rewrite out of its prefix", route("send: v1, rewrite: {path: /b/../c}"), "5:45 bad-value"},
		{"gateway without anything", "gateways: {g: {}}", "1:12 missing 1:12 missing"},
		{"gateway on no port", "gateways: {g: {listen: ':http', hosts: ['*']}}", "1:24 bad-value"},
		{"host with port", "gateways: {g: {listen: ':80', hosts: ['a:80']}}", "1:39 bad-value"},
		{"host of two gateways", "gateways: {g: {listen: ':80', hosts: [a]}, h: {listen: ':80', hosts: [A]}}", "1:44 declared-twice"},
		{"no condition of a group", route("send: v1, when: {any: []}"), "5:41 wrong-type"},
		{"a group that is no list", route("send: v1, when: {all: {path: /a}}"), "5:41 wrong-type"},
		{"a test of nothing", route("send: v1, when: {query: {}}"), "5:43 missing"},
		{"a query by any name", route(`send: v1, when: {query: {"a b[]": x}}`), ""},
		{"in an empty list", route("send: v1, when: {query: {a: {in: []}}}"), "5:52 missing"},
		{"a test turned round twice", route("send: v1, when: {query: {a: {not: {not: x}}}}"), "5:54 unknown-key"},
		{"an unknown caller", route("send: v1, when: {from: kisok}"), "5:35 unknown-service"},
		{"an unknown site, deep inside", route("send: v1, when: {any: [{not: {site: north}}]}"), "5:48 unknown-site"},
		{"path expression", route(`send: v1, when: {path: {regex: "/a/[0-9]+"}}`), ""},
		{"path without its expression", route(`send: v1, when: {path: {}}`), "5:42 missing"},
		{"an expression that repeats too much", route(`send: v1, when: {path: {regex: "(((a{30}){30}){30})"}}`), "5:50 bad-regex"},
		{"a condition that could not be read shadows nothing", service("routes: [{name: a, send: v1, when: {headers: {k: {regex: '('}}}}, {name: b, send: v2, when: {path: /b}}]"), "4:62 bad-regex"},
		{"an expression that grows too large", route(`send: v1, when: {headers: {k: {regex: "(abcdefghijklm){999}"}}}`), "5:57 too-large"},
		{"dots in disguise", route("send: v1, when: {path: /a/%2E./b}"), "5:42 bad-value"},
		{"a host with its port", route("send: v1, when: {host: 'a.example:80'}"), "5:42 bad-value"},
		{"two ends", route("send: v1, reply: {status: 200}"), "5:29 bad-value"},
		{"what goes with sending alone", route("reply: {status: 200}, mirror: {to: v1}, retry: {times: 1}"), "5:41 bad-value 5:59 bad-value"},
		{"a reply without a status", route("reply: {body: x}"), "5:26 missing"},
		{"a body where none can be", route("reply: {status: 204, body: x}"), "5:40 bad-value"},
		{"a redirect in a circle", route("redirect: {status: 301}"), "5:29 missing"},
		{"a redirect that is none", route("redirect: {path: /x, status: 304}"), "5:48 bad-value"},
		{"a redirect that keeps nothing", route("redirect: {path: /x/**}"), "5:29 bad-value"},
		{"a line break in a header", route(`send: v1, headers: {request: {set: {x-a: "b\nc"}}}`), "5:60 bad-value"},
		{"a header of the connection", route("send: v1, headers: {request: {remove: transfer-encoding}}"), "5:57 bad-value"},
		{"a header of the mesh", route("send: v1, headers: {response: {set: {nightjar-reason: x}}}"), "5:56 bad-value"},
		{"the host as a header", route("send: v1, headers: {request: {set: {Host: x}}}"), "5:55 bad-value"},
		{"a header with a space", route(`send: v1, headers: {request: {set: {"x a": b}}}`), "5:55 bad-name"},
		{"a fault without harm", route("send: v1, fault: {share: 10%}"), "5:36 missing"},
		{"a limit without a unit", route("send: v1, limit: {rate: 30}"), "5:43 wrong-type"},
		{"a limit of half a request", route("send: v1, limit: {rate: 0.5/s}"), "5:43 bad-value"},
		{"a limit for nobody", route("send: v1, limit: {rate: 1/s, per: user}"), "5:53 bad-value"},
		{"stick to an unnamed cookie", route("send: v1, stick: {by: 'cookie:'}"), "5:41 bad-value"},
		{"otherwise nowhere", route("send: v1, otherwise: v9"), "5:40 unknown-version"},
		{"a mirror without a version", route("send: v1, mirror: {to: s}"), "5:42 unknown-version"},
		{"a target at a site that is not there", route("send: v1@south"), "5:25 unknown-site"},
		{"a target at a place without a name", route("send: v1@"), "5:25 bad-name"},
		{"retry on a status that is none", route("send: v1, retry: {times: 1, on: [reset, 600]}"), "5:59 bad-value"},
		{"retry on a word that is none", route("send: v1, retry: {times: 1, on: unreachble}"), "5:51 bad-value"},
		{"retry backwards", route("send: v1, retry: {times: 1, wait: 2s..1s}"), "5:53 bad-value"},
		{"retry without end", route("send: v1, retry: {times: 11}"), "5:44 bad-value"},
		{"a guard with a queue for nothing", service("guard: {waiting: 3}"), "4:13 missing"},
		{"a breaker that never opens", service("guard: {breaker: {least: 3}}"), "4:22 missing"},
		{"slow without a time", service("guard: {breaker: {slow: 80%}}"), "4:29 bad-value"},
		{"balance by a word", service("balance: sometimes"), "4:14 bad-value"},
		{"balance by nothing", service("balance: 'hash:header'"), "4:14 bad-value"},
		{"failover to a site twice", "sites: [a]\nservices: {s: {failover: {order: [same, a, a]}}}", "2:44 declared-twice"},
		{"a protocol", service("protocol: udp"), "4:15 bad-value"},
		{"calls of nobody known", service("calls: [ghost]"), "4:12 unknown-service"},
		{"calls twice", service("calls: [s, s]"), "4:16 declared-twice"},
		{"a path of a connection", service("protocol: tcp\n    routes: [{name: a, when: {path: /x}, send: v1}]"), "5:14 bad-value"},
		{"a site twice", "sites: [a, a]", "1:12 declared-twice"},
		{"sites with how they are reached", "sites: {a: {crossing: 'c.example:7443'}, b: {crossing: '[::1]:1'}, c: {reach: direct}, d: {}, e: }", ""},
		{"a crossing without a port", "sites: {a: {crossing: c.example}}", "1:23 bad-value"},
		{"a crossing everywhere", "sites: {a: {crossing: ':7443'}}", "1:23 bad-value"},
		{"a crossing that is a URL", "sites: {a: {crossing: 'http://c:7443'}}", "1:23 bad-value"},
		{"a crossing, and direct", "sites: {a: {crossing: 'c:7443', reach: direct}}", "1:33 bad-value"},
		{"another reach", "sites: {a: {reach: far}}", "1:20 bad-value"},
		{"a policy for nothing", "policies: {p: {timeout: 1s}}", "1:12 missing"},
		{"a policy for labels that nobody has", service("labels: {tier: core}\n") + "policies: {p: {for: {labels: {tier: cor}}, timeout: 1s}}", "6:12 unknown-labels"},
		{"a guard for routes", service("routes: [{name: a, send: v1, labels: {k: x}}]\n") + "policies: {p: {for: {labels: {k: x}}, health: {path: /}}}", "6:47 unknown-labels"},
		{"two policies that contradict", service("labels: {a: x, b: x}\n") + "policies: {p: {for: {labels: {a: x}}, timeout: 1s}, q: {for: {labels: {b: x}}, timeout: 2s}}", "6:53 policy-conflict"},
		{"defaults twice", "defaults: {timeout: 1s}", ""},
		{"caller of a gateway", "services: {s: {}}\ngateways: {g: {listen: ':80', hosts: [a], routes: [{name: a, when: {from: s}, send: s}]}}", "2:68 bad-value"},
		{"half a certificate", "gateways: {g: {listen: ':80', hosts: [a], tls: {cert: a.pem}}}", "1:48 missing"},
		{"a site for a whole service", "sites: [n]\nservices: {s: {}}\ngateways: {g: {listen: ':80', hosts: [a], routes: [{name: a, send: s@n}]}}", "3:68 bad-value"},
		{"access with and without", "access: {rules: [{name: a, allow: all, deny: all}, {name: b}]}", "1:18 missing 1:52 missing 1:52 shadowed"},
		{"access for strangers", "access: {rules: [{name: a, from: [x], allow: all}]}", "1:18 unknown-service"},
		{"a release to itself", "services: {s: {versions: [v1]}}\nreleases: {r: {service: s, from: v1, to: v1, stages: [1%]}}", "2:38 bad-value"},
		{"a release in falling stages", "services: {s: {versions: [v1, v2]}}\nreleases: {r: {service: s, from: v1, to: v2, stages: [5%, 1%], hold-at: [7%]}}", "2:54 bad-value 2:64 bad-value"},
		{"a default of less than all", "services: {s: {versions: [v1, v2]}}\nreleases: {r: {service: s, from: v1, to: v2, stages: [5%], on-success: make-default}}", "2:46 bad-value"},
		{"a load that ends", "services: {s: {versions: [v1, v2]}}\nreleases: {r: {service: s, from: v1, to: v2, stages: [5%], load: {to: s, steps: [1/s, 2/s]}}}", "2:66 bad-value"},
		{"a receiver without a URL", "services: {s: {versions: [v1, v2]}}\nreleases: {r: {service: s, from: v1, to: v2, stages: [5%], notify: {gate: true}}}", "2:68 missing"},
		{"releases one after the other", "services: {s: {versions: [v1, v2, v3]}}\nreleases: {r: {service: s, from: v1, to: v2, stages: [5%]}, q: {service: s, from: v2, to: v3, stages: [5%]}}", ""},
		{"a release of a route that is not there", "services: {s: {versions: [v1, v2]}}\nreleases: {r: {service: s, route: x, from: v1, to: v2, stages: [5%]}}", "2:12 unknown-route"},
		{"two releases of one route", "services: {s: {versions: [v1, v2]}}\nreleases: {r: {service: s, from: v1, to: v2, stages: [5%]}, q: {service: s, from: v1, to: v2, stages: [5%]}}", "2:61 declared-twice"},
		{"what is expected of a trial", "services: {s: {versions: [v1]}}\ntrials: {t: {load: {to: s, rate: 1/s}, expect: [p99 <= 300, sucess > 1%, share(s/v2) = 1%, refused(limted) = 0, p99 = 1s ± 1ms]}}",
			"2:49 bad-value 2:61 bad-value 2:74 unknown-version 2:92 bad-value"},
		{"a drill that harms nobody", "trials: {t: {load: {to: s, rate: 1/s}, drill: {fail: 10%}}}", "1:20 unknown-service 1:47 missing"},
		{"outside instance", service("instances: [{at: 'ftp://x', version: v1}, {at: 'http://h:1', version: v3}]"), "4:22 bad-value 4:47 unknown-version"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if _, got := one(c.text); strings.Join(got, " ") != c.want {
				t.Errorf("got  %q\nwant %q\nin   %.200s", strings.Join(got, " "), c.want, c.text)
			}
		})
	}
}

// TestAllFilesInOneRun: three mistakes in two files come together, in the order
// of the files, with the other place and the nearest name.
func TestAllFilesInOneRun(t *testing.T) {
	_, found := Check([]File{
		{"b.yaml", "services:\n  sailings:\n    versions: [v1, v2]\n    routes:\n      - {when: {path: /a}, name: a, send: {v1: 80, v2: 15}}\n      - {name: b, send: v22}\n"},
		{"a.yaml", "services:\n  sailings: {versions: [v1]}\n"},
	}, Live{})
	var b strings.Builder
	for _, f := range found {
		b.WriteString(f.Text())
	}
	want := `b.yaml:5:43: mistake weights: the weights add to 95, not to 100
      in services.sailings.routes[0].send
    5 |       - {when: {path: /a}, name: a, send: {v1: 80, v2: 15}}
      |                                           ^
      expected weights in percent that add to 100: 5 is missing
b.yaml:6:25: mistake unknown-version: service sailings declares no version v22
      in services.sailings.routes[1].send
    6 |       - {name: b, send: v22}
      |                         ^
      also at b.yaml:2:3
      expected one of v1, v2 (nearest: v2), or add it to versions of sailings
a.yaml:2:3: mistake declared-twice: service sailings is declared twice
      in services.sailings
    2 |   sailings: {versions: [v1]}
      |   ^
      also at b.yaml:2:3
      expected one declaration: remove one of the two
`
	if b.String() != want {
		t.Errorf("got\n%s", b.String())
	}
}

// TestLongLines: what is shown of a long line is the part around the column,
// and a thousand findings in it do not each carry all of it.
func TestLongLines(t *testing.T) {
	var b strings.Builder
	b.WriteString("services: {é: {}")
	for i := range 2000 {
		fmt.Fprintf(&b, ", Bad%d: {}", i)
	}
	b.WriteString("}\r\n")
	_, found := Check([]File{{"f", b.String()}}, Live{})
	total := 0
	for i, f := range found {
		total += len(f.Source)
		lines := strings.Split(f.Text(), "\n")
		caret := strings.IndexByte(strings.TrimPrefix(lines[3], "      | "), '^')
		shown := []rune(strings.TrimPrefix(lines[2], "    1 | "))
		want := "é"
		if i > 0 {
			want = fmt.Sprintf("Bad%d:", i-1)
		}
		if caret < 0 || !strings.HasPrefix(string(shown[caret:]), want) {
			t.Fatalf("finding %d points elsewhere than %s:\n%s", i, want, f.Text())
		}
	}
	if len(found) != 2001 || total > 300_000 {
		t.Errorf("%d findings with %d bytes of source", len(found), total)
	}
}

func TestNoInstanceWarning(t *testing.T) {
	_, found := Check([]File{{"f", sample}}, Live{Known: true, Versions: map[string][]string{"sailings": {"v1", "v2"}, "berths": {"v2"}}})
	if len(found) != 1 || found[0].Code != CodeNoInstance || found[0].Severity != Warning || !strings.Contains(found[0].Message, "sailings/v3") {
		t.Errorf("findings: %+v", found)
	}
}

func TestDiff(t *testing.T) {
	before, _ := one(sample)
	after, found := one(strings.NewReplacer("# the timetable", "# other words", "{v1: 85, v2: 15}", "{v1: 70, v2: 30}",
		"timeout: 3s", "timeout: 3000ms", "        timeout: 2s\n", "", "owner: timetable-team", "labels: {tier: core}").Replace(sample))
	if len(found) > 0 {
		t.Fatal(found)
	}
	var got []string
	for _, c := range Diff(before, after) {
		got = append(got, fmt.Sprintf("%s %s: %s -> %s", c.Kind(), c.Path, c.Before, c.After))
	}
	want := []string{
		"added services.sailings.labels:  -> tier=core",
		"removed services.sailings.owner: timetable-team -> ",
		"changed services.sailings.routes[timetable].send: v1 85, v2 15 -> v1 70, v2 30",
		"removed services.sailings.routes[timetable].timeout: 2s -> ",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s", strings.Join(got, "\n"))
	}
	// A service that comes or goes as a whole is one change, whatever stands
	// beside it in the alphabet.
	both, _ := one("services: {a: {owner: x, versions: [v1]}, a-b: {owner: y}}")
	half, _ := one("services: {a-b: {owner: z}}")
	if c := Condense(Diff(both, half)); len(c) != 2 || c[0].Path != "services.a" || c[1].Path != "services.a-b.owner" {
		t.Errorf("condensed: %+v", c)
	}
	if d := Diff(before, before); len(d) != 0 {
		t.Errorf("rules differ from themselves: %v", d)
	}
}

// TestSetSend changes nothing but the targets, however they were written.
func TestSetSend(t *testing.T) {
	to := []Target{{Service: "s", Version: "v1", Weight: 20000}, {Service: "o", Version: "v2", Weight: 80000}}
	for _, send := range []string{"v1", `"v1"`, "{v1: 85, v2: 15}", "{ v1: 85,   v2: 15  }", "\n          v1: 85\n          v2: 15", "{v1: 85, # most\n          'v2': '15' # few }\n          }"} {
		head := "# é\nservices:\n  s:\n    versions: [v1, v2]\n    routes:\n      - name: a   # first\n        send: "
		tail := " # end\n  o: {versions: [v2]}\n"
		text := head + send + tail
		rs, found := one(text)
		if len(found) > 0 {
			t.Fatalf("%s: %v", send, found)
		}
		files, err := SetSend([]File{{"f", text}}, rs.Services[0].Routes[0], "s", to)
		if err != nil {
			t.Fatalf("%q: %v", send, err)
		}
		after, found := one(files[0].Text)
		if len(found) > 0 || SendText(after.Services[0].Routes[0].Send, "s") != "v1 20, o/v2 80" ||
			!strings.HasPrefix(files[0].Text, strings.TrimSuffix(head, " ")) || !strings.HasSuffix(files[0].Text, tail) {
			t.Errorf("%q became\n%s %v", send, files[0].Text, found)
		}
	}
}

func TestSplitRoute(t *testing.T) {
	rs, _ := one(sample)
	s := rs.Service("sailings")
	if _, err := SplitRoute(s, ""); err == nil || !strings.Contains(err.Error(), "crew-first, timetable, rest") {
		t.Errorf("two routes split: %v", err)
	}
	if rt, err := SplitRoute(s, "rest"); err != nil || rt.Name != "rest" {
		t.Errorf("by name: %v %v", rt, err)
	}
	if _, err := SplitRoute(s, "timetabel"); err == nil || !strings.Contains(err.Error(), "nearest: timetable") {
		t.Errorf("misspelt: %v", err)
	}
	if _, err := SplitRoute(&Service{Name: "x", Routes: []*Route{{Name: "moved", Redirect: &Redirect{}}}}, "moved"); err == nil || !strings.Contains(err.Error(), "has no send") {
		t.Errorf("a route that redirects: %v", err)
	}
	s.Routes = s.Routes[:2]
	if rt, err := SplitRoute(s, ""); err != nil || rt.Name != "timetable" {
		t.Errorf("the one that splits: %v %v", rt, err)
	}
}

// FuzzCheck: no input makes the checker panic, and rules without a mistake
// stay without one when their targets are written anew.
func FuzzCheck(f *testing.F) {
	for _, s := range []string{sample, "a: &x [*x]", "services: {s: {routes: [{name: a, send: {v1: 1e2}}]}}", "{", "- - -", "gateways:\n  g:\n    hosts: [\"*.a\"]"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		files := []File{{"f", text}}
		rs, found := Check(files, Live{Known: true})
		for _, x := range found {
			_ = x.Text()
		}
		if Mistakes(found) > 0 {
			return
		}
		for _, s := range rs.Services {
			for _, rt := range s.Routes {
				if out, err := SetSend(files, rt, s.Name, rt.Send); err == nil {
					again, found := Check(out, Live{})
					if Mistakes(found) > 0 || len(Diff(rs, again)) > 0 {
						t.Fatalf("written anew:\n%s\n%v", out[0].Text, found)
					}
				}
			}
		}
	})
}
