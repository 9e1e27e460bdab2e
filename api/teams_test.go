package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"nightjar/api/model"
	"nightjar/control/people"
	"nightjar/core/rules"
	"nightjar/wire"
)

// twoTeams are the rules of a platform and two teams. The service vault is of one team,
// which does not offer it.
var twoTeams = map[string]string{
	"main": `
teams:
  timetable:
    bundles: [timetable]
    services: [sailings, vault]
    offers: [sailings]
    gateways: {front-door: {paths: [/sailings/**]}}
  money: {bundles: [money], services: [fares], uses: [sailings], gateways: {front-door: {paths: [/fares/**]}}}
services: {tides: {versions: [v1]}}
gateways: {front-door: {listen: "127.0.0.1:1", hosts: ["*"], routes: [{team: timetable}, {team: money}, {name: tides, send: tides}]}}
`,
	"timetable": `
services:
  sailings: {versions: [v1, v2], routes: [{name: all, send: {v1: 50, v2: 50}}]}
  vault: {versions: [v1, v2], routes: [{name: all, send: v1, timeout: 1s, retry: {times: 3, each: 900ms, on: [503]}}]}
gateways: {front-door: {routes: [{name: to-vault, when: {path: /sailings/vault}, send: vault}, {name: sailings, send: sailings}]}}
releases: {vault-to-v2: {service: vault, from: v1, to: v2, stages: [50%, 100%]}}
`,
	"money": `
services: {fares: {versions: [v1, v2], routes: [{name: all, send: {v1: 90, v2: 10}}]}}
gateways: {front-door: {routes: [{name: fares, send: fares}]}}
trials: {rush: {load: [{to: fares, rate: 1/s}], for: 5s, expect: [success >= 1%]}}
`,
}

// asTeam makes a call with a token.
func asTeam(t *testing.T, token, method, url string, in any, lines ...string) (status int, text string) {
	t.Helper()
	body, err := json.Marshal(in)
	if err != nil {
		t.Fatal(err)
	}
	resp, text := ask(t, method, url, string(body), append(lines, "Authorization: Bearer "+token)...)
	return resp.StatusCode, text
}

func files(texts map[string]string, names ...string) map[string]any {
	others := map[string]any{}
	for _, name := range names[1:] {
		others[name] = []map[string]string{{"name": name + ".yaml", "text": texts[name]}}
	}
	return map[string]any{"bundle": names[0], "files": []map[string]string{{"name": names[0] + ".yaml", "text": texts[names[0]]}}, "others": others, "waitMS": 0}
}

