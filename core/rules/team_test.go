package rules

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

const platform = `teams:
  timetable:
    bundles: [timetable]
    services: [sailings, berths]
    offers: [sailings]
    uses: [tides]
    gateways: {front-door: {hosts: [tickets.example], paths: [/sailings/**, /berths/*/plan]}}
  money:
    bundles: [money, money-eu]
    services: [fares]
    uses: [sailings]
    gateways: {front-door: {paths: [/fares/**]}}
services: {tides: {versions: [v1]}, kiosk: {versions: [v1]}}
gateways:
  front-door:
    listen: :8080
    hosts: [tickets.example, "*.example"]
    routes:
      - {name: home, when: {path: /}, send: kiosk}
      - team: timetable
      - team: money
      - {name: rest, send: kiosk}
`

const timetable = `services:
  sailings: {versions: [v1], labels: {kind: read}, routes: [{name: all, send: {v1: 50, tides/v1: 50}}]}
  berths: {versions: [v1]}
gateways:
  front-door:
    routes:
      - {name: today, when: {path: /sailings/today}, send: sailings}
      - {name: crew, when: [{headers: {x-crew: "yes"}}, {path: /sailings/**, host: tickets.example}], send: sailings}
      - {name: regex, when: {path: {regex: "/.*plan"}}, send: sailings}
      - {name: sailings, send: sailings}
`

const money = `services: {fares: {versions: [v1], routes: [{name: all, send: v1}]}}
gateways: {front-door: {routes: [{name: fares, send: fares}]}}
access: {rules: [{name: fares, from: [{team: timetable}], to: [{team: money}], allow: all}]}
`

func checkTeams(main, timetable, money string) (*Rules, []Finding) {
	return Check([]File{{"main.yaml", main}, {"money:money.yaml", money}, {"timetable:t.yaml", timetable}}, Live{})
}

// TestTeamsJoin: the routes of teams stand where the platform has their places, and take
// nothing but their part; services of a team may send where it may, and no further.
func TestTeamsJoin(t *testing.T) {
	rs, found := checkTeams(platform, timetable, money)
	if Mistakes(found) > 0 {
		t.Fatalf("%v", found)
	}
	var ladder []string
	for _, rt := range rs.Gateway("front-door").Routes {
		when := describeAll(rt.When, " OR ")
		ladder = append(ladder, strings.TrimSpace(rt.Name+"@"+rt.Team+" "+when))
	}
	want := []string{
		"home@ path /",
		"today@timetable path /sailings/today, host tickets.example",
		`crew@timetable path /sailings/**, host tickets.example, header x-crew is "yes" OR path /berths/*/plan, host tickets.example, header x-crew is "yes" OR path /sailings/**, host tickets.example`,
		"regex@timetable any of (path /sailings/**, host tickets.example; or path /berths/*/plan, host tickets.example), all of (path regex \"/.*plan\")",
		"sailings@timetable path /sailings/**, host tickets.example OR path /berths/*/plan, host tickets.example",
		"fares@money path /fares/**",
		"rest@",
	}
	if !slices.Equal(ladder, want) {
		t.Errorf("the ladder:\n%s\nwant\n%s", strings.Join(ladder, "\n"), strings.Join(want, "\n"))
	}
	for name, want := range map[string]string{"sailings": "[berths sailings tides] true", "fares": "[fares sailings] true", "kiosk": "[] false"} {
		names, isLimited := rs.Service(name).MayCall()
		if got := fmt.Sprint(names, " ", isLimited); got != want {
			t.Errorf("%s may call %s, want %s", name, got, want)
		}
	}
	if state, _ := rs.Permission(Link{From: "berths", To: "fares"}); state != Permitted {
		t.Errorf("a party that is a team: %s", state)
	}
	changes := Diff(rs, func() *Rules {
		after, _ := checkTeams(strings.Replace(platform, "offers: [sailings]", "offers: [sailings, berths]", 1), timetable, money)
		return after
	}())
	if len(changes) != 1 || changes[0].Path != "teams.timetable.offers" || changes[0].After != "sailings, berths" {
		t.Errorf("a difference between teams: %+v", changes)
	}
}

// TestTeamPolicies: a policy in the bundle of a team is for its services and routes alone,
// whoever else has the labels.
func TestTeamPolicies(t *testing.T) {
	of := func(main, team string) (*Rules, *Resolver, []Finding) {
		rs, found := checkTeams(main, team, money)
		return rs, NewResolver(rs), found
	}
	main := strings.Replace(platform, "kiosk: {versions: [v1]}", "kiosk: {versions: [v1], labels: {kind: read}}", 1)
	team := timetable + "policies: {ours: {for: {labels: {kind: read}}, timeout: 2s}}\n"
	rs, v, found := of(main, team)
	if Mistakes(found) > 0 {
		t.Fatal(found)
	}
	if s := v.Service(rs.Service("sailings")); s.Timeout == nil || s.Timeout.Value.Seconds() != 2 {
		t.Errorf("its own service: %+v", s.Timeout)
	}
	if s := v.Service(rs.Service("kiosk")); s.Timeout != nil {
		t.Errorf("a service of the platform with the labels: %+v", s.Timeout)
	}
	main += "policies: {all: {for: {labels: {kind: read}}, timeout: 3s}}\n"
	if _, _, found = of(main, team); Mistakes(found) != 1 || found[0].Code != CodePolicyConflict {
		t.Errorf("two for one service: %v", found)
	}
	if _, _, found = of(main, strings.Replace(team, "labels: {kind: read}, routes", "routes", 1)); Mistakes(found) != 1 || found[0].Code != CodeUnknownLabels {
		t.Errorf("labels that only others have: %v", found)
	}
}

