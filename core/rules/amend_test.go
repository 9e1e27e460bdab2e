package rules

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"
)

func at(i int) *int { return &i }

func TestAmend(t *testing.T) {
	const file = `# the line
services:
  kiosk:
    versions: [v1]  # one
    timeout: 5s
  sailings:
    guard:
      in-flight: 20 # at once
      breaker: {errors: 50%}
    routes:
      # first
      - name: crew
        when: {headers: {x-crew: "yes"}}
        send: v3
      - name: rest   # the others
        send: {v1: 85, v2: 15}
        retry:
          times: 2
          on: [reset, 503]
  berths: {versions: [v1], routes: [{name: all, send: v1}]}
  tides:
`
	for _, c := range []struct {
		name, path, value string
		index             *int
		want              [2]string // what becomes what
	}{
		{"a scalar", "services.kiosk.timeout", `"7s"`, nil, [2]string{"timeout: 5s", "timeout: 7s"}},
		{"a new setting", "services.kiosk.retry", `{"times": 2, "on": ["reset"]}`, nil, [2]string{"    timeout: 5s\n", "    timeout: 5s\n    retry: {times: 2, on: [reset]}\n"}},
		{"a setting before the routes", "services.sailings.timeout", `"3s"`, nil, [2]string{"{errors: 50%}\n", "{errors: 50%}\n    timeout: 3s\n"}},
		{"inside of what is there", "services.sailings.guard", `{"in-flight": 30, "breaker": {"errors": "60%", "least": 5}}`, nil,
			[2]string{"in-flight: 20 # at once\n      breaker: {errors: 50%}", "in-flight: 30 # at once\n      breaker: {errors: 60%, least: 5}"}},
		{"weights", "services.sailings.routes.rest.send", `{"v1": 50, "v2": 50}`, nil, [2]string{"{v1: 85, v2: 15}", "{v1: 50, v2: 50}"}},
		{"one target", "services.sailings.routes.rest.send", `"v2"`, nil, [2]string{"{v1: 85, v2: 15}", "v2"}},
		{"an item of a list", "services.sailings.routes.rest.retry.on", `["reset", 502, 503]`, nil, [2]string{"[reset, 503]", "[reset, 502, 503]"}},
		{"gone", "services.kiosk.timeout", "", nil, [2]string{"    timeout: 5s\n", ""}},
		{"all of it gone", "services.sailings.routes.rest.retry", "", nil, [2]string{"        retry:\n          times: 2\n          on: [reset, 503]\n", ""}},
		{"a route", "services.sailings.routes.new", `{"name": "new", "when": {"path": "/x"}, "send": "v2"}`, at(1),
			[2]string{"      - name: rest", "      - name: new\n        when: {path: /x}\n        send: v2\n      - name: rest"}},
		{"a route at the top, above the comment of the first", "services.sailings.routes.new", `{"name": "new", "send": "v2"}`, at(0),
			[2]string{"      # first\n", "      - name: new\n        send: v2\n      # first\n"}},
		{"a route goes with its comment", "services.sailings.routes.crew", "", nil,
			[2]string{"      # first\n      - name: crew\n        when: {headers: {x-crew: \"yes\"}}\n        send: v3\n", ""}},
		{"a route in brackets", "services.berths.routes.two", `{"name": "two", "send": "v1"}`, nil, [2]string{"send: v1}]", "send: v1}, {name: two, send: v1}]"}},
		{"the only route gone", "services.berths.routes.all", "", nil, [2]string{"[{name: all, send: v1}]", "[]"}},
		{"under a key without a value", "services.tides.versions", `["v1"]`, nil, [2]string{"  tides:\n", "  tides: {versions: [v1]}\n"}},
		{"routes for a service without any", "services.kiosk.routes", `[{"name": "all", "send": "v1"}]`, nil,
			[2]string{"    timeout: 5s\n", "    timeout: 5s\n    routes:\n      - name: all\n        send: v1\n"}},
		{"a new section", "defaults.timeout", `"9s"`, nil, [2]string{"  tides:\n", "  tides:\ndefaults: {timeout: 9s}\n"}},
		{"words that mean something else stay words", "services.kiosk.owner", `"yes"`, nil, [2]string{"timeout: 5s\n", "timeout: 5s\n    owner: \"yes\"\n"}},
		{"marks", "services.kiosk.owner", `"a: #b"`, nil, [2]string{"timeout: 5s\n", "timeout: 5s\n    owner: \"a: #b\"\n"}},
	} {
		one := Amendment{Path: strings.Split(c.path, "."), Index: c.index}
		if c.value != "" {
			one.Value = json.RawMessage(c.value)
		}
		got, err := Amend(File{"f", file}, []Amendment{one})
		if want := strings.Replace(file, c.want[0], c.want[1], 1); err != nil || got.Text != want {
			t.Errorf("%s: %v\ngot\n%s\nwant\n%s", c.name, err, got.Text, want)
		}
	}
	moved, err := Amend(File{"f", file}, []Amendment{{Path: []string{"services", "sailings", "routes", "rest"}, Index: at(0)}})
	if err != nil || !strings.Contains(moved.Text, "    routes:\n      - name: rest   # the others\n") || !strings.Contains(moved.Text, "503]\n      # first\n      - name: crew") {
		t.Errorf("moved: %v\n%s", err, moved.Text)
	}
	for name, bad := range map[string]Amendment{
		"nothing to change": {},
		"not JSON":          {Path: []string{"services"}, Value: json.RawMessage("{")},
		"no such item":      {Path: []string{"services", "sailings", "routes", "none", "send"}, Value: json.RawMessage(`"v1"`)},
		"inside of a word":  {Path: []string{"services", "kiosk", "timeout", "x"}, Value: json.RawMessage(`"v1"`)},
	} {
		if got, err := Amend(File{"f", file}, []Amendment{bad}); err == nil || got.Text != file {
			t.Errorf("%s: %v", name, err)
		}
	}
	alias := "a: &x {b: 1}\nc: *x\n"
	if got, err := Amend(File{"f", alias}, []Amendment{{Path: []string{"c", "b"}, Value: json.RawMessage("2")}}); !errors.Is(err, errForm) || got.Text != alias {
		t.Errorf("inside of an alias: %v\n%s", err, got.Text)
	}
	if got, err := Amend(File{"f", `{"services": {"a": {}}}`}, []Amendment{{Path: []string{"services", "a", "owner"}, Value: json.RawMessage(`"x"`)}}); err != nil || !json.Valid([]byte(got.Text)) {
		t.Errorf("JSON stays JSON: %v, %s", err, got.Text)
	}
	if got, err := Amend(File{"f", "# nothing yet\n"}, []Amendment{{Path: []string{"services", "a", "versions"}, Value: json.RawMessage(`["v1"]`)}}); err != nil || got.Text != "# nothing yet\nservices: {a: {versions: [v1]}}\n" {
		t.Errorf("an empty file: %v, %q", err, got.Text)
	}
}