// TestTeams: an editor of a team changes what the team owns and nothing else, and no
// answer has a word of what another team does not offer.
func TestTeams(t *testing.T) {
	base, c := serve(t)
	url := base + "/api/v1"
	if r, body := ask(t, "POST", url+"/revisions", string(must(json.Marshal(files(twoTeams, "main", "timetable", "money")))), "If-Match: *"); r.StatusCode != 201 {
		t.Fatal(body)
	}
	invite := func(name, team string, role people.Role) string {
		text, _, err := c.People.CreateToken(t.Context(), people.Wanted{Name: name, Role: role, Teams: []string{team}})
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	tim, mona, vera := invite("tim", "timetable", people.Editor), invite("mona", "money", people.Editor), invite("vera", "money", people.Viewer)
	for _, name := range []string{"vault", "sailings", "fares", "tides"} {
		p := join(t, base, c, wire.Join{ID: name + "-1", Service: name, Version: "v1"})
		if status, body := p.ask("PUT", "", fmt.Sprintf(`{"id":"%s-1","nonce":"1","service":"%[1]s","version":"v1","inbound":"127.0.0.1:9"}`, name)); status != 200 {
			t.Fatal(body)
		}
	}
	draft := map[string]any{"base": 1, "files": []map[string]string{{"name": "timetable.yaml", "text": "services: {vault: {}}"}}}
	split := map[string]any{"route": "all", "weights": []map[string]string{{"target": "v2", "weight": "100"}}, "waitMS": 0}
	secret := func(by string, in map[string]string) map[string]any { return files(in, by) }
	changed := map[string]string{"main": twoTeams["main"] + "\n# changed", "timetable": twoTeams["timetable"] + "\n# changed", "money": twoTeams["money"] + "\n# changed"}
	for _, a := range []struct {
		method, path string
		in           any
		tim, mona    int
	}{
		{"PUT", "/drafts/timetable", draft, 0, 403},
		{"GET", "/drafts/timetable?by=tim", nil, 404, 403},
		{"DELETE", "/drafts/timetable", nil, 204, 403},
		{"PUT", "/drafts/main", draft, 403, 403},
		{"POST", "/rules/check", secret("timetable", changed), 200, 403},
		{"POST", "/rules/check", secret("main", changed), 403, 403},
		{"POST", "/rules/check", files(changed, "timetable", "money"), 403, 403},
		{"POST", "/revisions", secret("timetable", changed), 201, 403},
		{"POST", "/revisions", secret("main", changed), 403, 403},
		{"POST", "/revisions", files(changed, "money", "main"), 403, 403},
		{"POST", "/services/vault/split", split, 201, 403},
		{"POST", "/services/sailings/split", split, 201, 403},
		{"POST", "/revisions/1/restore", map[string]any{"waitMS": 0}, 403, 403},
		{"DELETE", "/bundles/main", nil, 403, 403},
		{"GET", "/services/vault/effective", nil, 200, 403},
		{"GET", "/services/sailings/effective", nil, 200, 200},
		{"POST", "/drills", map[string]any{"service": "vault", "fail": "1%", "for": "60s"}, 201, 403},
		{"DELETE", "/drills/drill-1", nil, 0, 403},
		{"POST", "/drills", map[string]any{"site": "", "fail": "1%", "for": "1s"}, 403, 403},
		{"POST", "/services/vault/instances/vault-1/let-back", nil, 404, 403},
		{"POST", "/releases", map[string]any{"name": "vault-to-v2"}, 422, 403},
		{"POST", "/releases", map[string]any{"name": ""}, 422, 403},
		{"POST", "/trials", map[string]any{"name": "rush"}, 403, 503},
		{"POST", "/trials", map[string]any{"name": "x", "file": []map[string]string{{"name": "x", "text": "trials: {x: {load: [{to: vault, rate: 1/s}], for: 5s, expect: [success >= 1%]}}"}}}, 503, 403},
		{"POST", "/explain", map[string]any{"url": "http://vault/"}, 200, 403},
		{"POST", "/explain", map[string]any{"url": "http://fares/", "from": "vault"}, 403, 403},
		{"POST", "/calls", map[string]any{"url": "http://vault/", "count": 1}, 503, 403},
		{"POST", "/calls", map[string]any{"url": "http://VAULT:80/", "count": 1}, 503, 403},
		{"POST", "/forecasts", map[string]any{"split": map[string]any{"service": "vault", "route": "all", "weights": split["weights"]}}, 422, 403},
		{"GET", "/timeline?service=vault", nil, 200, 403},
		{"GET", "/timeline?parent=vault&route=all", nil, 200, 403},
		{"GET", "/timeline?caller=vault", nil, 200, 403},
		{"GET", "/timeline?service=sailings&caller=fares", nil, 200, 200},
		{"GET", "/timeline?service=sailings&caller=vault", nil, 200, 403},
		{"GET", "/timeline?service=sailings&parent=vault", nil, 200, 403},
		{"GET", "/timeline", nil, 403, 403},
		{"GET", "/doctor", nil, 403, 403},
		{"GET", "/activity/export", nil, 403, 403},
		{"PUT", "/standins/vault~v1", map[string]any{"errors": 0.5}, 422, 403},
	} {
		for who, want := range map[string]int{tim: a.tim, mona: a.mona} {
			if want == 0 {
				continue
			}
			if in, isFiles := a.in.(map[string]any); isFiles && a.path == "/rules/check" {
				delete(in, "waitMS")
			}
			status, body := asTeam(t, who, a.method, url+a.path, a.in, "If-Match: *")
			if status != want && !(want == 422 && (status == 409 || status == 404)) {
				t.Errorf("%s %s %.60v: %d %.200s, want %d", a.method, a.path, a.in, status, body, want)
			}
			if who == mona && status == 403 && !strings.Contains(body, `"code":"team"`) {
				t.Errorf("%s %s: %s", a.method, a.path, body)
			}
		}
	}
	if status, body := asTeam(t, tim, "PUT", url+"/drafts/timetable", draft, `If-Match: "0"`); status != 200 {
		t.Errorf("a draft of its own: %d %s", status, body)
	}
	if status, body := asTeam(t, vera, "POST", url+"/services/fares/split", split, "If-Match: *"); status != 403 || !strings.Contains(body, `"code":"role"`) {
		t.Errorf("a viewer of the team: %d %s", status, body)
	}

	// A mistake that it makes elsewhere is said, without the text of others.
	none := files(map[string]string{"money": "services: {}"}, "money")
	delete(none, "waitMS")
	if status, body := asTeam(t, mona, "POST", url+"/rules/check", none); status != 200 || strings.Contains(body, "vault") {
		t.Errorf("a check: %d %s", status, body)
	}

	// Whatever can be read is read by somebody of the other team.
	var doc struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	if err := json.Unmarshal(document, &doc); err != nil {
		t.Fatal(err)
	}
	read := 0
	for path, methods := range doc.Paths {
		if _, hasGet := methods["get"]; !hasGet || path == "/api/v1/live" || path == "/api/v1/requests" {
			continue
		}
		for _, fill := range []string{"0", "1", "money", "fares", "vault", "sailings"} {
			filled := strings.NewReplacer("{number}", fill, "{service}", fill, "{trial}", fill, "{other}", fill, "{bundle}", fill, "{release}", fill, "{trace}", fill).Replace(path)
			resp, body := ask(t, "GET", base+filled, "", "Authorization: Bearer "+mona)
			if resp.StatusCode == 200 && path != "/api/v1/rules/schema" {
				read++
			}
			body = ownWords.ReplaceAllString(body, "") // what she named herself is no news to her
			if resp.StatusCode < 300 && strings.Contains(body, "vault") {
				t.Errorf("GET %s tells of the other team: %.300s", filled, body)
			}
		}
	}
	if read < 20 {
		t.Errorf("only %d answers", read)
	}
	live := func(token string) string {
		req, _ := http.NewRequest("GET", url+"/live?changes=true", nil)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		time.AfterFunc(1500*time.Millisecond, func() { resp.Body.Close() })
		text := make([]byte, 0, 1<<20)
		for b := make([]byte, 1<<16); ; {
			n, err := resp.Body.Read(b)
			if text = append(text, b[:n]...); err != nil {
				return string(text)
			}
		}
	}
	if text := live(mona); strings.Contains(text, "vault") || !strings.Contains(text, `"name":"fares"`) || !strings.Contains(text, `"name":"sailings"`) || strings.Contains(text, `"name":"tides"`) || strings.Count(text, "event: ") < 2 {
		t.Errorf("the live mesh: %.600s", text)
	}
	if text := live(tim); !strings.Contains(text, `"name":"vault"`) || !strings.Contains(text, `"name":"to-vault"`) || strings.Contains(text, `"name":"fares"`) {
		t.Errorf("the live mesh of the other team: %.600s", text)
	}
	if _, body := asTeam(t, mona, "GET", url+"/mesh", nil); !strings.Contains(body, `"author":"somebody else"`) {
		t.Errorf("whose revision is in force: %.600s", body)
	}
	if list, err := c.Journal.List(t.Context(), model.ActivityFilter{Who: "mona", What: "refused", Limit: 100}); err != nil ||
		!slices.ContainsFunc(list, func(e model.ActivityEntry) bool {
			return e.Detail == "split for service vault, which is not of their team"
		}) {
		t.Errorf("what she may not do is logged as %v, %v", list, err)
	}
	if _, body := ask(t, "GET", url+"/mesh", ""); !strings.Contains(body, `"name":"vault"`) || !strings.Contains(body, `"name":"fares"`) {
		t.Error("the platform does not see everything")
	}
}

// TestLivesOfTeams: a live mesh is there as long as somebody follows it, so that sets of
// teams that nobody follows keep nobody out.
func TestLivesOfTeams(t *testing.T) {
	var all teamLives
	var leave func()
	for i := range maxLives {
		_, l, err := all.follow(fmt.Sprint(i), nil)
		if err != nil {
			t.Fatal(err)
		}
		leave = l
	}
	last := fmt.Sprint(maxLives - 1)
	shared, leaveToo, err := all.follow(last, nil)
	if again, l, _ := all.follow(last, nil); err != nil || again != shared {
		t.Errorf("a set that is followed: %v", err)
	} else {
		l()
	}
	if _, _, err := all.follow("another", nil); err == nil {
		t.Error("one more than there may be")
	}
	leave()
	if _, _, err := all.follow("another", nil); err == nil {
		t.Error("one of two has left, and there is room")
	}
	leaveToo()
	if _, _, err := all.follow("another", nil); err != nil {
		t.Errorf("there is room: %v", err)
	}
}

// ownWords is what the activity log has of refused acts of somebody.
var ownWords = regexp.MustCompile(`"who":"mona","kind":"refused","detail":"[^"]*"`)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestForecastOfTeams: the caller or service of which a forecast says that it gets worse is
// told to those who see it.
func TestForecastOfTeams(t *testing.T) {
	rs, _ := rules.Check([]rules.File{{Name: "main.yaml", Text: twoTeams["main"]}}, rules.Live{})
	sc := people.Who{Name: "mona", Teams: []string{"money"}}.Scope(rs)
	for text, want := range map[string]bool{
		"service sailings: success 99.0% → 97.0%": true, "caller fares: success 99.0% → 97.0%": true, "service vault: success 99.0% → 97.0%": false,
		"caller sailings: success 99.0% → 97.0%": false, "": false,
	} {
		if got := forecastFor(model.Forecast{Worse: text}, sc).Worse; (got != "") != want {
			t.Errorf("%q becomes %q", text, got)
		}
		p := model.Proposal{Forecast: &model.ProposalForecast{Worse: text}}
		if got := proposalFor(p, sc).Forecast.Worse; (got != "") != want || p.Forecast.Worse != text {
			t.Errorf("of a proposal, %q becomes %q", text, got)
		}
	}
}