// TestTeamsAreHeldTo: each bundle is held to what the platform says, with the line that
// says so.
func TestTeamsAreHeldTo(t *testing.T) {
	for _, c := range []struct {
		name             string
		main, team, more string // replaced in the platform's and the team's file, as "a -> b"; added to the team's
		code             Code
		at, also, words  string
	}{
		{"a service of another team", "", "", "services: {fares: {}}", CodeNotYours, "timetable:t.yaml", "main.yaml:10", "service fares is of team money"},
		{"a service of nobody", "", "  berths: {versions: [v1]} -> \n  tide-tables: {}", "", CodeNotYours, "timetable:t.yaml", "main.yaml:4", "is not of team timetable"},
		{"a service of a team in main", "kiosk: {versions: [v1]} -> kiosk: {versions: [v1]}, berths: {}", "  berths: {versions: [v1]} -> ", "", CodeNotYours, "main.yaml:13", "main.yaml:4", "bundle timetable"},
		{"a target that is not offered", "offers: [sailings] -> offers: []", "", "", CodeNotOffered, "main.yaml:11", "main.yaml:5", "does not offer it to team money"},
		{"a target that it does not use", "", "tides/v1: 50 -> kiosk/v1: 50", "", CodeNotOffered, "timetable:t.yaml:2", "main.yaml:6", "may not send to service kiosk"},
		{"a mirror that is not offered", "", "v1: 50, tides/v1: 50} -> v1: 100}, mirror: {to: fares/v1, share: 1%}", "", CodeNotOffered, "timetable:t.yaml:2", "main.yaml:8", "service fares is of team money"},
		{"calls that are not offered", "", "berths: {versions: [v1]} -> berths: {versions: [v1], calls: [kiosk]}", "", CodeNotOffered, "timetable:t.yaml:3", "main.yaml:6", "kiosk"},
		{"a gateway route that is not offered", "", "path: /sailings/today}, send: sailings -> path: /sailings/today}, send: fares", "", CodeNotOffered, "timetable:t.yaml:7", "main.yaml:8", "fares"},
		{"a gateway of its own", "", "    routes:\n      - {name: today -> listen: :9, hosts: [b.example], routes: [{name: x, send: sailings}]", "", CodeNotYours, "", "", ""},
		{"a host of the gateway", "", "    routes: ->     hosts: [b.example]\n    routes:", "", CodeNotYours, "timetable:t.yaml:6", "main.yaml:2", "its routes alone"},
		{"a path of others", "", "/sailings/today -> /fares/today", "", CodeNotYours, "timetable:t.yaml:7", "main.yaml:7", "may not route at gateway"},
		{"a host of others", "", "host: tickets.example -> host: boats.example", "", CodeNotYours, "timetable:t.yaml:8", "main.yaml:7", "route crew"},
		{"a gateway without a part", "    gateways: {front-door: {hosts: [tickets.example], paths: [/sailings/**, /berths/*/plan]}}\n -> ", "", "", CodeNotYours, "timetable:t.yaml:5", "main.yaml:2", "may route nothing"},
		{"a ladder without its place", "      - team: timetable\n -> ", "", "", CodeNotYours, "timetable:t.yaml:5", "main.yaml:15", "has no place for team timetable"},
		{"a name of a route twice", "", "name: today -> name: home", "", CodeDeclaredTwice, "timetable:t.yaml:7", "main.yaml:19", "route home"},
		{"defaults", "", "", "defaults: {timeout: 1s}", CodeNotYours, "timetable:t.yaml", "main.yaml:2", "of the whole mesh"},
		{"a site", "", "", "sites: [north]", CodeNotYours, "timetable:t.yaml", "main.yaml:2", "a site"},
		{"the default of access", "", "", "access: {default: deny}", CodeNotYours, "timetable:t.yaml", "main.yaml:2", "the default of access"},
		{"the mode of access", "", "", "access: {mode: watch}", CodeNotYours, "timetable:t.yaml", "main.yaml:2", "the mode of access"},
		{"access to others", "", "", "access: {rules: [{name: a, to: [fares], allow: all}]}", CodeNotYours, "timetable:t.yaml", "main.yaml:4", "more than services"},
		{"access to all", "", "", "access: {rules: [{name: a, from: [kiosk], allow: all}]}", CodeNotYours, "timetable:t.yaml", "main.yaml:4", "more than services"},
		{"access by labels", "", "", "access: {rules: [{name: a, to: [{labels: {kind: read}}], allow: all}]}", CodeNotYours, "timetable:t.yaml", "main.yaml:4", "more than services"},
		{"teams", "", "", "teams: {pirates: {services: [fares]}}", CodeNotYours, "timetable:t.yaml", "", "bundle timetable cannot say"},
		{"a drill of others", "", "", "trials: {t: {load: [{to: sailings, rate: 1/s}], for: 5s, drill: {service: fares, fail: 1%}, expect: [success >= 1%]}}", CodeNotYours, "timetable:t.yaml", "main.yaml:4", "the drill"},
		{"a load as others", "", "", "trials: {t: {load: [{from: kiosk, to: sailings, rate: 1/s}], for: 5s, expect: [success >= 1%]}}", CodeNotYours, "timetable:t.yaml", "main.yaml:4", "sends as kiosk"},
		{"a load on others", "", "", "trials: {t: {load: [{to: fares, rate: 1/s}], for: 5s, expect: [success >= 1%]}}", CodeNotOffered, "timetable:t.yaml", "main.yaml:8", "fares"},
		{"a release of others", "kiosk: {versions: [v1]} -> kiosk: {versions: [v1, v2], routes: [{name: all, send: v1}]}", "", "releases: {r: {service: kiosk, from: v1, to: v2, stages: 100%}}", CodeNotYours, "timetable:t.yaml", "main.yaml:4", "release r"},
		{"offers of others", "offers: [sailings] -> offers: [sailings, fares]", "", "", CodeBadValue, "main.yaml:5", "", "not its own"},
		{"a service of two teams", "services: [fares] -> services: [fares, berths]", "", "", CodeDeclaredTwice, "main.yaml:10", "main.yaml:4", "berths"},
		{"a bundle of two teams", "bundles: [money, money-eu] -> bundles: [money, timetable]", "", "", CodeDeclaredTwice, "main.yaml:9", "main.yaml:3", "timetable"},
		{"the bundle of the platform", "bundles: [timetable] -> bundles: [timetable, main]", "", "", CodeBadValue, "main.yaml:2", "", "platform"},
		{"a place of nobody", "team: money -> team: mony", "", "", CodeUnknownTeam, "main.yaml:21", "", "mony"},
		{"a place with more", "team: money -> {team: money, name: x}", "", "", CodeBadValue, "main.yaml:21", "", "nothing else"},
		{"a place in a service", "", "berths: {versions: [v1]} -> berths: {versions: [v1], routes: [{team: money}]}", "", CodeBadValue, "timetable:t.yaml:3", "", "one team's"},
		{"a party of nobody", "", "", "access: {rules: [{name: a, from: [{team: pirates}], to: [sailings], allow: all}]}", CodeUnknownTeam, "timetable:t.yaml", "", "pirates"},
		{"a gateway of nobody", "gateways: {front-door: {paths -> gateways: {back-door: {paths", "", "", CodeUnknownService, "main.yaml:12", "", "back-door"},
	} {
		edit := func(text, change string) string {
			a, b, isChange := strings.Cut(change, " -> ")
			if !isChange {
				return text
			}
			if !strings.Contains(text, a) {
				t.Fatalf("%s: there is no %q", c.name, a)
			}
			return strings.Replace(text, a, b, 1)
		}
		team := edit(timetable, c.team)
		if c.at == "" {
			team = "gateways: {side-door: {listen: :9, hosts: [b.example], routes: [{name: x, send: sailings}]}}\nservices: {sailings: {}}\n"
			c.at, c.also, c.words = "timetable:t.yaml:1", "main.yaml:2", "may not open gateway"
		} else if strings.HasPrefix(c.more, "services:") {
			team = c.more
		} else {
			team += c.more + "\n"
		}
		_, found := checkTeams(edit(platform, c.main), team, money)
		isThere := slices.ContainsFunc(found, func(f Finding) bool {
			also := ""
			if f.Also != nil {
				also = f.Also.String()
			}
			return f.Code == c.code && f.Severity == Mistake && strings.HasPrefix(f.At.String(), c.at) && strings.HasPrefix(also, c.also) &&
				strings.Contains(f.Message+" "+f.Expected, c.words)
		})
		if !isThere {
			t.Errorf("%s: no %s at %s, also at %s, saying %q in\n%+v", c.name, c.code, c.at, c.also, c.words, found)
		}
	}
}

// TestPathsMeet: whether a path can be one of both.
func TestPathsMeet(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"/a/**", "/a/b", true}, {"/a/**", "/a", true}, {"/a/**", "/b", false}, {"/a/*", "/a/b", true}, {"/a/*", "/*/b", true}, {"/a/*", "/a/b/c", false},
		{"/**", "/x", true}, {"/", "/", true}, {"/", "/a", false}, {"/a/*/c", "/a/b/**", true}, {"/a/*/c", "/b/**", false},
	} {
		if pathsMeet(c.a, c.b) != c.want || pathsMeet(c.b, c.a) != c.want {
			t.Errorf("%s and %s: want %v", c.a, c.b, c.want)
		}
	}
}