// someAmendment is a change that a form might make of a document.
func someAmendment(rnd *rand.Rand, n *yaml.Node) Amendment {
	values := []string{`"9s"`, `17`, `{"times": 2, "on": ["reset", 503]}`, `["a", "b"]`, `"yes"`, `"x: y"`, `{}`, `[]`, `true`, `{"headers": {"x-a": {"present": true}}}`}
	var one Amendment
	for n != nil {
		isMapping := n.Kind == yaml.MappingNode
		switch {
		case n.Kind == yaml.MappingNode && len(n.Content) > 0:
			i := rnd.IntN(len(n.Content) / 2)
			one.Path = append(one.Path, n.Content[2*i].Value)
			n = n.Content[2*i+1]
		case n.Kind == yaml.SequenceNode && len(n.Content) > 0:
			i := rnd.IntN(len(n.Content))
			one.Path = append(one.Path, fmt.Sprint(i))
			n = n.Content[i]
			if rnd.IntN(4) == 0 {
				one.Index = at(rnd.IntN(4))
				return one
			}
		default:
			n = nil
		}
		if isMapping && len(one.Path) > 1 && rnd.IntN(6) == 0 { // beside what was picked
			one.Path[len(one.Path)-1] = "new-key"
			break
		}
		if len(one.Path) > 1 && rnd.IntN(4) == 0 {
			break
		}
	}
	if rnd.IntN(4) > 0 { // otherwise it goes
		one.Value = json.RawMessage(values[rnd.IntN(len(values))])
	}
	return one
}

