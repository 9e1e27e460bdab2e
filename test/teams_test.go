package test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"nightjar/api/model"
	"nightjar/client"
	"nightjar/standin"
)

// TestTeams: the ferry line as three teams. A team routes its part of the front door; a
// route to what is not offered is refused with the line that says so, until the platform
// offers it; requests go on meanwhile. In the terminal and in the console each sees and
// changes what is theirs.
func TestTeams(t *testing.T) {
	t.Parallel()
	m := startQuickDemo(t)
	dir := t.TempDir()
	text := func(bundle string) string { return read(t, "../examples/teams/"+bundle+"/rules.yaml") }
	gateway, outside := m.addresses()
	main := strings.NewReplacer("127.0.0.1:7680", gateway, "127.0.0.1:7690", outside).Replace(text("main"))
	for _, b := range []string{"front", "money", "timetable", "main"} {
		content := text(b)
		if b == "main" {
			content = main
		}
		write(t, makeDir(t, dir, b), "rules.yaml", content)
	}
	all := []string{dir + "/main", dir + "/timetable", dir + "/money", dir + "/front"}
	if out := m.must(0, append([]string{"rules", "check", "--bundles"}, all...)...); !strings.Contains(out, "0 mistakes") {
		t.Fatal(out)
	}
	if _, errs, code := runIn(t, "", "rules", "check", "--bundles", dir); code != 2 || !strings.Contains(errs, "name each bundle's directory") {
		t.Errorf("a directory of bundles: %d %s", code, errs)
	}
	m.must(0, append([]string{"rules", "publish", "--bundles", "-m", "three teams"}, all...)...)
	invite := func(name, team string) string {
		return strings.TrimSpace(m.must(0, "token", "create", name, "--role", "editor", "--team", team))
	}
	tim, mona := invite("tim", "timetable"), invite("mona", "money")
	as := func(token string, want int, args ...string) string {
		t.Helper()
		out, errs, code := runAs(m.t, token, "", append(args, "--server", m.web)...)
		if code != want {
			m.t.Errorf("nightjar %v: exit %d, want %d: %s%s", args, code, want, out, errs)
		}
		return out + errs
	}
	b := openTab(t, m)
	step := func(name string, f func(t *testing.T)) { t.Run(name, func(t *testing.T) { b.t, m.t = t, t; f(t) }) }

	step("the front door is routed by three bundles", func(t *testing.T) {
		for path, want := range map[string]string{"/sailings/today": "sailings/", "/fares/7": "fares/", "/": "kiosk/home", "/tides/now": "tides/"} {
			r := m.call(50, "http://tickets.ferry.example"+path) // a workload of the sample may fail one
			if r.Reasons["denied"] > 0 || r.Success < 0.8 || len(r.Routes) == 0 || !strings.HasPrefix(slices.Collect(maps.Keys(r.Routes))[0], want) {
				t.Errorf("%s: %.0f%%, %v, %v", path, 100*r.Success, r.Routes, r.Reasons)
			}
		}
	})
	step("a team publishes and splits its own, and nothing else", func(t *testing.T) {
		as(tim, 0, "split", "sailings", "--route", "timetable", "v1=60", "v2=40")
		as(mona, 0, "rules", "publish", dir+"/money", "--bundle", "money")
		for _, args := range [][]string{
			{"split", "sailings", "--route", "timetable", "v1=60", "v2=40"}, {"rules", "publish", dir + "/main"}, {"rules", "restore", "1"}, {"drill", "start", "--service", "berths", "--fail", "1%", "--for", "5s"},
			{"drill", "start", "--site", "north-quay", "--down", "--for", "5s"}, {"rules", "show", "--effective", "berths"}, {"explain", "GET", "http://berths/"}, {"doctor"}, {"call", "http://berths/", "-n", "1"},
		} {
			if out := as(mona, 4, args...); !strings.Contains(out, "mona is of team money") {
				t.Errorf("%v: %s", args, out)
			}
		}
		if out := as(mona, 0, "services"); strings.Contains(out, "berths") || !strings.Contains(out, "fares") {
			t.Errorf("services: %s", out)
		}
		if out := as(tim, 0, "links"); !strings.Contains(out, "kiosk") || strings.Contains(out, "fares") {
			t.Errorf("links: %s", out)
		}
		if out := as(tim, 0, "who"); !strings.Contains(out, "editor of team timetable") {
			t.Errorf("who: %s", out)
		}
	})
	step("what is not offered fails at the check, with the line that says so", func(t *testing.T) {
		deck := strings.Replace(text("money"), "      - {name: fares, send: fares}", "      - {name: decks, when: {path: /fares/decks}, send: berths}\n      - {name: fares, send: fares}", 1)
		file := write(t, makeDir(t, dir, "deck"), "rules.yaml", deck)
		check := []string{"rules", "check", file, "--bundle", "money"}
		if out := as(mona, 1, check...); !strings.Contains(out, "not-offered") || !strings.Contains(out, "main/rules.yaml:8") || !strings.Contains(out, "does not offer it to team money") {
			t.Errorf("check: %s", out)
		}
		as(mona, 1, "rules", "publish", file, "--bundle", "money")
		offered := strings.NewReplacer("offers: [sailings]  ", "offers: [sailings, berths]", "    services: [fares]", "    services: [fares]\n    uses: [berths]").Replace(main)
		write(t, dir+"/main", "rules.yaml", offered)
		m.must(0, "rules", "publish", dir+"/main")
		allowed := strings.Replace(text("timetable"), "from: [sailings], to: [berths]", "from: [sailings, gateway/front-door], to: [berths]", 1)
		as(tim, 0, "rules", "publish", write(t, makeDir(t, dir, "open"), "rules.yaml", allowed), "--bundle", "timetable")
		as(mona, 0, "rules", "publish", file, "--bundle", "money")
		if r := m.call(50, "http://tickets.ferry.example/fares/decks"); r.Failed > 0 {
			t.Errorf("after it was offered: %d failed, %v", r.Failed, r.Reasons)
		}
		if out := as(mona, 0, "services"); !strings.Contains(out, "berths") {
			t.Errorf("services: %s", out)
		}
	})
	step("no page asks for what a team may not have", func(t *testing.T) {
		b.signIn(clientOf(t, m.web, client.Token(tim)))
		for _, page := range []string{"/", "/services", "/services/sailings", "/services/berths?tab=activity", "/gateways/front-door", "/requests", "/traces", "/rules", "/releases", "/drills", "/try", "/effects", "/trials", "/forecast", "/access", "/fleet", "/activity", "/people"} {
			b.visit(page)
			b.until("document.querySelector('main')?.innerText.length > 20")
			// What the page asked for has been asked when this is answered.
			b.until("(window.asked ??= fetch('/api/v1/who').then(() => window.isAnswered = true), window.isAnswered)")
			if b.now("/not theirs|for no team|whole mesh: ask/.test(document.querySelector('main').innerText)") {
				t.Errorf("%s shows a refusal", page)
			}
		}
		b.visit("/effects")
		b.says("[data-test=headline]", "Figures of what you see")
		b.says("[data-test=effect]", "Service ")
		b.until("document.querySelector('[data-test=effect] [data-test=history] path')")
		refused := m.must(0, "activity", "--what", "refused", "--who", "tim")
		if strings.Contains(refused, "tim ") {
			t.Errorf("the console asked in vain:\n%s", refused)
		}
	})
	step("the console shows a team its part", func(t *testing.T) {
		made := clientOf(t, m.web, client.Token(mona))
		b.signIn(made)
		b.visit("/services")
		b.says("main", "fares")
		if b.now("document.querySelector('main').innerText.includes('kiosk')") {
			t.Error("it shows services of others")
		}
		b.visit("/services/fares?tab=routes")
		b.until("document.querySelector('[data-test=handle-0]')")
		b.visit("/services/berths?tab=routes")
		b.until("document.querySelector('[data-test=route-all]')")
		if b.now("document.querySelector('[data-test=handle-0]')") {
			t.Error("weights of another team can be moved")
		}
		b.visit("/rules")
		b.until("document.querySelector('.cm-content')?.innerText.includes('The bundle of team money')")
		b.visit("/gateways/front-door?tab=routes")
		b.says("[data-test=team-decks]", "of team money")
		b.signIn(m.api)
		b.visit("/people")
		b.click("new-token")
		b.enter("[data-test=token-name]", "nils")
		b.enter("[data-test=token-teams]", "money, timetable")
		b.click("token-make")
		b.says("[data-test=made-token]", "nightjar-token-")
		b.click("token-close")
		l, err := m.api.AccessTokens(t.Context())
		if err != nil || fmt.Sprint(l.Tokens[0].Teams) != "[money timetable]" {
			t.Errorf("%+v, %v", l.Tokens, err)
		}
		if _, err := m.api.CreateAccessToken(t.Context(), model.AccessTokenRequest{Name: "boss", Role: "admin", Teams: []string{"money"}}); err == nil {
			t.Error("an admin of a team")
		}
	})
}

func read(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func makeDir(t *testing.T, dir, name string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(path, 0o755); err != nil {
		t.Fatal(err)
	}
	return path
}

// addresses are those of the sample's gateway and of what is outside of its mesh.
func (m *mesh) addresses() (gateway, outside string) {
	m.t.Helper()
	gateway, outside, err := standin.Ports(m.addr)
	if err != nil {
		m.t.Fatal(err)
	}
	return gateway, outside
}