// TestAmendKeepsTheRest: whatever a form changes, the file says exactly that and nothing
// else afterwards, also once it is formatted; comments outside of it stay; and of the
// examples nearly everything can be changed.
func TestAmendKeepsTheRest(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 22))
	done, refused := 0, 0
	for _, name := range []string{"ferry", "night-shift", "bad-weather"} {
		text, err := os.ReadFile("../../examples/" + name + "/rules.yaml")
		if err != nil {
			t.Fatal(err)
		}
		for range 250 {
			before := File{"f", string(text)}
			for range 3 { // one upon the other
				root, _ := document(before.Text)
				one := someAmendment(rnd, root)
				after, err := Amend(before, []Amendment{one})
				if err != nil {
					refused++
					t.Logf("%v %s: %v in\n%s", one.Path, one.Value, err, before.Text)
					if after.Text != before.Text {
						t.Fatalf("%v: %v, and the text changed", one, err)
					}
					continue
				}
				done++
				checkAmended(t, before, after, one)
				before = after
			}
		}
	}
	if refused > 0 {
		t.Errorf("%d of %d were refused", refused, done+refused)
	}
}

func checkAmended(t *testing.T, before, after File, one Amendment) {
	t.Helper()
	a := &amender{text: before.Text}
	a.root, _ = document(before.Text)
	steps, _ := a.steps(one.Path)
	want, _ := valueOf(one.Value)
	said, err := document(after.Text)
	if err != nil || !sameValues(said, amended(a.root, steps, want, one.Index)) {
		t.Fatalf("%+v of\n%s\nbecame\n%s\n%v", one, before.Text, after.Text, err)
	}
	formatted, err := Format(after)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := document(formatted); err != nil || !sameValues(said, again) {
		t.Fatalf("formatted it says something else:\n%s", formatted)
	}
	if walk(a.root, steps) == nil || one.Value == nil && one.Index != nil { // added or moved: nothing goes
		left := strings.Join(strings.Fields(after.Text), "")
		for _, c := range comments(before.Text) {
			if !strings.Contains(left, c) {
				t.Fatalf("%v %s lost the comment %q of\n%s\nin\n%s", one.Path, one.Value, c, before.Text, after.Text)
			}
		}
	}
}

// FuzzAmend: no text and no change makes it panic, or say what was not asked for.
func FuzzAmend(f *testing.F) {
	for _, s := range []string{sample, chain, "a:\n  - - b\n    - c\n  -\n    d: |2\n        e\n", "? a\n: b\n", "a: >-\n  x\n\n  y\n# z\nb: 'it''s\n  long'\n", "- {a: [b, {c: d}], e: \"f\"}\n", "{a: 1,\n # x\n b: [x, y,\n], }\n"} {
		f.Add(s, uint64(1))
	}
	f.Fuzz(func(t *testing.T, text string, seed uint64) {
		root, err := document(text)
		if err != nil {
			return
		}
		one := someAmendment(rand.New(rand.NewPCG(seed, 1)), root)
		after, err := Amend(File{"f", text}, []Amendment{one})
		if err != nil {
			if after.Text != text {
				t.Fatalf("%v, and the text changed", err)
			}
			return
		}
		checkAmended(t, File{"f", text}, after, one)
	})
}
